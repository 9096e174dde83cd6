import { DateTime } from "luxon";
import { expect, test } from "vitest";
import { snoozes } from "./attention-item";

const ZONE = "Europe/Lisbon";

test("an item is put off by the clock of whoever does it, over a clock change too", () => {
  const at = (now: string) =>
    snoozes(new Date(now), ZONE).map(([words, until]) => [
      words,
      DateTime.fromISO(until, { zone: ZONE }).toFormat("d LLL HH:mm"),
    ]);
  expect(at("2027-03-27T22:30:00Z")).toEqual([
    ["For an hour", "27 Mar 23:30"],
    ["Until tomorrow, 08:00", "28 Mar 08:00"],
    ["For a week", "3 Apr 22:30"],
    ["For 30 days", "26 Apr 22:30"],
  ]);
});
