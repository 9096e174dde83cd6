import { describe, expect, it } from "vitest";
import { columnsOf, type Occurrence, sharesOf, totals, zonesOf } from "./strip";

const firing = (id: number, zone: string, local_time: string, fires_at: string, phases = {}): Occurrence => ({
  id,
  zone,
  local_time,
  fires_at,
  expires_at: fires_at,
  audience: 10,
  unsupported_count: 0,
  frozen: 0,
  overlapping: 0,
  only_totals: false,
  phases,
});

const rows = [
  firing(4, "*", "", "2026-11-24T12:00:00Z"),
  firing(3, "Europe/Lisbon", "2026-11-24T05:30", "2026-11-24T05:30:00Z", { confirmed: 7, failed: 1 }),
  firing(2, "Asia/Kolkata", "2026-11-24T05:30", "2026-11-24T00:00:00Z", { confirmed: 10 }),
  firing(1, "Europe/Lisbon", "2026-11-23T05:30", "2026-11-23T05:30:00Z", { expired: 4 }),
];

describe("a strip of firings", () => {
  it("has a column for each time of the rule, and one for each run besides", () => {
    expect(columnsOf(rows).map((c) => [c.key, c.isExtra, c.occurrences.length])).toEqual([
      ["2026-11-23T05:30", false, 1],
      ["2026-11-24T05:30", false, 2],
      ["run-4", true, 1],
    ]);
    expect(zonesOf(rows)).toEqual(["*", "Asia/Kolkata", "Europe/Lisbon"]);
  });

  it("adds the zones of a column", () => {
    expect(totals(rows.slice(1, 3))).toEqual({ audience: 20, phases: { confirmed: 17, failed: 1 } });
  });

  it("shares a cell without losing a device", () => {
    expect(sharesOf({ confirmed: 5, failed: 1, expired: 2, waiting: 2 }, 10)).toEqual({
      done: 0.5,
      failed: 0.1,
      missed: 0.2,
      open: 0.2,
    });
    expect(sharesOf({}, 0)).toEqual({ done: 0, failed: 0, missed: 0, open: 0 });
  });
});
