import { expect, test } from "vitest";
import { audienceWords } from "./named-devices";

test.each([
  [[], [], ""],
  [["A"], [], "A"],
  [["A", "B"], [], "A and B"],
  [["A", "B"], ["d"], "A, B and d"],
  [[], ["d"], "d"],
  [[], ["d", "e", "f"], "3 devices"],
  [["A"], ["d", "e"], "A and 2 devices"],
])("groups %j and devices %j are “%s”", (groups, devices, words) => {
  expect(audienceWords(groups, devices)).toBe(words);
});
