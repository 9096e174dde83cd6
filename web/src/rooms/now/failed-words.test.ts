import { expect, test } from "vitest";
import { dayWords, everyDay, type FailedDay, worstOf } from "./failed-words";

const day = (on: string, installs: number, commands = 0): FailedDay => ({
  day: on,
  installs,
  commands,
  of: [],
  others: 0,
});
const NOW = new Date("2026-03-01T00:30:00Z");

test("every day is there, also those on which nothing failed, and today is the last", () => {
  const found = everyDay([day("2026-02-27", 3)], NOW, 3);
  expect(found.map((d) => d.day)).toEqual(["2026-02-26", "2026-02-27", "2026-02-28", "2026-03-01"]);
  expect(found.map((d) => d.of?.installs)).toEqual([undefined, 3, undefined, undefined]);
});

test("the worst day is the latest of those with most failures of both kinds", () => {
  expect(worstOf([])).toBeUndefined();
  expect(worstOf([day("2026-02-01", 3), day("2026-02-02", 1, 2), day("2026-02-03", 2)])?.day).toBe("2026-02-02");
});

test("a day is named as it is by UTC, wherever the reader is", () => {
  expect(dayWords("2026-02-24")).toBe("Tue 24 Feb");
});
