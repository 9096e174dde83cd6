import { beforeEach, expect, test, vi } from "vitest";
import { handedOver, handOver } from "./handed-over";

const kept = new Map<string, string>();
beforeEach(() => {
  kept.clear();
  vi.stubGlobal("sessionStorage", {
    getItem: (key: string) => kept.get(key) ?? null,
    setItem: (key: string, value: string) => kept.set(key, value),
  });
});

test("what was handed over is found by its key, and by no other", () => {
  const key = handOver(["a", "b, c"]);
  expect(handedOver(key)).toEqual(["a", "b, c"]);
  expect(handedOver(handOver(["d"]))).toEqual(["d"]);
  expect(handedOver("other")).toEqual([]);
  expect(handedOver(undefined)).toEqual([]);
});

test("what is no list of names is nobody", () => {
  for (const text of ["{", '"x"', "{}", "[1, null]"]) {
    kept.set("brisk-herald-devices-k", text);
    expect(handedOver("k")).toEqual([]);
  }
});
