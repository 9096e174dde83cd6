import { describe, expect, it } from "vitest";
import { evenTicks, sinceLaunch } from "./compare";

describe("sinceLaunch", () => {
  it("counts from the first point, as shares of the devices", () => {
    const points = [
      { at: "2026-11-23T10:00:00Z", confirmed: 5 },
      { at: "2026-11-23T11:30:00Z", confirmed: 20 },
    ];
    expect(sinceLaunch(points, 20)).toEqual([
      { seconds: 0, share: 0.25 },
      { seconds: 5400, share: 1 },
    ]);
    expect(sinceLaunch([], 20)).toEqual([]);
    expect(sinceLaunch(points, 0).map((p) => p.share)).toEqual([0, 0]);
  });
});

describe("evenTicks", () => {
  it("names whole hours and days, never more than nine", () => {
    expect(evenTicks(3600)).toEqual([0, 600, 1200, 1800, 2400, 3000, 3600]);
    expect(evenTicks(3 * 86400 + 5)).toEqual([0, 12, 24, 36, 48, 60, 72].map((h) => h * 3600));
    for (const days of [1, 2, 9, 30, 100]) expect(evenTicks(days * 86400).length).toBeLessThanOrEqual(9);
  });
});
