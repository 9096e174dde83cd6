/** Days on which something failed, for the picture of them. */
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";

export type FailedDay = Schemas["FailedDayView"];

/** On how many devices something failed. */
export const total = (day: FailedDay): number => day.installs + day.commands;

/** Each day (UTC) from so many days ago to today, with what failed on it. */
export function everyDay(
  failed: readonly FailedDay[],
  now: Date,
  days: number,
): { day: string; of: FailedDay | undefined }[] {
  const of = new Map(failed.map((d) => [d.day, d]));
  const today = DateTime.fromJSDate(now, { zone: "utc" });
  return Array.from({ length: days + 1 }, (_, n) => {
    const day = today.minus({ days: days - n }).toISODate() ?? "";
    return { day, of: of.get(day) };
  });
}

/** The day with most failures, the latest of several; undefined where nothing failed. */
export function worstOf(failed: readonly FailedDay[]): FailedDay | undefined {
  return failed.reduce<FailedDay | undefined>((most, d) => (most && total(most) > total(d) ? most : d), undefined);
}

/** “Tue 24 Nov”. */
export const dayWords = (day: string): string => DateTime.fromISO(day).toFormat("ccc d LLL");
