/** The calendar: all that will happen to the fleet and all that did, on the devices' own clocks, and movable. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import clsx from "clsx";
import { useState } from "react";
import { useClock } from "@/lib/clock";
import { fullInstant, relative } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Empty } from "@/parts/controls";
import { FreezeForm } from "@/parts/freeze-form";
import { Loaded } from "@/parts/views";
import { Conflicts } from "./conflicts";
import { Feeds } from "./feeds";
import { CalendarGrid } from "./grid";
import { LoadChart, NarrowSites, SiteLoads } from "./load";
import {
  type Answer,
  daysOf,
  type Movable,
  type Move,
  movableOf,
  ROW_KINDS,
  type RowKind,
  SPAN_WORDS,
  SPANS,
  type Span,
  turned,
} from "./model";
import { MoveDialog } from "./move-dialog";
import { calendar as calendarQuery } from "./queries";
import { RowDetails } from "./row-details";

const route = getRouteApi("/calendar");
const ROW_WORDS: Record<RowKind, string> = { zone: "Time zones", site: "Sites", group: "Groups" };

/** The heading of a span: “The week from Mon 23 Nov”. */
function heading(span: Span, start: string): string {
  const from = { day: "", week: "The week from ", "six-weeks": "Six weeks from ", season: "Thirteen weeks from " }[
    span
  ];
  return `${from}${start}`;
}

export function Calendar() {
  usePageTitle("Calendar");
  const { now, zone } = useClock();
  const address = route.useSearch();
  const navigate = route.useNavigate();
  const span: Span = address.span ?? "week";
  const rows: RowKind = address.rows ?? "zone";
  const days = daysOf(span, address.from, zone, now);
  const asked = useQuery(calendarQuery(days.start.toUTC().toISO() ?? "", days.end.toUTC().toISO() ?? "", rows));
  const [move, setMove] = useState<{ move: Move; words?: string } | null>(null);
  const [opened, setOpened] = useState<string | null>(null);
  const [isAdding, setAdding] = useState(false);
  const go = (search: Partial<typeof address>) => navigate({ search: { ...address, ...search }, replace: true });

  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="mr-auto text-2xl">{heading(span, days.start.toFormat("ccc d LLL"))}</h1>
        <div className="flex gap-1">
          <Button aria-label="Earlier" onClick={() => go({ from: turned(span, days.start, -1) })}>
            ‹
          </Button>
          <Button onClick={() => go({ from: undefined })}>Today</Button>
          <Button aria-label="Later" onClick={() => go({ from: turned(span, days.start, 1) })}>
            ›
          </Button>
        </div>
        <Choice
          label="Span"
          options={SPANS.map((s) => [s, SPAN_WORDS[s]])}
          value={span}
          onChange={(to) => go({ span: to === "week" ? undefined : to })}
        />
        <Choice
          label="Rows"
          options={ROW_KINDS.map((k) => [k, ROW_WORDS[k]])}
          value={rows}
          onChange={(to) => go({ rows: to === "zone" ? undefined : to })}
        />
        <Button needs="operate-all" onClick={() => setAdding(true)}>
          Add a freeze
        </Button>
      </div>
      <Loaded of={asked} what="The calendar" rows={8}>
        {(answer) => (
          <>
            {answer.rows.length === 0 ? (
              <NoRows rows={rows} />
            ) : (
              <>
                <CalendarGrid
                  answer={answer}
                  days={days}
                  span={span}
                  onMove={(found) => setMove({ move: found })}
                  onOpen={setOpened}
                />
                <Legend countedAt={answer.counted_at} />
                <LoadChart answer={answer} days={days} />
                <SiteLoads answer={answer} days={days} />
              </>
            )}
            <div className="mt-4 grid grid-cols-[2fr_1fr] gap-8 max-md:grid-cols-1">
              <Conflicts onFix={({ kind, id, change, words }) => setMove({ move: { kind, id, change }, words })} />
              <div className="space-y-5">
                <NarrowSites answer={answer} />
                <Feeds answer={answer} rows={rows} />
              </div>
            </div>
            <Dialogs
              answer={answer}
              rows={rows}
              move={move}
              opened={opened}
              onMove={(what) => {
                setOpened(null);
                setMove({ move: unmoved(what) });
              }}
              onDone={() => {
                setMove(null);
                setOpened(null);
              }}
            />
          </>
        )}
      </Loaded>
      {isAdding && <FreezeForm freeze={null} onClose={() => setAdding(false)} />}
    </div>
  );
}

/** The move with which a dialog begins that somebody opened without dragging: to where it is. */
function unmoved(what: Movable): Move {
  const { kind } = what;
  if (kind === "rollout") {
    const { id, window_start, window_end } = what.of;
    return { kind, id, change: { window_start: window_start?.slice(0, 5), window_end: window_end?.slice(0, 5) } };
  }
  if (kind === "schedule") return { kind, id: what.of.id, change: { time_of_day: what.of.time_of_day?.slice(0, 5) } };
  return { kind, id: what.of.id, change: { start_by: 0, end_by: 0 } };
}

function Dialogs({
  answer,
  rows,
  move,
  opened,
  onMove,
  onDone,
}: {
  answer: Answer;
  rows: RowKind;
  move: { move: Move; words?: string } | null;
  opened: string | null;
  onMove: (what: Movable) => void;
  onDone: () => void;
}) {
  const row = answer.rows.find((r) => r.key === opened);
  const what = move && movableOf(answer, move.move);
  if (move && what) return <MoveDialog what={what} first={move.move} words={move.words} onClose={onDone} />;
  if (row) return <RowDetails answer={answer} row={row} rows={rows} onMove={onMove} onClose={onDone} />;
  return null;
}

function Choice<T extends string>({
  label,
  options,
  value,
  onChange,
}: {
  label: string;
  options: [T, string][];
  value: T;
  onChange: (value: T) => void;
}) {
  return (
    <fieldset className="flex overflow-hidden rounded-sm border border-ink">
      <legend className="sr-only">{label}</legend>
      {options.map(([key, words]) => (
        <button
          key={key}
          type="button"
          aria-pressed={key === value}
          className={clsx(
            "min-h-[28px] border-ink border-l px-2.5 font-semibold first:border-l-0",
            key === value ? "bg-ink text-paper" : "bg-card hover:bg-side",
          )}
          onClick={() => onChange(key)}
        >
          {words}
        </button>
      ))}
    </fieldset>
  );
}

function Legend({ countedAt }: { countedAt: string | null }) {
  const { now, zone } = useClock();
  const box = "inline-block h-3 w-5 rounded-[2px] align-[-2px]";
  return (
    <ul className="mt-1.5 flex flex-wrap gap-x-5 gap-y-1 text-soft text-xs" aria-label="Legend">
      <li>
        <span aria-hidden className={clsx(box, "border border-verdigris bg-verdigris/15")} /> hours in which it may
        install
      </li>
      <li>
        <span aria-hidden className={clsx(box, "bg-gradient-to-r from-verdigris to-transparent")} /> a ring, fading
        where its end is not sure
      </li>
      <li>
        <span aria-hidden className="inline-block h-2 w-2 rounded-full border border-ink bg-card" /> a firing to come
      </li>
      {[
        ["bg-verdigris", "done by all"],
        ["bg-saffron", "missed by some"],
        ["bg-brick", "failed on some"],
        ["bg-faint", "not ended"],
      ].map(([tone, words]) => (
        <li key={words}>
          <span aria-hidden className={clsx("inline-block h-2 w-2 rounded-full", tone)} /> {words}
        </li>
      ))}
      <li>
        <span aria-hidden className={clsx(box, "frozen border border-plum")} /> a freeze
      </li>
      <li>
        <span aria-hidden className={clsx(box, "border border-rule bg-side")} /> local night
      </li>
      {countedAt && (
        <li className="ml-auto" title={fullInstant(countedAt, zone)}>
          devices counted {relative(countedAt, now)}
        </li>
      )}
    </ul>
  );
}

function NoRows({ rows }: { rows: RowKind }) {
  if (rows === "group")
    return (
      <Empty title="No group has anything planned">
        Groups stand here once an open rollout, a scheduled command or a freeze is for them.
      </Empty>
    );
  return (
    <Empty title="No device yet">
      <Link to="/fleet" className="slot">
        Bring devices in
      </Link>
      ; then the calendar has a row for each of their {rows === "zone" ? "time zones" : "sites"}.
    </Empty>
  );
}
