import { describe, expect, it } from "vitest";
import { city, count, counted, instant, percent, relative, span, waitWords } from "./format";

describe("numbers", () => {
  it("puts commas between thousands", () => {
    expect(count(1234567)).toBe("1,234,567");
    expect(count(999)).toBe("999");
  });
  it("counts things in the singular and the plural", () => {
    expect(counted(1, "device")).toBe("1 device");
    expect(counted(0, "device")).toBe("0 devices");
  });
  it("shows a decimal only where it matters", () => {
    expect(percent(0.95)).toBe("95%");
    expect([percent(1), percent(0.99996), percent(0.996, 0)]).toEqual(["100%", "99.9%", "99%"]);
    expect([percent(0), percent(0.00004), percent(0.004, 0)]).toEqual(["0%", "0.1%", "1%"]);
    expect(percent(0.0113)).toBe("1.1%");
  });
});

describe("times", () => {
  const now = new Date("2026-11-24T13:32:00Z");
  it("says how long ago and how long until", () => {
    expect(relative("2026-11-24T13:31:48Z", now)).toBe("12 s ago");
    expect(relative("2026-11-24T17:52:00Z", now)).toBe("in 4 h 20 min");
  });
  it("shows near instants by weekday and far ones by date, in the zone asked for", () => {
    expect(instant("2026-11-24T13:32:00Z", "Asia/Kolkata", now)).toBe("Tue 19:02");
    expect(instant("2026-10-01T13:32:00Z", "UTC", now)).toBe("1 Oct 13:32");
  });
  it("keeps two units at most", () => {
    expect(span(59)).toBe("59 s");
    expect(span(3 * 86400 + 3600)).toBe("3 d");
    expect(span(86400 + 7200)).toBe("1 d 2 h");
  });
  it("names a zone by its city", () => {
    expect(city("America/Santiago")).toBe("Santiago");
  });
});

describe("waitWords", () => {
  const now = new Date("2026-11-23T12:00:00Z");
  const wait = (until: string | null) => ({ code: "check-in", reason: "its next check-in", until });
  it("says when a wait ends, and by how much it is overdue", () => {
    expect(waitWords(wait(null), now)).toBe("its next check-in");
    expect(waitWords(wait("2026-11-23T12:14:00Z"), now)).toBe("its next check-in, in 14 min");
    expect(waitWords(wait("2026-11-23T11:46:00Z"), now)).toBe("its next check-in, overdue by 14 min");
    expect(waitWords(wait("2026-11-23T11:59:30Z"), now)).toBe("its next check-in, now");
  });
});
