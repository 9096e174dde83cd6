import { describe, expect, it } from "vitest";
import { both, isNarrowed, narrowed, narrowedToAny, widened, wordsRule } from "./rule-joins";

describe("narrowed", () => {
  it("begins a rule", () => expect(narrowed("", "model", "Sill 400")).toBe('model = "Sill 400"'));
  it("adds a clause", () => expect(narrowed("tag = lab", "site", "x")).toBe("tag = lab and site = x"));
  it("keeps an or together", () =>
    expect(narrowed("tag = a or tag = b", "site", "x")).toBe("(tag = a or tag = b) and site = x"));
  it("does not add the same clause twice", () => {
    expect(narrowed("site = x", "site", "x")).toBe("site = x");
    expect(narrowed("tag = a\nand site = x", "site", "x")).toBe("tag = a\nand site = x");
  });
  it("is not taken in by the same words inside a not", () =>
    expect(narrowed("not site = x", "site", "x")).toBe("not site = x and site = x"));
  it("takes several values of a grid's row", () =>
    expect(narrowedToAny("tag = a", "site", ["x", "y z"])).toBe('tag = a and site any of (x, "y z")'));
});

describe("widened", () => {
  it("takes back what narrowing added", () => {
    for (const rule of ["", "tag = lab", "tag = a\nand firmware < 2"]) {
      expect(widened(narrowed(rule, "site", "Amber Fold"), "site", "Amber Fold")).toBe(rule);
    }
  });
  it("takes out the first line with the word after it", () =>
    expect(widened("site = x and tag = a and tag = b", "site", "x")).toBe("tag = a and tag = b"));
  it("leaves a rule alone that does not say so by a line of its own", () => {
    expect(widened("not site = x", "site", "x")).toBe("not site = x");
    expect(isNarrowed("not site = x", "site", "x")).toBe(false);
    expect(isNarrowed("tag = a and site = x", "site", "x")).toBe(true);
  });
});

describe("quick words as a rule", () => {
  it("looks for each word everywhere, and joins with the rule", () => {
    const rule = wordsRule("north 400");
    expect(rule).toContain("(name contains north or uid contains north");
    expect(rule).toContain(") and (name contains 400");
    expect(both("tag = a", wordsRule("x"))).toMatch(/^tag = a and \(\(?name contains x or /);
    expect(wordsRule("  ")).toBe("");
  });
});
