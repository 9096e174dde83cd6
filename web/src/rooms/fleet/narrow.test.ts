import { describe, expect, it } from "vitest";
import { narrowed } from "./narrow";

describe("narrowed", () => {
  it("begins a rule", () => expect(narrowed("", "model", "Sill 400")).toBe('model = "Sill 400"'));
  it("adds a clause", () => expect(narrowed("tag = lab", "site", "x")).toBe("tag = lab and site = x"));
  it("keeps an or together", () =>
    expect(narrowed("tag = a or tag = b", "site", "x")).toBe("(tag = a or tag = b) and site = x"));
  it("does not add the same clause twice", () => expect(narrowed("site = x", "site", "x")).toBe("site = x"));
});
