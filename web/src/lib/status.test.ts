import { describe, expect, it } from "vitest";
import type { Schemas } from "@/api/client";
import { gateWords, statusWords } from "./status";

const NOW = new Date("2026-11-23T01:00:00Z");
const status = (until: string | null): Schemas["StatusView"] => ({
  code: "waiting",
  words: "16 devices wait, the next for its window",
  ring: 1,
  devices: 16,
  unheard: 0,
  until,
});
const ring = (change: Partial<Schemas["RingView"]>) =>
  ({ gate_met_at: null, gate: { code: "soaking", words: "Soaking", until: null }, ...change }) as Schemas["RingView"];

describe("a status", () => {
  it("says until when, by the viewer's clock", () => {
    expect(statusWords(status("2026-11-23T04:00:00Z"), "Australia/Adelaide", NOW)).toBe(
      "16 devices wait, the next for its window, until Mon 14:30",
    );
  });
  it("calls a moment that is past overdue, and none where none is known", () => {
    expect(statusWords(status("2026-11-23T00:46:00Z"), "UTC", NOW)).toContain("window, overdue by 14 min");
    expect(statusWords(status("2026-11-23T00:59:40Z"), "UTC", NOW)).toContain("window, over now");
    expect(statusWords(status(null), "UTC", NOW)).toBe("16 devices wait, the next for its window");
  });
  it("says of a gate since when it is open, or what it waits for", () => {
    expect(gateWords(ring({ gate_met_at: "2026-11-22T23:00:00Z" }), "UTC", NOW)).toBe("Open since Sun 23:00");
    const soaking = { code: "soaking", words: "Soaking", until: "2026-11-23T02:00:00Z" } as const;
    expect(gateWords(ring({ gate: soaking }), "UTC", NOW)).toBe("Soaking, until Mon 02:00");
  });
});
