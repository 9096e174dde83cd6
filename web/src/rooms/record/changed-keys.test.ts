import { describe, expect, it } from "vitest";
import { changedKeys } from "./changed-keys";

describe("what an act changed", () => {
  it("is told key by key, and what stayed is left out", () => {
    const before = { role: "viewer", name: "A", on: true, kinds: ["x"] };
    expect(changedKeys(before, { role: "operator", name: "A", on: false, kinds: [] })).toEqual([
      ["role", "viewer", "operator"],
      ["on", "yes", "no"],
      ["kinds", "x", "–"],
    ]);
  });
  it("is all of it where a thing was made or deleted", () => {
    expect(changedKeys(null, { name: "A" })).toEqual([["name", "–", "A"]]);
    expect(changedKeys({ size: 0 }, null)).toEqual([["size", "0", "–"]]);
    expect(changedKeys(null, null)).toEqual([]);
  });
});
