import { describe, expect, it } from "vitest";
import { IN_HAND, LOOK, OUT, PHASES, sum, summary } from "./phases";

describe("phases", () => {
  it("gives every phase a look", () => {
    expect(Object.keys(LOOK).sort()).toEqual([...PHASES].sort());
  });
  it("fills the dial in the order in which phases come", () => {
    const fills = IN_HAND.map((p) => LOOK[p].fill);
    expect([...fills].sort((a, b) => a - b)).toEqual(fills);
    expect(LOOK.confirmed.fill).toBe(1);
  });
  it("tells the counts so that they add up", () => {
    const counts = { confirmed: 12, fetching: 2, installing: 1, failed: 1, waiting: 40 };
    expect(sum(counts, PHASES)).toBe(56);
    expect(summary(counts)).toBe("12 confirmed · 3 in motion · 1 failed · 40 waiting");
  });
  it("says nobody rather than nothing", () => {
    expect(summary({})).toBe("nobody");
    expect(sum({}, OUT)).toBe(0);
  });
});
