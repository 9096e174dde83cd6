import { describe, expect, it } from "vitest";
import { NEW_ROW, type ParameterRow, rowsOf, schemaOf } from "./parameter-rows";

const rows: ParameterRow[] = [
  { ...NEW_ROW, key: "strokes", type: "whole number", minimum: "1", maximum: "10", unit: "strokes", default: "2" },
  { ...NEW_ROW, key: "mode", title: "Mode", type: "choice", choices: "slow, fast", default: "slow", required: true },
  { ...NEW_ROW, key: "quiet", type: "yes or no", default: "no" },
  { ...NEW_ROW, key: "note" },
];

describe("parameters of an own command", () => {
  it("come back from their schema as they were written", () => {
    expect(rowsOf(schemaOf(rows))).toEqual(rows);
  });

  it("have the types that the server takes, and nothing that was not written", () => {
    expect(schemaOf(rows)).toEqual({
      type: "object",
      properties: {
        strokes: { type: "integer", minimum: 1, maximum: 10, "x-unit": "strokes", default: 2 },
        mode: { type: "string", title: "Mode", enum: ["slow", "fast"], default: "slow" },
        quiet: { type: "boolean", default: false },
        note: { type: "string" },
      },
      required: ["mode"],
      additionalProperties: false,
    });
  });

  it("leave out a row that has no key yet", () => {
    expect(schemaOf([NEW_ROW]).properties).toEqual({});
  });
});
