/** What is typed and said of reports by mail. */
import { listed } from "@/lib/format";

const DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/** Days of the week, 0 being Monday, in words: "each Monday and Thursday", "daily". */
export function onDays(days: readonly number[]): string {
  if (days.length === 7) return "daily";
  if (String(days) === "0,1,2,3,4") return "on working days";
  return `each ${listed(days.map((day) => DAYS[day] ?? ""))}`;
}

/** The addresses in what was typed: parted by commas, semicolons, blanks or lines. */
export function addressesOf(typed: string): string[] {
  return typed.split(/[\s,;]+/).filter((word) => word !== "");
}
