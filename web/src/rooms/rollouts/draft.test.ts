import { describe, expect, it } from "vitest";
import type { Schemas } from "@/api/client";
import {
  again,
  atAnyHour,
  type Change,
  EMPTY,
  mainChange,
  missing,
  saidOf,
  startingWith,
  withChange,
  withHours,
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
      window_end: null,
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
    freeze_override_reason: "a hole that is being used",
    failure_limit_pct: 4,
  } as unknown as Schemas["RolloutDetail"];
  it("keeps its limits and audience, and neither its start nor its leave to pass a freeze", () => {
    const draft = again(earlier);
    expect(draft).toMatchObject({ failure_limit_pct: 4, include: [2], include_devices: ["Rosemary-7"] });
    expect([draft.starts_at, draft.freeze_override_reason]).toEqual([null, ""]);
  });
});

describe("staging ahead", () => {
  const staged = { ...EMPTY, window_start: "01:00", window_end: "04:00", prefetch: true };
  it("wants both ends of its hours", () => {
    const own = { ...staged, prefetch_start: "08:00", prefetch_end: "20:00" };
    expect(missing({ ...own, prefetch_end: null })).toContain("both ends of the hours for files");
    expect(missing(own)).not.toContain("both ends of the hours for files");
  });
  it("goes with the window", () => {
    expect(atAnyHour({ ...staged, prefetch_start: "08:00", prefetch_end: "20:00" })).toEqual({
      ...EMPTY,
      window_start: null,
      window_end: null,
    });
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

describe("what the sentence is asked with", () => {
  it("is what the sentence says, and no more, however little is filled in", () => {
    const said = saidOf({ ...startingWith({ group: 3 }), rings: [] }, 7);
    expect([said.include, said.ring_count, said.rolls_back_id]).toEqual([[3], 0, 7]);
    expect(said).not.toHaveProperty("max_concurrent");
    expect(said).not.toHaveProperty("rings");
    for (const written of ["name", "purpose", "ticket"]) expect(said).not.toHaveProperty(written);
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
});

it("hours that are taken over are every day's, and any hour takes the staging along", () => {
  const draft = { ...EMPTY, window_days: [1], prefetch: true, window_start: "01:00", window_end: "05:00" };
  const night = withHours(draft, { window_start: "22:00:00", window_end: "04:00:00", spread_minutes: 60 });
  expect(night).toMatchObject({ window_start: "22:00", window_end: "04:00", window_days: [], spread_minutes: 60 });
  expect(night.prefetch).toBe(true);
  const always = withHours(draft, { window_start: null, window_end: null, spread_minutes: 0 });
  expect(always).toMatchObject({ window_start: null, window_end: null, prefetch: false, spread_minutes: 0 });
});
