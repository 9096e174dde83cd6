/** The calendar without its pictures: spans of days, places on them, what stands in a row, and what a drag moves. */
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import { count } from "@/lib/format";

export type Answer = Schemas["CalendarAnswer"];
export type Rollout = Schemas["CalendarRollout"];
export type Schedule = Schemas["CalendarSchedule"];
export type Freeze = Schemas["CalendarFreeze"];
export type Ring = Schemas["CalendarRing"];
export type Site = Schemas["CalendarSite"];
export type Mark = Schemas["CalendarMark"];

export const SPANS = ["day", "week", "six-weeks", "season"] as const;
export type Span = (typeof SPANS)[number];
export const SPAN_WORDS: Record<Span, string> = {
  day: "Day",
  week: "Week",
  "six-weeks": "Six weeks",
  season: "Season",
};
export const ROW_KINDS = ["zone", "site", "group"] as const;
export type RowKind = (typeof ROW_KINDS)[number];

const DAYS: Record<Span, number> = { day: 1, week: 7, "six-weeks": 42, season: 91 };
/** A drag moves by whole steps of so many minutes. */
export const STEP: Record<Span, number> = { day: 5, week: 15, "six-weeks": 60, season: 1440 };

export interface Days {
  start: DateTime;
  end: DateTime;
}

/** The days of a span from a local date on; without one, a week begins yesterday and longer spans on this Monday. */
export function daysOf(span: Span, from: string | undefined, zone: string, now: Date): Days {
  const today = DateTime.fromJSDate(now, { zone }).startOf("day");
  const asked = from ? DateTime.fromISO(from, { zone }) : null;
  const first = span === "day" ? today : span === "week" ? today.minus({ days: 1 }) : today.startOf("week");
  const start = asked?.isValid ? asked.startOf("day") : first;
  return { start, end: start.plus({ days: DAYS[span] }) };
}

/** The date from which the span before or after begins. */
export function turned(span: Span, start: DateTime, by: 1 | -1): string {
  const days = span === "season" ? 42 : span === "six-weeks" ? 21 : DAYS[span];
  return start.plus({ days: by * days }).toISODate() ?? "";
}

export interface Tick {
  at: DateTime;
  label: string;
}

/** The lines of a span: hours of a day, days of a week, weeks of what is longer. */
export function ticksOf(span: Span, { start, end }: Days): Tick[] {
  const ticks: Tick[] = [];
  const step = span === "day" ? { hours: 3 } : span === "week" ? { days: 1 } : { weeks: 1 };
  const form = span === "day" ? "HH:mm" : span === "week" ? "ccc d" : "d LLL";
  for (let at = start; at < end; at = at.plus(step)) ticks.push({ at, label: at.toFormat(form) });
  return ticks;
}

/** Where a moment is on a span, from 0 to 1; outside of it less or more. */
export function placeOf(at: string | Date | DateTime, { start, end }: Days): number {
  const ms = typeof at === "string" ? Date.parse(at) : at.valueOf();
  return (ms - start.toMillis()) / (end.toMillis() - start.toMillis());
}

/** A stretch as left and width in per cent of the span; null where none of it is inside. */
export function stretch(from: string, until: string, days: Days): { left: string; width: string } | null {
  const a = Math.max(0, placeOf(from, days));
  const b = Math.min(1, placeOf(until, days));
  return a < b || (a === b && a > 0 && a < 1) ? { left: `${a * 100}%`, width: `${(b - a) * 100}%` } : null;
}

const inRow = <T extends { row: string }>(of: T[], row: string) => of.find((x) => x.row === row);
/** How many files a site has coming at once, against what its uplink carries. */
export function uplinkWords({ at_once }: Site, n: number): string {
  const some = n.toLocaleString("en", { maximumFractionDigits: 1 });
  return n > at_once ? `${some} wanted, ${count(at_once)} carried` : `${some} of ${count(at_once)} at once`;
}

export const devicesIn = (of: { row: string; devices: number }[], row: string) => inRow(of, row)?.devices ?? 0;

/** The rollouts that have something in a row: devices that are left, or rings that were there in this time. */
export function rolloutsIn(answer: Answer, row: string): Rollout[] {
  return answer.rollouts.filter((r) => r.rings.some((ring) => devicesIn(ring.devices, row) > 0));
}

export const windowsIn = (rollout: Rollout, row: string) => inRow(rollout.windows, row)?.spans ?? [];

/** The rings of a rollout that have devices in a row, and a time in which they are under way. */
export function ringsIn(rollout: Rollout, row: string): Ring[] {
  return rollout.rings.filter((r) => r.opens_at && devicesIn(r.devices, row) > 0);
}

export const freezesIn = (answer: Answer, row: string) => answer.freezes.filter((f) => devicesIn(f.devices, row) > 0);

export interface RowMark extends Mark {
  schedule: Schedule;
  isPast: boolean;
}

/** The firings of a row that are drawn one by one, the first first. */
export function marksIn(answer: Answer, row: string): RowMark[] {
  return answer.schedules
    .flatMap((schedule) => [
      ...(inRow(schedule.past, row)?.marks ?? []).map((m) => ({ ...m, schedule, isPast: true })),
      ...(inRow(schedule.planned, row)?.marks ?? []).map((m) => ({ ...m, schedule, isPast: false })),
    ])
    .sort((a, b) => Date.parse(a.at) - Date.parse(b.at));
}

/** The firings of a row that are too many to be drawn one by one. */
export function throngsIn(answer: Answer, row: string) {
  return answer.schedules.flatMap((schedule) =>
    [inRow(schedule.past, row), inRow(schedule.planned, row)]
      .filter((f) => f !== undefined)
      .filter((f) => f.marks.length === 0)
      .map((f) => ({ schedule, ...f })),
  );
}

export interface Pin {
  place: number;
  marks: RowMark[];
}

/** Marks that would stand on one another as one pin, `apart` the least distance between two (0 to 1 of the span). */
export function pinsOf(marks: RowMark[], days: Days, apart: number): Pin[] {
  const pins: Pin[] = [];
  for (const mark of marks) {
    const place = placeOf(mark.at, days);
    const last = pins.at(-1);
    if (last && place - last.place < apart) last.marks.push(mark);
    else pins.push({ place, marks: [mark] });
  }
  return pins;
}

/** A time of day moved by minutes, round the clock. */
export function movedTime(time: string, minutes: number): string {
  const [h = 0, m = 0] = time.split(":").map(Number);
  const total = (((h * 60 + m + minutes) % 1440) + 1440) % 1440;
  return `${String(Math.floor(total / 60)).padStart(2, "0")}:${String(total % 60).padStart(2, "0")}`;
}

/** By how many minutes a drag of `dx` pixels moves, on an area so many pixels wide: whole steps. */
export function minutesOf(dx: number, width: number, span: Span, { start, end }: Days): number {
  const minutes = ((end.toMillis() - start.toMillis()) / 60_000) * (dx / Math.max(1, width));
  return Math.round(minutes / STEP[span]) * STEP[span] || 0;
}

export type Edge = "start" | "end" | "both";
export type Move = Schemas["MoveBodyRequest"];

/** The move that a drag of something by so many minutes asks for; null where it moves nothing. */
export function moveOf(what: Movable, edge: Edge, minutes: number): Move | null {
  if (minutes === 0) return null;
  const start = edge === "end" ? 0 : minutes;
  const end = edge === "start" ? 0 : minutes;
  switch (what.kind) {
    case "rollout": {
      const { window_start, window_end } = what.of;
      if (!window_start || !window_end) return null;
      return {
        kind: "rollout",
        id: what.of.id,
        change: { window_start: movedTime(window_start, start), window_end: movedTime(window_end, end) },
      };
    }
    case "schedule":
      if (!what.of.time_of_day) return null;
      return {
        kind: "schedule",
        id: what.of.id,
        change: { time_of_day: movedTime(what.of.time_of_day, minutes) },
      };
    case "freeze":
      return { kind: "freeze", id: what.of.id, change: { start_by: start, end_by: end } };
  }
}

export type Movable =
  | { kind: "rollout"; of: Rollout }
  | { kind: "schedule"; of: Schedule }
  | { kind: "freeze"; of: Freeze };

/** Whether something can be moved here: open rollouts with hours, commands with a time, freezes of one's own. */
export function canMove(what: Movable): boolean {
  switch (what.kind) {
    case "rollout":
      return ["running", "paused", "halted"].includes(what.of.state) && what.of.window_start !== null;
    case "schedule":
      return what.of.time_of_day !== null && what.of.planned.length > 0;
    case "freeze":
      return what.of.source === "";
  }
}

/** What a movable thing is called. */
export function nameOf(what: Movable): string {
  if (what.kind === "rollout") return what.of.name || `${what.of.target} on ${what.of.audience}`;
  if (what.kind === "schedule") return what.of.name || what.of.command;
  return what.of.name;
}

/** The movable thing that a move is of, as the calendar shows it. */
export function movableOf(answer: Answer, move: Pick<Move, "kind" | "id">): Movable | null {
  const byId = <T extends { id: number }>(of: T[]) => of.find((x) => x.id === move.id);
  const found = { rollout: byId(answer.rollouts), schedule: byId(answer.schedules), freeze: byId(answer.freezes) };
  const of = found[move.kind];
  return of ? ({ kind: move.kind, of } as Movable) : null;
}
