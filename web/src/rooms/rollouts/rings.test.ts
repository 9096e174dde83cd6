import { describe, expect, it } from "vitest";
import { addRing, isSplittable, moveRing, type RingAhead, splitRing } from "./rings";

const ring = (key: number, fields: Partial<RingAhead> = {}): RingAhead => ({
  id: key + 30,
  key,
  name: `Ring ${key}`,
  kind: "rest",
  soak_minutes: 0,
  ...fields,
});
const three = [ring(0, { kind: "number", number: 7 }), ring(1, { kind: "share", share_pct: 50 }), ring(2)];

describe("rings ahead", () => {
  it("are moved by one place, and stay where they would leave the list", () => {
    expect(moveRing(three, 0, 1).map((r) => r.key)).toEqual([1, 0, 2]);
    expect(moveRing(three, 2, -1).map((r) => r.key)).toEqual([0, 2, 1]);
    expect(moveRing(three, 0, -1)).toBe(three);
    expect(moveRing(three, 2, 1)).toBe(three);
  });

  it("are split so that both halves together take what the one took", () => {
    const numbers = splitRing(three, 0);
    expect(numbers.map((r) => r.number).slice(0, 2)).toEqual([3, 4]);
    expect(numbers.map((r) => r.id)).toEqual([null, 30, 31, 32]);
    // of 100 devices 25, and of the 75 that are left a third
    const shares = splitRing(three, 1);
    expect(shares.map((r) => r.share_pct).slice(1, 3)).toEqual([25, 33.33]);
    const rest = splitRing(three, 2);
    expect(rest.slice(2).map((r) => [r.kind, r.share_pct])).toEqual([
      ["share", 50],
      ["rest", undefined],
    ]);
    expect(rest[2]?.soak_minutes).toBe(60);
    expect(new Set(rest.map((r) => r.key)).size).toBe(4);
  });

  it("are not split where half cannot be said", () => {
    const alone = [ring(1, { kind: "number", number: 1 })];
    expect(alone.map(isSplittable)).toEqual([false]);
    expect(splitRing(alone, 0)).toBe(alone);
  });

  it("of a group are split into half of its members and those that are left", () => {
    const halves = splitRing([ring(0, { kind: "group", group_id: 4, share_pct: null })], 0);
    expect(halves.map((r) => [r.kind, r.group_id, r.share_pct])).toEqual([
      ["group", 4, 50],
      ["group", 4, null],
    ]);
    expect(splitRing(halves, 0).map((r) => r.share_pct)).toEqual([25, 33.33, null]);
  });

  it("get a new one before the last, which goes on taking the rest", () => {
    expect(addRing(three, 1).map((r) => r.id)).toEqual([30, 31, null, 32]);
    expect(addRing(three, 1)[2]?.name).toBe("Ring 4");
  });
});
