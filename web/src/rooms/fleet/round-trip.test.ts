import { describe, expect, it } from "vitest";
import type { Schemas } from "@/api/client";
import { isOver, stepsOf } from "./round-trip";

const entry = (to_phase: Schemas["TimelineEntry"]["to_phase"], at: string, schedule = 7) => ({
  at,
  to_phase,
  text: `report now: ${to_phase}`,
  detail: "",
  device: "sill-0007",
  rollout: null,
  schedule,
});

// the latest first, as the server has it
const timeline = [
  entry("confirmed", "2026-11-23T05:44:12Z"),
  entry("accepted", "2026-11-23T05:44:10Z"),
  entry("confirmed", "2026-11-23T05:40:00Z", 3),
  entry("offered", "2026-11-23T05:30:02Z"),
];

describe("a round trip", () => {
  it("tells the steps of its own order, with the time that each took", () => {
    expect(stepsOf(timeline, 7, "2026-11-23T05:30:00Z").map((s) => [s.words, s.after])).toEqual([
      ["The order was written", 0],
      ["It lies ready for the next check-in", 2],
      ["The device took it", 848],
      ["It answered: the connection works both ways", 2],
    ]);
  });

  it("takes an attempt that was given up for no answer", () => {
    const gaveUp = { ...entry("failed", "2026-11-23T07:30:00Z"), detail: "no-progress, began and is heard of" };
    const refused = { ...entry("failed", "2026-11-23T07:30:00Z"), detail: "busy" };
    expect(stepsOf([gaveUp], 7, "2026-11-23T05:30:00Z").at(-1)?.words).toMatch(/^It never said/);
    expect(stepsOf([refused], 7, "2026-11-23T05:30:00Z").at(-1)?.words).toMatch(/^It answered that it could not/);
  });

  it("is over with an answer or without", () => {
    expect(isOver(timeline, 7)).toBe(true);
    expect(isOver(timeline.slice(2), 7)).toBe(false);
    expect(isOver([entry("expired", "2026-11-23T07:30:00Z")], 7)).toBe(true);
  });
});
