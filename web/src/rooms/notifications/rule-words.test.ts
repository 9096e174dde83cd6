import { describe, expect, it } from "vitest";
import { ruleWords } from "./rule-words";

const KINDS = [
  { kind: "silent", words: "Silent" },
  { kind: "halted", words: "A rollout stopped itself" },
] as Parameters<typeof ruleWords>[1];
const RULE = {
  id: 1,
  name: "On call",
  kinds: ["silent", "halted"],
  at_least: 0,
  after_minutes: 0,
  is_urgent: false,
  tells_over: true,
  next_after_minutes: null,
  people: [{ id: 1, name: "Ada" }],
  channels: [],
  is_on: true,
} as Parameters<typeof ruleWords>[0];

describe("a rule in words", () => {
  it("says of what and whom", () => {
    expect(ruleWords(RULE, KINDS)).toBe("Of “Silent”, “A rollout stopped itself”, as they wish: Ada.");
  });
  it("says that it is about everything where it names nothing, and that it tells nobody", () => {
    expect(ruleWords({ ...RULE, kinds: [], people: [] }, KINDS)).toBe(
      "Of everything that wants attention, as they wish: nobody any more.",
    );
  });
  it("says from how many devices on, after how long, how urgent, and who is next", () => {
    const people = [...RULE.people, { id: 2, name: "Bo" }];
    const channels = [{ id: 4, name: "Ops" }];
    const rule = { ...RULE, kinds: ["silent"], at_least: 1200, after_minutes: 120, is_urgent: true, people, channels };
    expect(ruleWords({ ...rule, next_after_minutes: 15 } as typeof RULE, KINDS)).toBe(
      "Of “Silent” of 1,200 devices or more, once it is open for 2 h, at once, also in quiet hours: " +
        "Ada, then Bo, 15 min apart until somebody knows of it; the channel “Ops”.",
    );
  });
});
