import { describe, expect, it } from "vitest";
import { isForSomebody, START, withTemplate, withWhen } from "./draft";

describe("a draft of a command", () => {
  it("is for nobody until something is named", () => {
    expect(isForSomebody(START)).toBe(false);
    expect(isForSomebody({ ...START, include: [3] })).toBe(true);
    expect(isForSomebody({ ...START, include_devices: ["sill-0007"] })).toBe(true);
  });

  it("keeps no rule and no time where it runs now, and gets them back", () => {
    const now = withWhen({ ...START, excluded: ["2026-12-24T05:30"] }, "now", "2026-11-29");
    expect(now).toMatchObject({ rule: "", time_of_day: null, starts_on: null, excluded: [] });
    expect(withWhen(now, "repeat", "2026-11-29")).toMatchObject({ rule: "FREQ=DAILY", time_of_day: "05:30" });
    expect(withWhen(now, "once", "2026-11-29")).toMatchObject({ rule: "", starts_on: "2026-11-29" });
  });

  it("drops the parameters of another template only", () => {
    const read = { ...START, template: "read", parameters: { key: "uplink.apn" } };
    expect(withTemplate(read, "read").parameters).toEqual({ key: "uplink.apn" });
    expect(withTemplate(read, "logs").parameters).toEqual({});
  });
});
