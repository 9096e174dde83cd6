import { describe, expect, it } from "vitest";
import { headline } from "./now-words";

describe("headline", () => {
  it("makes a sentence from the state", () => {
    expect(headline(2, 4)).toBe("Two things wait for you; four rollouts are moving.");
    expect(headline(1, 1)).toBe("One thing waits for you; one rollout is moving.");
    expect(headline(0, 0)).toBe("Nothing waits for you; no rollout is moving.");
  });
  it("says of nobody in particular what waits, for those who look at a wall", () => {
    expect(headline(2, 0, 0, false, "for a decision")).toBe("Two things wait for a decision; no rollout is moving.");
  });
  it("counts on in figures", () => {
    expect(headline(12, 0)).toBe("12 things wait for you; no rollout is moving.");
    expect(headline(0, 0, 1)).toBe("Nothing waits for you; one rollout is running, changing no device now.");
  });
});
