/** Phases of a delivery: their words, their place on the dial, their tone. */
import type { Schemas } from "@/api/client";
import { count } from "@/lib/format";

export type Phase = Schemas["PhaseEnum"];
export type Tone = "done" | "moving" | "failed" | "held" | "open" | "out";

interface Look {
  word: string;
  tone: Tone;
  /** how much of the disc is filled, 0 to 1; the ends that are no success have a shape of their own */
  fill: number;
}

export const LOOK: Record<Phase, Look> = {
  waiting: { word: "waiting", tone: "open", fill: 0 },
  offered: { word: "offered", tone: "open", fill: 1 / 3 },
  accepted: { word: "accepted", tone: "moving", fill: 1 / 3 },
  fetching: { word: "fetching", tone: "moving", fill: 1 / 2 },
  staged: { word: "staged", tone: "moving", fill: 1 / 2 },
  installing: { word: "installing", tone: "moving", fill: 2 / 3 },
  running: { word: "running", tone: "moving", fill: 2 / 3 },
  confirming: { word: "confirming", tone: "moving", fill: 0.9 },
  confirmed: { word: "confirmed", tone: "done", fill: 1 },
  failed: { word: "failed", tone: "failed", fill: 0 },
  withdrawn: { word: "withdrawn", tone: "out", fill: 0 },
  expired: { word: "expired", tone: "out", fill: 0 },
  superseded: { word: "superseded", tone: "out", fill: 0 },
};

export const PHASES: Phase[] = [
  "waiting",
  "offered",
  "accepted",
  "fetching",
  "staged",
  "installing",
  "running",
  "confirming",
  "confirmed",
  "failed",
  "withdrawn",
  "expired",
  "superseded",
];

/** offered, and not taken by the device yet */
export const OFFERED: Phase[] = ["offered"];
/** the device has the order and works on it */
export const IN_MOTION: Phase[] = ["accepted", "fetching", "staged", "installing", "running", "confirming"];
/** offered or taken: the device has no room for another order */
export const IN_HAND: Phase[] = [...OFFERED, ...IN_MOTION];
export const OUT: Phase[] = ["withdrawn", "expired", "superseded"];

export type Counts = Record<string, number>;

export function sum(counts: Counts, phases: readonly string[]): number {
  return phases.reduce((total, phase) => total + (counts[phase] ?? 0), 0);
}

/** The counts in words, most telling first: "12 confirmed · 3 in motion · 1 failed · 40 waiting". */
export function summary(counts: Counts): string {
  const parts: [number, string][] = [
    [counts.confirmed ?? 0, "confirmed"],
    [sum(counts, IN_MOTION), "in motion"],
    [sum(counts, OFFERED), "offered"],
    [counts.failed ?? 0, "failed"],
    [counts.waiting ?? 0, "waiting"],
    [counts.expired ?? 0, "expired"],
    [counts.withdrawn ?? 0, "withdrawn"],
    [counts.superseded ?? 0, "superseded"],
  ];
  const told = parts.filter(([n]) => n > 0).map(([n, word]) => `${count(n)} ${word}`);
  return told.join(" · ") || "nobody";
}
