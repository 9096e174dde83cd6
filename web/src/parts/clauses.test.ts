import { describe, expect, it } from "vitest";
import { clauseText, joined, spoken, written } from "./clauses";

describe("a clause put together", () => {
  it.each([
    [{ field: "tag", op: "any of", values: ["lab", "spare"] }, "tag any of (lab, spare)"],
    [{ field: "firmware", op: "is missing", values: [] }, "firmware is missing"],
    [{ field: "battery", op: "between", values: ["10", "20"] }, "battery between 10 and 20"],
    [{ field: "model", op: "=", values: ['"Sill 400"'] }, 'model = "Sill 400"'],
  ])("%o", (parts, text) => expect(clauseText(parts)).toBe(text));

  it("is nothing while a value is lacking, so that no half rule is tried", () => {
    expect(clauseText({ field: "tag", op: "=", values: [""] })).toBeNull();
    expect(clauseText({ field: "tag", op: "=", values: ['""'] })).toBeNull();
    expect(clauseText({ field: "battery", op: "between", values: ["10"] })).toBeNull();
  });

  it("keeps its not", () => {
    expect(clauseText({ field: "tag", op: "=", values: ["lab"] }, true)).toBe("not tag = lab");
    expect(joined(["tag = lab", "not tag = spare"])).toBe("tag = lab\nand not tag = spare");
  });
});

it("a word that means something in a rule is quoted", () => {
  expect(["and", "OR", "not", "android", "two words", "x=y"].map(written)).toEqual([
    '"and"',
    '"OR"',
    '"not"',
    "android",
    '"two words"',
    '"x=y"',
  ]);
});

it("words keep what is in them through writing and reading", () => {
  for (const word of ["lab", "Sill 400", 'a "b" \\ c', "and", "x=y"]) expect(spoken(written(word))).toBe(word);
});
