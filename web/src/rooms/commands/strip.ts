/** Firings of a schedule as a strip: a column for each time of its rule, a row for each zone. */
import type { Schemas } from "@/api/client";
import { OUT, sum } from "@/parts/phases";

export type Occurrence = Schemas["OccurrenceRow"];

export interface Column {
  /** what stands for the firing in the address: its local time, or the id of one that was run besides its times */
  key: string;
  /** the local time it stands for, or the moment at which it was run */
  at: string;
  isExtra: boolean;
  occurrences: Occurrence[];
}

/** The firings by their time, the latest last. */
export function columnsOf(occurrences: Occurrence[]): Column[] {
  const found = new Map<string, Column>();
  for (const o of occurrences) {
    const key = o.local_time || `run-${o.id}`;
    const column = found.get(key) ?? { key, at: o.local_time || o.fires_at, isExtra: !o.local_time, occurrences: [] };
    column.occurrences.push(o);
    found.set(key, column);
  }
  const latest = (c: Column) => Math.max(...c.occurrences.map((o) => Date.parse(o.fires_at)));
  return [...found.values()].sort((a, b) => latest(a) - latest(b));
}

/** Zones of the firings, by name; “*” is all zones together. */
export const zonesOf = (occurrences: Occurrence[]) => [...new Set(occurrences.map((o) => o.zone))].sort();

/** How the firings of a column went, together. */
export function totals(occurrences: Occurrence[]): { audience: number; phases: Record<string, number> } {
  const phases: Record<string, number> = {};
  for (const o of occurrences) for (const [p, n] of Object.entries(o.phases)) phases[p] = (phases[p] ?? 0) + n;
  return { audience: occurrences.reduce((n, o) => n + o.audience, 0), phases };
}

export interface Shares {
  done: number;
  failed: number;
  missed: number;
  /** not ended yet */
  open: number;
}

/** Shares of a cell's devices, from 0 to 1. */
export function sharesOf(phases: Record<string, number>, audience: number): Shares {
  const of = (n: number) => (audience ? n / audience : 0);
  const done = phases.confirmed ?? 0;
  const failed = phases.failed ?? 0;
  const missed = sum(phases, OUT);
  return { done: of(done), failed: of(failed), missed: of(missed), open: of(audience - done - failed - missed) };
}
