import { describe, expect, it } from "vitest";
import { openings } from "./progress";

describe("openings", () => {
  const from = new Date("2026-11-23T00:00:00Z");
  const to = new Date("2026-11-25T00:00:00Z");
  it("finds each night's window", () => {
    const found = openings({ start: "01:00:00", end: "04:30:00" }, "UTC", from, to);
    expect(found.map(([a]) => a.toISOString())).toEqual(["2026-11-23T01:00:00.000Z", "2026-11-24T01:00:00.000Z"]);
  });
  it("crosses midnight", () => {
    const found = openings({ start: "22:00", end: "04:00" }, "UTC", from, to);
    expect(found[0]?.[1].toISOString()).toBe("2026-11-23T04:00:00.000Z");
    expect(found.length).toBe(3);
  });
});
