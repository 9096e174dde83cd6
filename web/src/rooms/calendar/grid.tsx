/** The rows of the calendar: local nights, freezes, hours of rollouts with their rings, and firings. */
import clsx from "clsx";
import { DateTime } from "luxon";
import { createContext, useContext } from "react";
import { useClock } from "@/lib/clock";
import { city, count, counted } from "@/lib/format";
import { nights } from "@/parts/zone-rows";
import { FiringPins } from "./firing-pins";
import { FreezeBand } from "./freeze-band";
import {
  type Answer,
  type Days,
  freezesIn,
  type Move,
  placeOf,
  rolloutsIn,
  type Span,
  stretch,
  ticksOf,
} from "./model";
import { RolloutLane } from "./rollout-lane";

/** More rollouts than these in a row are counted, and stand in the row's own list. */
const MOST_LANES = 3;

interface Grid {
  days: Days;
  span: Span;
  onMove: (move: Move) => void;
}
const GridContext = createContext<Grid | null>(null);

export function useGrid(): Grid {
  const grid = useContext(GridContext);
  if (!grid) throw new Error("There is no calendar around this");
  return grid;
}

export function CalendarGrid({
  answer,
  days,
  span,
  onMove,
  onOpen,
}: {
  answer: Answer;
  days: Days;
  span: Span;
  onMove: (move: Move) => void;
  onOpen: (row: string) => void;
}) {
  const { now, zone } = useClock();
  const ticks = ticksOf(span, days);
  const nowPlace = placeOf(now, days);
  return (
    <GridContext.Provider value={{ days, span, onMove }}>
      <div className="overflow-x-auto rounded-md border border-rule bg-card">
        <div className="relative max-md:min-w-[44rem]">
          <div className="flex border-rule border-b">
            <div className="w-48 shrink-0 px-3 py-1.5 text-soft text-xs max-md:w-24">times of {city(zone)}</div>
            <div className="relative h-9 flex-1">
              {ticks.map((t) => (
                <span
                  key={t.label}
                  className="absolute top-1.5 whitespace-nowrap pl-1 font-semibold text-xs"
                  style={{ left: `${placeOf(t.at, days) * 100}%` }}
                >
                  {t.label}
                </span>
              ))}
              {nowPlace > 0 && nowPlace < 1 && (
                <span
                  className="absolute bottom-0 z-20 -translate-x-1/2 rounded-t-sm bg-brick px-1 font-semibold text-[0.68rem] text-card leading-4"
                  style={{ left: `${nowPlace * 100}%` }}
                >
                  now
                </span>
              )}
            </div>
          </div>
          <div className="relative">
            <div className="pointer-events-none absolute inset-y-0 right-0 left-48 max-md:left-24" aria-hidden>
              {ticks.map((t) => (
                <span
                  key={t.label}
                  className="absolute inset-y-0 border-rule border-l"
                  style={{ left: `${placeOf(t.at, days) * 100}%` }}
                />
              ))}
              {nowPlace > 0 && nowPlace < 1 && (
                <span
                  className="absolute inset-y-0 z-[5] border-brick border-l-2"
                  style={{ left: `${nowPlace * 100}%` }}
                />
              )}
            </div>
            {answer.rows.map((row) => (
              <GridRow key={row.key} answer={answer} row={row} onOpen={() => onOpen(row.key)} />
            ))}
          </div>
        </div>
      </div>
    </GridContext.Provider>
  );
}

function GridRow({ answer, row, onOpen }: { answer: Answer; row: Answer["rows"][0]; onOpen: () => void }) {
  const { days, span } = useGrid();
  const rollouts = rolloutsIn(answer, row.key);
  const isZone = row.name === row.zone;
  const offset = DateTime.fromISO(answer.now, { zone: row.zone }).toFormat("'UTC'ZZ");
  return (
    <section className="flex border-rule border-t first:border-t-0" aria-label={isZone ? city(row.name) : row.name}>
      <div className="w-48 shrink-0 px-3 py-1.5 max-md:w-24">
        <button
          type="button"
          className="max-w-full truncate text-left font-semibold hover:underline"
          title={`${row.name}: all that stands in this row`}
          onClick={onOpen}
        >
          {isZone ? city(row.name) : row.name || "No site"}
        </button>
        <p className="text-soft text-xs">
          {isZone ? offset : row.zones > 1 ? `${row.zones} clocks` : city(row.zone)} · {counted(row.devices, "device")}
        </p>
      </div>
      <div className="relative min-h-16 min-w-0 flex-1 overflow-hidden pb-1" data-area>
        {(span === "day" || span === "week") &&
          nights(row.zone, days.start.toJSDate(), days.end.toJSDate()).map(([from, to]) => {
            const at = stretch(from.toISOString(), to.toISOString(), days);
            return at && <span key={at.left} aria-hidden className="absolute inset-y-0 bg-side" style={at} />;
          })}
        {freezesIn(answer, row.key).map((f) => (
          <FreezeBand key={`${f.id}${f.starts_at}`} freeze={f} row={row.key} />
        ))}
        {rollouts.slice(0, MOST_LANES).map((r) => (
          <RolloutLane key={r.id} rollout={r} row={row.key} />
        ))}
        {rollouts.length > MOST_LANES && (
          <button type="button" className="relative z-10 pl-1 text-soft text-xs hover:underline" onClick={onOpen}>
            and {count(rollouts.length - MOST_LANES)} more rollouts
          </button>
        )}
        <FiringPins answer={answer} row={row.key} onOpen={onOpen} />
      </div>
    </section>
  );
}

/** The class of something that can be dragged, as it is dragged. */
export const dragged = (isMovable: boolean, isDragged: boolean) =>
  clsx(isMovable && "cursor-grab", isDragged && "z-30 cursor-grabbing opacity-60");
