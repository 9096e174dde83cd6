import { describe, expect, it } from "vitest";
import { sinceWords } from "./since-words";

const NOTHING = {
  confirmed: 0,
  failed: 0,
  commands_done: 0,
  commands_failed: 0,
  commands_missed: 0,
  new_devices: 0,
  items_opened: 0,
  items_closed: 0,
};

describe("what happened since one was here last", () => {
  it("is said when it is nothing", () => {
    expect(sinceWords(NOTHING)).toBe("No install, no command and no attention item ended or began.");
  });
  it.each([
    [{ confirmed: 412, failed: 3 }, "412 devices confirmed an install, 3 failed for good."],
    [{ confirmed: 1 }, "1 device confirmed an install."],
    [{ failed: 1 }, "1 device failed for good."],
    [{ commands_done: 1204, commands_missed: 12 }, "Commands: 1,204 done, 12 missed."],
    [{ commands_failed: 2, new_devices: 1 }, "Commands: 2 failed · 1 device called for the first time."],
    [{ items_opened: 2, items_closed: 1 }, "2 attention items opened · 1 attention item is over."],
    [{ items_closed: 2 }, "2 attention items are over."],
  ])("%o", (some, words) => {
    expect(sinceWords({ ...NOTHING, ...some })).toBe(words);
  });
});
