import { expect, test } from "vitest";
import { isCount } from "./typed-count";

test("only the very number is taken, unless there is leeway", () => {
  expect(isCount(" 209 ", 209)).toBe(true);
  expect(isCount("208", 209)).toBe(false);
  expect(isCount("225", 227, 2)).toBe(true);
  expect(isCount("224", 227, 2)).toBe(false);
});

test("what is no whole number, and nobody, is never taken", () => {
  for (const typed of ["", "0", "2e2", "-209", "209.0"]) expect(isCount(typed, 209, 2)).toBe(false);
  expect(isCount("0", 0)).toBe(false);
});
