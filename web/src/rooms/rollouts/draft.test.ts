import { describe, expect, it } from "vitest";
import type { Schemas } from "@/api/client";
import {
  again,
  atAnyHour,
  type Change,
  EMPTY,
  mainChange,
  missing,
  sentenceOf,
  startingWith,
  targetWords,
  withChange,
  withMain,
} from "./draft";

describe("missing", () => {
  it("names what an empty draft lacks", () => {
    expect(missing(EMPTY)).toEqual(["a version to bring", "an audience; no group and no device is nobody"]);
  });
  it("names rings that do not say whom they take", () => {
    const draft = {
      ...EMPTY,
      changes: [{ choice: "image" as const, image_id: 1 }],
      include: [2],
      rings: [{ name: "", kind: "group" as const }],
    };
    expect(missing(draft)).toEqual(["the group of ring 1", "the name of ring 1"]);
  });
  it("wants both ends of a window", () => {
    const draft = {
      ...EMPTY,
      changes: [{ choice: "image" as const, image_id: 1 }],
      include: [2],
      window_start: "01:00",
    };
    expect(missing(draft)).toEqual(["both ends of the window"]);
  });
});

describe("another rollout like an earlier one", () => {
  const earlier = {
    include: [{ id: 2 }],
    exclude: [],
    include_devices: [{ name: "Rosemary-7" }],
    changes: [],
    rings: [],
    starts_at: "2026-11-01T00:00:00Z",
    freeze_override: "a hole that is being used",
    failure_limit_pct: 4,
  } as unknown as Schemas["RolloutDetail"];
  it("keeps its limits and audience, and neither its start nor its leave to pass a freeze", () => {
    const draft = again(earlier);
    expect(draft).toMatchObject({ failure_limit_pct: 4, include: [2], include_devices: ["Rosemary-7"] });
    expect([draft.starts_at, draft.freeze_override]).toEqual([null, ""]);
  });
});

describe("staging ahead", () => {
  const staged = { ...EMPTY, window_start: "01:00", window_end: "04:00", stage_ahead: true };
  it("is said with its hours, and wants both ends of them", () => {
    const text = (draft: typeof staged) =>
      sentenceOf(draft, { target: "Sill 5.2.1", include: "A", exclude: [] })
        .map((p) => p.text)
        .join("");
    expect(text(staged)).toContain(
      "01:00–04:00 device time, fetching files ahead, starts spread over 15 min, stopping",
    );
    const own = { ...staged, staging_start: "08:00", staging_end: "20:00" };
    expect(text(own)).toContain("fetching files ahead 08:00–20:00, starts spread over 15 min, stopping");
    expect(missing({ ...own, staging_end: null })).toContain("both ends of the hours for files");
    expect(missing(own)).not.toContain("both ends of the hours for files");
  });
  it("goes with the window", () => {
    expect(atAnyHour({ ...staged, staging_start: "08:00", staging_end: "20:00" })).toEqual(EMPTY);
  });
});

describe("a start", () => {
  it("is a group, an image, or both, and lacks the rest", () => {
    expect(startingWith({ group: 3 })).toEqual({ ...EMPTY, include: [3] });
    expect(startingWith({ devices: ["a", "b"] })).toEqual({ ...EMPTY, include_devices: ["a", "b"] });
    expect(missing(startingWith({ group: 3 }))).toEqual(["a version to bring"]);
    expect(missing(startingWith({ image: 4 }))).toEqual(["an audience; no group and no device is nobody"]);
    expect(missing(startingWith({ group: 3, image: 4 }))).toEqual([]);
  });
});

describe("sentenceOf", () => {
  it("reads as one sentence", () => {
    const draft = { ...EMPTY, window_start: "01:00:00", window_end: "04:30:00" };
    const parts = sentenceOf(draft, { target: "Sill 5.2.1", include: "Field gateways", exclude: ["Spares"] });
    expect(parts.map((p) => p.text).join("")).toBe(
      "Put Sill 5.2.1 on Field gateways without Spares, in 3 rings, daily 01:00–04:30 device time, starts spread over 15 min, stopping at 2% failures",
    );
  });
  it("asks for what is not chosen", () => {
    const text = sentenceOf(EMPTY, { target: "", include: "", exclude: [] })
      .map((p) => p.text)
      .join("");
    expect(text).toContain("which version?");
    expect(text).toContain("which devices?");
  });
});

describe("the change table", () => {
  const one: Change = { choice: "image", image_id: 1 };
  const forModel: Change = { choice: "newest", model_id: 7 };
  const onSatellite: Change = { choice: "leave_out", model_id: 7, uplink: "satellite" };
  it("has one row for the same devices", () => {
    const changes = withChange(withChange([one, forModel], onSatellite), { ...forModel, choice: "leave_out" });
    expect(changes).toEqual([one, { ...forModel, choice: "leave_out" }, onSatellite]);
    expect(withChange(changes, onSatellite, false)).toHaveLength(2);
  });
  it("keeps what all get apart from leaving the others out", () => {
    const rest: Change = { choice: "leave_out" };
    const changes = withChange([one, forModel], rest);
    expect(withMain(changes, { choice: "newest" })).toEqual([{ choice: "newest" }, forModel, rest]);
    expect(mainChange(withMain(changes, null))).toBeUndefined();
  });
  it("names two targets and counts more", () => {
    const name = (id: number) => `Sill ${id}`;
    expect(targetWords([one, { ...one, model_id: 2 }, onSatellite], name)).toBe("Sill 1");
    expect(targetWords([one, forModel], name)).toBe("Sill 1 and the newest approved");
    expect(targetWords([one, forModel, { choice: "within", within: "5.1" }], name)).toBe("3 versions");
    expect(missing({ ...EMPTY, include: [1], changes: [onSatellite] })).toEqual(["a version to bring"]);
    expect(missing({ ...EMPTY, include_devices: ["a"], changes: [onSatellite] })).toEqual(["a version to bring"]);
    expect(missing(EMPTY, true)).toEqual([]);
  });
});
