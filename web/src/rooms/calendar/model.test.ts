import { describe, expect, test } from "vitest";
import {
  type Answer,
  daysOf,
  freezesIn,
  type Mark,
  marksIn,
  minutesOf,
  movedTime,
  moveOf,
  pinsOf,
  type RowMark,
  rolloutsIn,
  stretch,
  throngsIn,
  ticksOf,
  turned,
  uplinkWords,
} from "./model";

const ZONE = "Europe/Lisbon";
const NOW = new Date("2026-11-24T14:32:00Z"); // a Tuesday
const week = daysOf("week", undefined, ZONE, NOW);

describe("spans of days", () => {
  test("a week begins yesterday, so that what just ran is there; longer ones on Monday", () => {
    expect(week.start.toISODate()).toBe("2026-11-23");
    expect(week.end.toISODate()).toBe("2026-11-30");
    expect(daysOf("day", undefined, ZONE, NOW).start.toISODate()).toBe("2026-11-24");
    expect(daysOf("season", undefined, ZONE, new Date("2026-11-29T12:00:00Z")).start.toISODate()).toBe("2026-11-23");
  });
  test("what was asked for wins, unless it is no date", () => {
    expect(daysOf("week", "2027-02-03", ZONE, NOW).start.toISODate()).toBe("2027-02-03");
    expect(daysOf("week", "soon", ZONE, NOW).start.toISODate()).toBe("2026-11-23");
  });
  test("a day of a clock change has its own length", () => {
    const day = daysOf("day", "2027-03-28", ZONE, NOW);
    expect(day.end.diff(day.start).as("hours")).toBe(23);
    expect(ticksOf("day", day).length).toBeGreaterThanOrEqual(8);
  });
  test("turning goes on by what is seen, longer spans by half", () => {
    expect(turned("week", week.start, 1)).toBe("2026-11-30");
    expect(turned("season", week.start, -1)).toBe("2026-10-12");
  });
  test("ticks are days of a week and weeks of what is longer", () => {
    expect(ticksOf("week", week).map((t) => t.label)).toEqual([
      "Mon 23",
      "Tue 24",
      "Wed 25",
      "Thu 26",
      "Fri 27",
      "Sat 28",
      "Sun 29",
    ]);
    expect(ticksOf("six-weeks", daysOf("six-weeks", undefined, ZONE, NOW))).toHaveLength(6);
  });
});

describe("places", () => {
  test("a stretch is cut at the ends of the span, and gone where none of it is inside", () => {
    expect(stretch("2026-11-20T00:00:00Z", "2026-11-26T12:00:00Z", week)).toEqual({ left: "0%", width: "50%" });
    expect(stretch("2026-11-20T00:00:00Z", "2026-11-23T00:00:00Z", week)).toBeNull();
    expect(stretch("2026-12-20T00:00:00Z", "2026-12-23T00:00:00Z", week)).toBeNull();
  });
  test("a moment without length is still a place", () => {
    expect(stretch("2026-11-26T12:00:00Z", "2026-11-26T12:00:00Z", week)?.width).toBe("0%");
  });
});

const mark = (at: string, devices = 1): Mark => ({ at, ends_at: at, devices, occurrence: null, phases: {} });
const firings = (row: string, ...marks: Mark[]) => ({
  row,
  times: marks.length || 168,
  first: week.start.toISO() ?? "",
  last: week.end.toISO() ?? "",
  devices: 1,
  marks,
});
const schedule = (id: number, planned: ReturnType<typeof firings>[], past: ReturnType<typeof firings>[] = []) => ({
  id,
  name: "",
  command: "Restart",
  harm: "disruptive" as const,
  sentence: "",
  clock: "device",
  time_of_day: "05:30:00",
  revision: 1,
  past,
  planned,
});
const answer = (fields: Partial<Answer>): Answer => ({
  now: NOW.toISOString(),
  counted_at: null,
  begins_at: "",
  ends_at: "",
  rows: [],
  rollouts: [],
  schedules: [],
  freezes: [],
  bar_hours: 1,
  load: [],
  sites: [],
  ...fields,
});

describe("what stands in a row", () => {
  test("marks of all schedules in the order of their times, past ones known as such", () => {
    const told = answer({
      schedules: [
        schedule(1, [firings("a", mark("2026-11-25T05:30:00Z"))], [firings("a", mark("2026-11-24T05:30:00Z"))]),
        schedule(2, [firings("a", mark("2026-11-24T20:00:00Z")), firings("b", mark("2026-11-25T00:00:00Z"))]),
      ],
    });
    expect(marksIn(told, "a").map((m) => [m.schedule.id, m.isPast])).toEqual([
      [1, true],
      [2, false],
      [1, false],
    ]);
    expect(marksIn(told, "nowhere")).toEqual([]);
  });
  test("what fires all day is a throng, not marks", () => {
    const told = answer({ schedules: [schedule(1, [firings("a")])] });
    expect(marksIn(told, "a")).toEqual([]);
    expect(throngsIn(told, "a").map((t) => t.times)).toEqual([168]);
  });
  test("rollouts and freezes only where they have devices", () => {
    const ring = {
      devices: [
        { row: "a", devices: 3 },
        { row: "b", devices: 0 },
      ],
    };
    const told = answer({
      rollouts: [{ rings: [ring] }] as Answer["rollouts"],
      freezes: [{ devices: [{ row: "b", devices: 2 }] }] as Answer["freezes"],
    });
    expect([rolloutsIn(told, "a").length, rolloutsIn(told, "b").length]).toEqual([1, 0]);
    expect([freezesIn(told, "a").length, freezesIn(told, "b").length]).toEqual([0, 1]);
  });
  test("marks that would stand on one another are one pin", () => {
    const at = (hour: number) => ({ ...mark(`2026-11-24T0${hour}:00:00Z`), isPast: false }) as RowMark;
    const pins = pinsOf([at(1), at(2), at(9)], week, 2 / 168);
    expect(pins.map((p) => p.marks.length)).toEqual([2, 1]);
  });
});

describe("moving", () => {
  test("times go round the clock", () => {
    expect(movedTime("23:30:00", 60)).toBe("00:30");
    expect(movedTime("00:15", -30)).toBe("23:45");
  });
  test("a drag moves by whole steps of its span", () => {
    expect(minutesOf(10, 1008, "week", week)).toBe(105); // 100 minutes, in quarters of an hour
    expect(minutesOf(0.2, 1008, "week", week)).toBe(0);
    const season = daysOf("season", undefined, ZONE, NOW);
    expect(minutesOf(25, 910, "season", season) % 1440).toBe(0);
  });
  test("an edge moves alone, the middle moves both", () => {
    const of = { id: 4, window_start: "01:00:00", window_end: "05:00:00", state: "running" } as Answer["rollouts"][0];
    const rollout = { kind: "rollout", of } as const;
    expect(moveOf(rollout, "start", 30)?.change).toEqual({ window_start: "01:30", window_end: "05:00" });
    expect(moveOf(rollout, "both", -60)?.change).toEqual({ window_start: "00:00", window_end: "04:00" });
    expect(moveOf(rollout, "both", 0)).toBeNull();
    const freeze = { kind: "freeze", of: { id: 9 } as Answer["freezes"][0] } as const;
    expect(moveOf(freeze, "end", 90)).toEqual({ kind: "freeze", id: 9, change: { start_by: 0, end_by: 90 } });
  });
  test("without hours there is nothing to move", () => {
    const of = { id: 4, window_start: null, window_end: null } as Answer["rollouts"][0];
    expect(moveOf({ kind: "rollout", of }, "both", 30)).toBeNull();
  });
});

test("an uplink says what is wanted of it, and what it carries where that is less", () => {
  const site = { id: 1, name: "Alder", at_once: 3, under_way: 0, waiting: 9, load: [] };
  expect(uplinkWords(site, 2.34)).toBe("2.3 of 3 at once");
  expect(uplinkWords(site, 5)).toBe("5 wanted, 3 carried");
});
