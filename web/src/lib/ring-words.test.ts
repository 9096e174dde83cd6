import { expect, test } from "vitest";
import { gateWords, sameRings, whom } from "./ring-words";

test("a ring says whom it takes and what its gate waits for", () => {
  expect(whom({ name: "A", kind: "group", group_id: 7 }, [])).toBe("group ?");
  expect(whom({ name: "A", kind: "rest" }, [])).toBe("all the rest");
  expect(gateWords({ name: "A", kind: "rest", soak_minutes: 0 })).toBe("through: 95% confirmed, then no soak");
  expect(
    gateWords({ name: "A", kind: "rest", confirmed_pct: 80, soak_minutes: 90, max_unreached: 3, needs_approval: true }),
  ).toBe("through: 80% confirmed, at most 3 not tried, then soak 1 h 30 min, then an approval");
});

test("rings are the same whatever was left unsaid, and differ by what they take", () => {
  const said = { name: "A", kind: "number" as const, number: 12, share_pct: 5, confirmed_pct: 95, soak_minutes: 60 };
  expect(sameRings([said], [{ name: "A", kind: "number", number: 12 }])).toBe(true);
  expect(sameRings([said], [{ name: "A", kind: "number", number: 13 }])).toBe(false);
  expect(sameRings([said], [])).toBe(false);
  for (const change of [{ needs_approval: true }, { min_tried: 3 }, { max_unreached: 0 }, { soak_minutes: 61 }])
    expect(sameRings([said], [{ ...said, ...change }])).toBe(false);
});
