/** The round trip of an order, step by step: what happened to it, and when, from the moment it was written. */
import type { Schemas } from "@/api/client";

type Entry = Schemas["TimelineEntry"];

export interface Step {
  words: string;
  at: string;
  /** seconds since the step before */
  after: number;
}

const WORDS: Partial<Record<string, string>> = {
  offered: "It lies ready for the next check-in",
  accepted: "The device took it",
  running: "It began",
  confirmed: "It answered: the connection works both ways",
  failed: "It answered that it could not do it: the connection works both ways",
  expired: "It did not call in time",
  withdrawn: "Withdrawn",
  superseded: "Withdrawn",
};

/** An attempt that the server gave up is no answer of the device. */
const GIVEN_UP = /^no-(answer|progress)/;
const MUTE = "It never said how it ended: orders reach it, whether its reports come back is not known";

/** The steps of one order so far, from its device's timeline; `written` is when it was made. An offer is written
 * before the device calls: it takes it at its next call. */
export function stepsOf(timeline: Entry[], schedule: number, written: string): Step[] {
  const mine = timeline.filter((e) => e.schedule === schedule).toReversed();
  const told = [
    { words: "The order was written", at: written },
    ...mine.map((e) => ({
      words: wordsOf(e),
      at: e.at,
    })),
  ];
  return told.map((step, i) => ({
    ...step,
    after: i ? Math.max(0, (Date.parse(step.at) - Date.parse(told[i - 1]?.at ?? step.at)) / 1000) : 0,
  }));
}

function wordsOf(entry: Entry): string {
  if (entry.to_phase === "failed" && GIVEN_UP.test(entry.detail)) return MUTE;
  return WORDS[entry.to_phase] ?? entry.text;
}

const ENDS = ["confirmed", "failed", "expired", "withdrawn", "superseded"];

/** Whether the round trip is over, one way or the other. */
export const isOver = (timeline: Entry[], schedule: number) =>
  timeline.some((e) => e.schedule === schedule && ENDS.includes(e.to_phase));
