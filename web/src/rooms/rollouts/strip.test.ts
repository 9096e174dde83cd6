import { describe, expect, it } from "vitest";
import type { Schemas } from "@/api/client";
import { standing } from "./strip";

type Row = Schemas["RolloutRow"];
type Ring = Schemas["RingView"];

const criterion = (name: string, met: boolean) => ({ name, measured: 0, needed: 1, met });
const ring = (change: Partial<Ring>): Ring => ({
  id: 1,
  position: 1,
  name: "Canary",
  kind: "rest",
  group: null,
  share_pct: null,
  number: null,
  confirmed_pct: 95,
  soak_minutes: 60,
  most_unheard: null,
  min_tried: null,
  lost: 0,
  tried: 0,
  needs_approval: false,
  approved_by: null,
  opened_at: "2026-11-23T01:00:00Z",
  gate_met_at: null,
  size: 10,
  phases: { waiting: 10 },
  criteria: [criterion("confirmed", false)],
  stuck: false,
  ...change,
});
const row = (change: Partial<Row>): Row => ({
  id: 4,
  state: "running",
  reason: "",
  quarantined: "",
  sentence: [],
  target: "Sill 5.2.1",
  rank: 1,
  audience: "Field gateways",
  phases: {},
  rings: [ring({}), ring({ id: 2, position: 2, opened_at: null })],
  total: 20,
  tried: 0,
  launched_at: null,
  launched_by: null,
  created_at: "2026-11-23T00:00:00Z",
  ended_at: null,
  ...change,
});

describe("standing", () => {
  it("says what each state means", () => {
    expect(standing(row({ state: "draft" }))).toBe("Draft, not launched");
    expect(standing(row({ state: "draft", reason: "nobody" }))).toBe("Draft; the launch failed: nobody");
    expect(standing(row({ state: "halted", reason: "2 of 3 tried failed" }))).toBe(
      "Halted itself: 2 of 3 tried failed",
    );
    expect(standing(row({ state: "launching" }))).toBe("Launching");
    expect(standing(row({ state: "finished" }))).toBe("Finished");
  });
  it("says what a running one is at", () => {
    expect(standing(row({}))).toBe("Ring 1 of 2: waits for devices");
    const busy = ring({ phases: { installing: 2, fetching: 1, waiting: 7 } });
    expect(standing(row({ rings: [busy] }))).toBe("Ring 1 of 1: 3 devices at it now");
    const soaking = ring({ phases: { confirmed: 10 }, criteria: [criterion("confirmed", true)] });
    expect(standing(row({ rings: [soaking] }))).toBe("Ring 1 of 1: soaking");
  });
  it("calls a person where the gate cannot be met", () => {
    const stuck = ring({ phases: { failed: 5, confirmed: 5 }, stuck: true });
    expect(standing(row({ rings: [stuck] }))).toContain("a person must decide");
  });
  it("says when every gate is open", () => {
    expect(standing(row({ rings: [ring({ gate_met_at: "2026-11-23T02:00:00Z" })] }))).toBe("Every ring is open");
  });
});
