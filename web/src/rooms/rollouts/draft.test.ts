import { describe, expect, it } from "vitest";
import { EMPTY, missing, sentenceOf } from "./draft";

describe("missing", () => {
  it("names what an empty draft lacks", () => {
    expect(missing(EMPTY)).toEqual(["an image", "an audience; no group is nobody"]);
  });
  it("names rings that do not say whom they take", () => {
    const draft = { ...EMPTY, image_id: 1, include: [2], rings: [{ name: "", kind: "group" as const }] };
    expect(missing(draft)).toEqual(["the group of ring 1", "the name of ring 1"]);
  });
  it("wants both ends of a window", () => {
    const draft = { ...EMPTY, image_id: 1, include: [2], window_start: "01:00" };
    expect(missing(draft)).toEqual(["both ends of the window"]);
  });
});

describe("sentenceOf", () => {
  it("reads as one sentence", () => {
    const draft = { ...EMPTY, window_start: "01:00:00", window_end: "04:30:00" };
    const parts = sentenceOf(draft, { image: "Sill 5.2.1", include: ["Field gateways"], exclude: ["Spares"] });
    expect(parts.map((p) => p.text).join("")).toBe(
      "Put Sill 5.2.1 on Field gateways without Spares, in 3 rings, daily 01:00–04:30 device time, stopping at 2 % failures",
    );
  });
  it("asks for what is not chosen", () => {
    const text = sentenceOf(EMPTY, { include: [], exclude: [] })
      .map((p) => p.text)
      .join("");
    expect(text).toContain("which image?");
    expect(text).toContain("whom?");
  });
});
