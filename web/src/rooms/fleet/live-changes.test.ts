import { describe, expect, it } from "vitest";
import { changesBetween, withChanges } from "./live-changes";

describe("changes of facts", () => {
  it("are what is new, gone or another", () => {
    const before = { battery: 81, uplink: "cellular", door: true };
    const after = { battery: 80, uplink: "cellular", signal_dbm: -90 };
    expect(changesBetween(before, after, "now").map((c) => [c.key, c.before, c.after])).toEqual([
      ["battery", 81, 80],
      ["door", true, undefined],
      ["signal_dbm", undefined, -90],
    ]);
    expect(changesBetween(after, after, "now")).toEqual([]);
  });

  it("are kept with the latest first, and not without end", () => {
    const one = { at: "1", key: "battery", before: 1, after: 2 };
    const kept = withChanges([one], [{ ...one, at: "2" }]);
    expect(kept.map((c) => c.at)).toEqual(["2", "1"]);
    expect(withChanges(Array(60).fill(one), [{ ...one, at: "9" }])).toHaveLength(40);
  });
});
