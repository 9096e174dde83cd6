import { expect, test } from "vitest";
import { timeOfDay } from "./time-text";

test.each([
  ["06:30", "06:30"],
  ["6:30", "06:30"],
  ["630", "06:30"],
  ["0630", "06:30"],
  ["6", "06:00"],
  ["23.59", "23:59"],
  [" 14 05 ", "14:05"],
  ["0", "00:00"],
])("%s is read as %s", (typed, read) => {
  expect(timeOfDay(typed)).toBe(read);
});

test.each(["", "24:00", "12:60", "6:3", "half past six", "6:30 pm", "-1", "123456"])("%s is no time", (typed) => {
  expect(timeOfDay(typed)).toBeNull();
});
