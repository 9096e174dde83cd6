/** A recurrence rule as plain controls have it, and back to the text of an RRULE. A rule that says more than the controls
 * can is left as text. */

export const DAYS = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"] as const;
export type Day = (typeof DAYS)[number];
export const DAY_NAMES: Record<Day, string> = {
  MO: "Monday",
  TU: "Tuesday",
  WE: "Wednesday",
  TH: "Thursday",
  FR: "Friday",
  SA: "Saturday",
  SU: "Sunday",
};
export const NTH: [number, string][] = [
  [1, "first"],
  [2, "second"],
  [3, "third"],
  [4, "fourth"],
  [-1, "last"],
];

export type Kind = "hours" | "days" | "weeks" | "month-day" | "month-weekday" | "years";
export type End = { kind: "never" } | { kind: "until"; day: string } | { kind: "count"; count: number };

export interface Plain {
  kind: Kind;
  /** every so many hours, days, weeks, months or years */
  every: number;
  days: Day[];
  /** of the month; -1 is the last */
  monthDay: number;
  nth: number;
  end: End;
}

export const EVERY_DAY: Plain = { kind: "days", every: 1, days: [], monthDay: 1, nth: 1, end: { kind: "never" } };

const FREQUENCY: Record<Kind, string> = {
  hours: "HOURLY",
  days: "DAILY",
  weeks: "WEEKLY",
  "month-day": "MONTHLY",
  "month-weekday": "MONTHLY",
  years: "YEARLY",
};

/** The text of the rule. */
export function ruleOf(plain: Plain): string {
  const parts = [`FREQ=${FREQUENCY[plain.kind]}`];
  if (plain.every > 1) parts.push(`INTERVAL=${plain.every}`);
  if (plain.kind === "month-day") parts.push(`BYMONTHDAY=${plain.monthDay}`);
  if (plain.kind === "month-weekday") parts.push(`BYDAY=${plain.nth}${plain.days[0] ?? "MO"}`);
  if (plain.kind === "weeks" && plain.days.length)
    parts.push(`BYDAY=${DAYS.filter((d) => plain.days.includes(d)).join(",")}`);
  if (plain.end.kind === "count") parts.push(`COUNT=${plain.end.count}`);
  if (plain.end.kind === "until") parts.push(`UNTIL=${plain.end.day.replaceAll("-", "")}`);
  return parts.join(";");
}

/** The rule as controls have it; null where it says more than they can. */
export function plainOf(rule: string): Plain | null {
  const parts = new Map(
    rule
      .trim()
      .toUpperCase()
      .replace(/^RRULE:/, "")
      .split(";")
      .filter(Boolean)
      .map((p) => p.split("=", 2) as [string, string]),
  );
  const take = (name: string) => {
    const value = parts.get(name);
    parts.delete(name);
    return value;
  };
  const frequency = take("FREQ");
  const every = Number(take("INTERVAL") ?? "1");
  const end = endOf(take("UNTIL"), take("COUNT"));
  const byDay = take("BYDAY")?.split(",") ?? [];
  const monthDay = take("BYMONTHDAY");
  take("WKST");
  if (parts.size || !end || !Number.isInteger(every) || every < 1) return null;
  const plain = { ...EVERY_DAY, every, end };
  const days = byDay.filter((d): d is Day => (DAYS as readonly string[]).includes(d));
  if (frequency === "MONTHLY" && monthDay && !byDay.length) {
    const day = Number(monthDay);
    return Number.isInteger(day) && day >= -1 && day <= 31 && day !== 0
      ? { ...plain, kind: "month-day", monthDay: day }
      : null;
  }
  if (monthDay) return null;
  if (frequency === "MONTHLY" && byDay.length === 1) {
    const found = /^([1-4]|-1)(MO|TU|WE|TH|FR|SA|SU)$/.exec(byDay[0] ?? "");
    return found ? { ...plain, kind: "month-weekday", nth: Number(found[1]), days: [found[2] as Day] } : null;
  }
  if (frequency === "WEEKLY" && days.length === byDay.length) return { ...plain, kind: "weeks", days };
  if (byDay.length) return null;
  if (frequency === "HOURLY") return { ...plain, kind: "hours" };
  if (frequency === "DAILY") return { ...plain, kind: "days" };
  if (frequency === "YEARLY") return { ...plain, kind: "years" };
  return null;
}

function endOf(until: string | undefined, count: string | undefined): End | null {
  if (until && count) return null;
  if (count) return /^\d+$/.test(count) ? { kind: "count", count: Number(count) } : null;
  if (!until) return { kind: "never" };
  const found = /^(\d{4})(\d{2})(\d{2})$/.exec(until);
  return found ? { kind: "until", day: `${found[1]}-${found[2]}-${found[3]}` } : null;
}
