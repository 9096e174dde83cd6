import { expect, test } from "vitest";
import { latestPerDevice } from "./latest";

test("one line a device, its newest; what people did stays whole", () => {
  const entries = [
    { device: "A", text: "failed" },
    { device: "", text: "halted" },
    { device: "A", text: "installing" },
    { device: "B", text: "confirmed" },
    { device: "", text: "launched" },
    { device: "A", text: "offered" },
  ];
  expect(latestPerDevice(entries).map((r) => [r.entry.text, r.earlier])).toEqual([
    ["failed", 2],
    ["halted", 0],
    ["confirmed", 0],
    ["launched", 0],
  ]);
  expect(latestPerDevice([])).toEqual([]);
});
