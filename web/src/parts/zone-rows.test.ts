import { describe, expect, it } from "vitest";
import { nights } from "./zone-rows";

describe("nights", () => {
  const from = new Date("2026-11-23T12:00:00Z");
  const to = new Date("2026-11-24T12:00:00Z");
  it("finds the local night of each zone", () => {
    const [night] = nights("Asia/Kolkata", from, to);
    expect(night?.[0].toISOString()).toBe("2026-11-23T15:30:00.000Z");
    expect(night?.[1].toISOString()).toBe("2026-11-24T00:30:00.000Z");
  });
  it("keeps the night that is under way and the one that begins", () => {
    expect(nights("Australia/Adelaide", from, to).length).toBe(2);
  });
});
