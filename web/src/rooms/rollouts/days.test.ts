import { describe, expect, it } from "vitest";
import { forecastDays } from "./days";

const band = (median: string | null) => ({ low: median, median, high: median });
const point = (at: string, median: number) => ({ at, low: median, median, high: median });
const ring = (position: number, opens: string | null) => ({
  position,
  name: `R${position}`,
  opens: band(opens),
  through: band(null),
});

describe("forecastDays", () => {
  const curve = [
    point("2026-11-26T20:00:00Z", 0),
    point("2026-11-26T22:00:00Z", 20),
    point("2026-11-27T02:00:00Z", 60),
    point("2026-11-27T03:00:00Z", 60),
  ];
  const freeze = {
    id: 1,
    name: "Harvest",
    starts_at: "2026-11-27T10:00:00Z",
    ends_at: "2026-11-28T10:00:00Z",
    devices: 3,
  };
  const told = {
    curve,
    rings: [ring(1, "2026-11-26T20:00:00Z"), ring(2, "2026-11-27T00:30:00Z"), ring(3, null)],
    freezes: [freeze],
  };

  it("shares what is confirmed out to the hours and days", () => {
    const days = forecastDays(told, "UTC", new Date("2026-11-26T20:00:00Z"));
    expect(days.map((d) => [d.label, d.confirmed])).toEqual([
      ["Thu 26 Nov", 40],
      ["Fri 27 Nov", 20],
    ]);
    expect(days[0]?.hours[21]?.confirmed).toBe(10);
    expect(days[0]?.hours[19]?.confirmed).toBe(0);
  });
  it("says which rings open and which freezes lie in a day", () => {
    const days = forecastDays(told, "UTC", new Date("2026-11-26T20:00:00Z"));
    expect(days[0]?.opens).toEqual([{ position: 1, name: "R1", at: "20:00" }]);
    expect(days[1]?.opens).toEqual([{ position: 2, name: "R2", at: "00:30" }]);
    expect(days[1]?.hours[0]?.opens).toEqual([2]);
    expect([days[0]?.freezes, days[1]?.freezes]).toEqual([[], ["Harvest"]]);
    expect(days[1]?.hours.map((h) => h.isFrozen).indexOf(true)).toBe(10);
  });
  it("goes by the zone's clock, also on a day with an hour twice", () => {
    const clocksBack = [point("2026-10-25T00:00:00Z", 0), point("2026-10-25T04:00:00Z", 40)];
    const days = forecastDays(
      { curve: clocksBack, rings: [], freezes: [] },
      "Europe/Berlin",
      new Date(clocksBack[0]?.at ?? ""),
    );
    expect(days).toHaveLength(1);
    expect(days[0]?.hours.slice(1, 5).map((h) => h.confirmed)).toEqual([0, 20, 10, 10]);
    expect(days[0]?.confirmed).toBe(40);
  });
  it("ends after a fortnight and has nothing of no curve", () => {
    const long = [point("2026-11-01T00:00:00Z", 0), point("2026-12-24T00:00:00Z", 9)];
    expect(forecastDays({ curve: long, rings: [], freezes: [] }, "UTC", new Date("2026-11-01T00:00:00Z"))).toHaveLength(
      14,
    );
    expect(forecastDays({ curve: [], rings: [], freezes: [] }, "UTC", new Date())).toEqual([]);
  });
});
