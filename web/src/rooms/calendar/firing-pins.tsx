/** Firings in a row: a pin as tall as it has devices and as wide as its spread; several in one place are one pin. */
import { Link } from "@tanstack/react-router";
import clsx from "clsx";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { OUT, sum, summary } from "@/parts/phases";
import { dragged, useGrid } from "./grid";
import {
  type Answer,
  canMove,
  marksIn,
  minutesOf,
  moveOf,
  type Pin,
  pinsOf,
  type RowMark,
  stretch,
  throngsIn,
} from "./model";
import { useDrag } from "./use-drag";

/** Pins nearer than this share of the span are one. */
const APART = 0.011;
const TALLEST = 20;

export function FiringPins({ answer, row, onOpen }: { answer: Answer; row: string; onOpen: () => void }) {
  const { days } = useGrid();
  const marks = marksIn(answer, row);
  const most = Math.max(1, ...marks.map((m) => m.devices));
  const pins = pinsOf(
    marks.filter((m) => stretch(m.at, m.ends_at, days)),
    days,
    APART,
  );
  const throngs = throngsIn(answer, row);
  const named = new Set<number>();
  let lastLabel = -1;
  return (
    <div className="relative h-9">
      {pins.map((pin) => {
        const [only] = pin.marks;
        if (!only || pin.marks.length > 1) return <Several key={pin.place} pin={pin} most={most} onOpen={onOpen} />;
        // each command is named once, where its name does not stand on another
        const isNamed = !named.has(only.schedule.id) && pin.place - lastLabel > 0.13;
        if (isNamed) {
          named.add(only.schedule.id);
          lastLabel = pin.place;
        }
        return <One key={`${only.schedule.id}${only.at}`} mark={only} most={most} isNamed={isNamed} />;
      })}
      {throngs.map((t) => {
        const at = stretch(t.first, t.last, days);
        return (
          at && (
            <Link
              key={`${t.schedule.id}${t.first}`}
              to="/commands/$id"
              params={{ id: String(t.schedule.id) }}
              search={{}}
              className="hatched absolute bottom-0 h-2 rounded-sm border border-rule"
              style={at}
              aria-label={`${nameOf(t.schedule)}: ${count(t.times)} times, up to ${counted(t.devices, "device")} each`}
              title={`${nameOf(t.schedule)}: ${count(t.times)} times, up to ${counted(t.devices, "device")} each`}
            />
          )
        );
      })}
    </div>
  );
}

const nameOf = (schedule: RowMark["schedule"]) => schedule.name || schedule.command;

/** How tall a pin of so many devices is, in pixels, beside the largest of its row. */
const height = (devices: number, most: number) => Math.max(8, Math.round(TALLEST * Math.sqrt(devices / most)));

function One({ mark, most, isNamed }: { mark: RowMark; most: number; isNamed: boolean }) {
  const { days, span, onMove } = useGrid();
  const { now, zone } = useClock();
  const what = { kind: "schedule", of: mark.schedule } as const;
  const isMovable = useMay("operate-all") && !mark.isPast && canMove(what);
  const { drag, handlers } = useDrag(isMovable, (_, dx, width) => {
    const move = moveOf(what, "both", minutesOf(dx, width, span === "season" ? "six-weeks" : span, days));
    if (move) onMove(move);
  });
  const at = stretch(mark.at, mark.ends_at, days);
  if (!at) return null;
  const went = mark.isPast ? `: ${summary(mark.phases)}` : `, for ${counted(mark.devices, "device")}`;
  const words = `${nameOf(mark.schedule)}, ${instant(mark.at, zone, now)}${went}`;
  const ended = mark.isPast ? toneOf(mark) : "bg-card border border-ink";
  return (
    <Link
      to="/commands/$id"
      params={{ id: String(mark.schedule.id) }}
      search={{}}
      className={clsx("absolute bottom-0 block touch-none", dragged(isMovable, drag !== null))}
      style={{
        left: at.left,
        width: at.width,
        minWidth: 8,
        height: height(mark.devices, most),
        transform: drag ? `translateX(${drag.dx}px)` : undefined,
      }}
      aria-label={words}
      title={isMovable ? `${words}; drag to move its time` : words}
      data-firing={mark.schedule.id}
      {...handlers("both")}
    >
      <span aria-hidden className="absolute inset-y-0 left-[3px] border-ink border-l-2" />
      <span aria-hidden className="absolute inset-x-0 bottom-0 h-0.5 bg-ink" />
      <span aria-hidden className={clsx("absolute top-0 left-0 h-2 w-2 rounded-full", ended)} />
      {isNamed && (
        <span className="absolute bottom-full left-0 mb-px whitespace-nowrap bg-card/70 text-[0.68rem] leading-3">
          {nameOf(mark.schedule)}
        </span>
      )}
    </Link>
  );
}

/** Past firings by how they went: failures before misses, misses before what has not ended. */
function toneOf(mark: RowMark): string {
  if (mark.phases.failed) return "bg-brick";
  if (sum(mark.phases, OUT)) return "bg-saffron";
  return mark.phases.confirmed === mark.devices ? "bg-verdigris" : "bg-faint";
}

function Several({ pin, most, onOpen }: { pin: Pin; most: number; onOpen: () => void }) {
  const devices = pin.marks.reduce((n, m) => n + m.devices, 0);
  const words = `${count(pin.marks.length)} firings of ${new Set(pin.marks.map((m) => m.schedule.id)).size} commands, ${counted(devices, "device")}`;
  return (
    <button
      type="button"
      className="absolute bottom-0 w-3.5 rounded-t-sm border border-ink bg-side text-center text-[0.62rem] leading-3"
      style={{ left: `${pin.place * 100}%`, height: height(Math.min(devices, most), most) }}
      aria-label={words}
      title={words}
      onClick={onOpen}
    >
      {pin.marks.length > 9 ? "+" : pin.marks.length}
    </button>
  );
}
