import { expect, test } from "vitest";
import { addressesOf, onDays } from "./report-words";

test("days of the week as people say them", () => {
  expect(onDays([0])).toBe("each Monday");
  expect(onDays([0, 3])).toBe("each Monday and Thursday");
  expect(onDays([0, 1, 2, 3, 4])).toBe("on working days");
  expect(onDays([0, 1, 2, 3, 4, 5, 6])).toBe("daily");
});

test("addresses however they are parted", () => {
  expect(addressesOf(" a@b.example, c@d.example;e@f.example\n")).toEqual(["a@b.example", "c@d.example", "e@f.example"]);
  expect(addressesOf("  ")).toEqual([]);
});
