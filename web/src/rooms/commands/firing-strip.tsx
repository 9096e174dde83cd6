/** The latest firings, zone by zone, with their dates; each can be pressed to see how it went. */
import clsx from "clsx";
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { city, count } from "@/lib/format";
import { summary } from "@/parts/phases";
import { type Column, columnsOf, type Occurrence, type Shares, sharesOf, totals, zonesOf } from "./strip";

const SHOWN = 21;

export function FiringStrip({
  schedule,
  chosen,
  onChoose,
}: {
  schedule: Schemas["ScheduleRow"];
  chosen: string;
  onChoose: (column: Column) => void;
}) {
  const { zone } = useClock();
  const columns = columnsOf(schedule.occurrences).slice(-SHOWN);
  const zones = zonesOf(columns.flatMap((c) => c.occurrences));
  if (columns.length === 0) return <p className="text-soft">It has not fired yet.</p>;
  return (
    <div className="overflow-x-auto">
      <table className="border-separate border-spacing-x-1 border-spacing-y-0.5">
        <thead>
          <tr>
            <td />
            {columns.map((c) => (
              <th key={c.key} scope="col" className="min-w-9 p-0 align-bottom font-normal">
                <button
                  type="button"
                  aria-pressed={c.key === chosen}
                  title={`${when(c, zone)}${c.isExtra ? ", run besides its times" : ""}: ${wordsOf(c.occurrences)}`}
                  onClick={() => onChoose(c)}
                  className={clsx(
                    "w-full rounded-sm px-0.5 text-[0.68rem] leading-tight hover:bg-side",
                    c.key === chosen ? "bg-wash font-semibold text-ink" : "text-soft",
                  )}
                >
                  {stamp(c, zone).map((line) => (
                    <span key={line} className="block whitespace-nowrap">
                      {line}{" "}
                    </span>
                  ))}
                  <span className="sr-only">{wordsOf(c.occurrences)}</span>
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {zones.map((name) => (
            <tr key={name}>
              <th scope="row" className="pr-2 text-left font-semibold">
                {city(name)}
              </th>
              {columns.map((c) => {
                const there = c.occurrences.filter((o) => o.zone === name);
                return (
                  <td key={c.key} className={clsx("p-0", c.key === chosen && "bg-wash")}>
                    {there.length > 0 && <Cell occurrences={there} />}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      <Legend />
    </div>
  );
}

function Cell({ occurrences }: { occurrences: Occurrence[] }) {
  const { audience, phases } = totals(occurrences);
  const shares = sharesOf(phases, audience);
  return (
    <span
      className="flex h-6 w-full flex-col-reverse overflow-hidden rounded-sm border border-rule bg-paper"
      role="img"
      aria-label={wordsOf(occurrences)}
      title={wordsOf(occurrences)}
    >
      <Fill shares={shares} />
    </span>
  );
}

/** How devices ended, as a stack that fills what holds it from below (with `flex-col-reverse`). */
export function Fill({ shares }: { shares: Shares }) {
  const parts: [string, number][] = [
    ["bg-verdigris", shares.done],
    ["bg-rule", shares.open],
    ["hatched", shares.missed],
    ["bg-brick", shares.failed],
  ];
  return parts.map(([tone, share]) => (
    <span key={tone} className={`w-full ${tone}`} style={{ height: `${share * 100}%` }} />
  ));
}

function Legend() {
  const marks: [string, string][] = [
    ["bg-verdigris", "done"],
    ["bg-rule", "not ended"],
    ["hatched", "missed or withdrawn"],
    ["bg-brick", "failed"],
  ];
  return (
    <ul className="mt-2 flex flex-wrap gap-4 text-soft text-xs" aria-label="Legend">
      {marks.map(([tone, words]) => (
        <li key={words} className="flex items-center gap-1.5">
          <span aria-hidden className={clsx("inline-block h-3 w-3 rounded-[2px] border border-rule", tone)} />
          {words}
        </li>
      ))}
      <li>each square: the share of a zone’s devices, filled from below</li>
    </ul>
  );
}

/** A firing in words: its time by the clock of its rule, or the moment by the reader's clock. */
export function when(column: Column, zone: string): string {
  return timeOf(column, zone).toFormat("ccc d LLL HH:mm");
}

function timeOf(column: Column, zone: string): DateTime {
  return column.isExtra ? DateTime.fromISO(column.at, { zone }) : DateTime.fromISO(column.at);
}

function stamp(column: Column, zone: string): string[] {
  const time = timeOf(column, zone);
  return [time.toFormat("d LLL"), column.isExtra ? "run" : time.toFormat("HH:mm")];
}

function wordsOf(occurrences: Occurrence[]): string {
  const { audience, phases } = totals(occurrences);
  const left: [number, string][] = [
    [occurrences.reduce((n, o) => n + o.unsupported_count, 0), "left out: their firmware cannot do it"],
    [occurrences.reduce((n, o) => n + o.frozen, 0), "left out: in a freeze"],
    [occurrences.reduce((n, o) => n + o.overlapping, 0), "left out: still at the firing before"],
  ];
  const others = left.filter(([n]) => n).map(([n, words]) => `${count(n)} ${words}`);
  return [audience ? summary(phases) : "for no device", ...others].join(" · ");
}
