import { describe, expect, it } from "vitest";
import { EVERY_DAY, type Plain, plainOf, ruleOf } from "./recurrence";

const until = { kind: "until", day: "2027-03-31" } as const;

describe("rules as plain controls", () => {
  const pairs: [string, Partial<Plain>][] = [
    ["FREQ=DAILY", {}],
    ["FREQ=DAILY;INTERVAL=3;UNTIL=20270331", { every: 3, end: until }],
    ["FREQ=HOURLY;INTERVAL=6;COUNT=12", { kind: "hours", every: 6, end: { kind: "count", count: 12 } }],
    ["FREQ=WEEKLY;BYDAY=MO,TH", { kind: "weeks", days: ["MO", "TH"] }],
    ["FREQ=MONTHLY;BYMONTHDAY=-1", { kind: "month-day", monthDay: -1 }],
    ["FREQ=MONTHLY;INTERVAL=2;BYDAY=-1FR", { kind: "month-weekday", every: 2, nth: -1, days: ["FR"] }],
    ["FREQ=YEARLY", { kind: "years" }],
  ];
  it.each(pairs)("%s", (rule, plain) => {
    expect(plainOf(rule)).toEqual({ ...EVERY_DAY, ...plain });
    expect(ruleOf({ ...EVERY_DAY, ...plain })).toBe(rule);
  });

  it("orders the days of a week", () => {
    expect(ruleOf({ ...EVERY_DAY, kind: "weeks", days: ["SU", "MO"] })).toBe("FREQ=WEEKLY;BYDAY=MO,SU");
  });

  it.each([
    "FREQ=DAILY;BYHOUR=2,14",
    "FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=1",
    "FREQ=MONTHLY;BYMONTHDAY=1,15",
    "FREQ=MONTHLY;BYDAY=5MO",
    "FREQ=DAILY;UNTIL=20270331T120000",
    "FREQ=DAILY;COUNT=2;UNTIL=20270331",
    "FREQ=DAILY;INTERVAL=x",
    "FREQ=MINUTELY",
    "",
  ])("leaves %s as text", (rule) => expect(plainOf(rule)).toBeNull());
});
