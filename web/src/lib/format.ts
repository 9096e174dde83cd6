/** Numbers, times and words as the interface shows them. */
import { DateTime, Duration } from "luxon";

/** A whole number with commas between thousands, which survive copy and paste. */
export function count(n: number): string {
  return String(Math.round(n)).replace(/\B(?=(\d{3})+(?!\d))/g, ",");
}

/** "1 device", "1,204 devices". */
export function counted(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`;
}

/** A share (0 to 1) in per cent, with a decimal only where it matters. Only all is 100%, and only none is 0%. */
export function percent(share: number, digits = 1): string {
  const step = 10 ** -digits;
  const rounded = Number((share * 100).toFixed(digits));
  const told = share < 1 && rounded >= 100 ? 100 - step : share > 0 && rounded === 0 ? step : rounded;
  return `${told.toFixed(digits).replace(/\.0$/, "")}%`;
}

/** An instant in a zone: "Tue 14:32" within six days, else "23 Nov 14:32". */
export function instant(at: string, zone: string, now: Date): string {
  const time = DateTime.fromISO(at, { zone });
  const days = Math.abs(time.diff(DateTime.fromJSDate(now), "days").days);
  return time.toFormat(days < 6 ? "ccc HH:mm" : "d LLL HH:mm");
}

/** An instant in full, with its clock named. */
export function fullInstant(at: string, zone: string): string {
  return `${DateTime.fromISO(at, { zone }).toFormat("ccc d LLL yyyy HH:mm:ss")} ${city(zone)}`;
}

/** How long ago, or until when: "12 s ago", "in 4 h 20 min". */
export function relative(at: string, now: Date): string {
  const ms = new Date(at).getTime() - now.getTime();
  const words = span(Math.abs(ms) / 1000);
  if (Math.abs(ms) < 1000) return "now";
  return ms < 0 ? `${words} ago` : `in ${words}`;
}

/** What a delivery waits for, and until when; a moment that is past is overdue by so much. */
export function waitWords(wait: { code: string; reason: string; until: string | null }, now: Date): string {
  if (!wait.until) return wait.reason;
  return `${wait.reason}, ${overdue(wait.until, now, "now") ?? relative(wait.until, now)}`;
}

/** By how much a moment that is past is overdue, or `justNow` in its first minute; null for one to come. */
export function overdue(at: string, now: Date, justNow: string): string | null {
  const late = (now.getTime() - Date.parse(at)) / 1000;
  if (late >= 60) return `overdue by ${span(late)}`;
  return late > 0 ? justNow : null;
}

/** Seconds in their two largest units. */
export function span(seconds: number): string {
  if (seconds < 60) return `${Math.round(seconds)} s`;
  const d = Duration.fromObject({ seconds: Math.round(seconds) }).shiftTo("days", "hours", "minutes");
  if (d.days >= 3) return `${Math.round(d.as("days"))} d`;
  if (d.days >= 1) return d.hours ? `${d.days} d ${d.hours} h` : `${d.days} d`;
  const minutes = Math.floor(d.minutes);
  if (d.hours >= 1) return minutes ? `${d.hours} h ${minutes} min` : `${d.hours} h`;
  return `${minutes} min`;
}

/** The city of a zone: "America/Santiago" is "Santiago". */
export function city(zone: string): string {
  if (zone === "*") return "All zones";
  return (zone.split("/").at(-1) ?? zone).replaceAll("_", " ");
}

/** Words that begin a sentence, as they stand within one. */
export function within(sentence: string): string {
  return sentence.charAt(0).toLowerCase() + sentence.slice(1);
}

/** Bytes in MB. */
export function megabytes(bytes: number): string {
  return `${(bytes / 1e6).toFixed(1)} MB`;
}

/** A value of a fact or an attribute as it is read: yes and no for what is true or false, nothing for none. */
export function inWords(value: unknown): string {
  if (value === null || value === undefined) return "";
  return typeof value === "boolean" ? (value ? "yes" : "no") : String(value);
}

/** A length of time that repeats: “every 15 min”, “every day”. */
export function everyWords(seconds: number): string {
  if (seconds === 7 * 86_400) return "every week";
  if (seconds === 86_400) return "every day";
  if (seconds === 3600) return "every hour";
  if (seconds % 3600 === 0) return `every ${seconds / 3600} h`;
  return seconds % 60 === 0 ? `every ${seconds / 60} min` : `every ${seconds} s`;
}

const LIST = new Intl.ListFormat("en", { type: "conjunction" });

/** "a, b, and c". */
export function listed(words: readonly string[]): string {
  return LIST.format(words);
}
