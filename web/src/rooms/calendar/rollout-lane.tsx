/** A rollout in a row: the hours in which it may install, and when its rings were or are expected to be under way. */
import { Link } from "@tanstack/react-router";
import clsx from "clsx";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { useGrid } from "./grid";
import { devicesIn, nameOf, type Ring, type Rollout, ringsIn, stretch, windowsIn } from "./model";
import { MovableBand } from "./movable-band";

const STATES: Record<Rollout["state"], string> = {
  draft: "a draft",
  launching: "is being launched",
  running: "running",
  paused: "paused",
  halted: "halted itself",
  stopped: "stopped",
  finished: "finished",
};

export function RolloutLane({ rollout, row }: { rollout: Rollout; row: string }) {
  const { days } = useGrid();
  const rings = ringsIn(rollout, row);
  const windows = windowsIn(rollout, row);
  const shown = [...windows.map((w) => w.starts_at), ...rings.map((r) => r.opens_at ?? "")].filter(
    (at) => stretch(at, days.end.toUTC().toISO() ?? "", days) !== null,
  );
  if (shown.length === 0) return null;
  const first = stretch(shown.sort()[0] ?? "", days.end.toUTC().toISO() ?? "", days);
  return (
    <div className="relative h-8">
      <p
        className="absolute top-0 z-10 max-w-full truncate pl-1 text-[0.7rem] leading-3.5"
        style={{ left: first?.left }}
      >
        <Link
          to="/rollouts/$id"
          params={{ id: String(rollout.id) }}
          search={{}}
          className="bg-card text-verdigris hover:underline"
        >
          {nameOf({ kind: "rollout", of: rollout })}
          {rollout.state !== "running" && <span className="text-soft">, {STATES[rollout.state]}</span>}
        </Link>
      </p>
      {windows.map((w) => (
        <Hours key={w.starts_at} rollout={rollout} from={w.starts_at} until={w.ends_at} />
      ))}
      {rings.map((ring) => (
        <RingBand key={ring.position} ring={ring} rollout={rollout} row={row} />
      ))}
    </div>
  );
}

function Hours({ rollout, from, until }: { rollout: Rollout; from: string; until: string }) {
  const { now, zone } = useClock();
  const what = { kind: "rollout", of: rollout } as const;
  return (
    <MovableBand
      what={what}
      from={from}
      until={until}
      words={`${nameOf(what)}: may install from ${instant(from, zone, now)} to ${instant(until, zone, now)}, ${counted(rollout.left, "device")} left`}
      hint="drag to move its hours"
      className="top-4 h-3.5 rounded-[3px] border border-verdigris bg-verdigris/15"
    />
  );
}

/** A ring from its opening to when it is through: solid what was or is sure, coming up between when it is expected to
 * open and the latest of that, and fading between the earliest and the latest end. */
function RingBand({ ring, rollout, row }: { ring: Ring; rollout: Rollout; row: string }) {
  const { days } = useGrid();
  const { now, zone } = useClock();
  const opens = ring.opens_at ?? "";
  const sure = ring.is_through || rollout.forecast_at === null ? (ring.through_at ?? now.toISOString()) : null;
  const until = sure ?? ring.through_low ?? ring.through_at ?? opens;
  const latest = sure ?? ring.through_high ?? days.end.toUTC().toISO() ?? until;
  const surely = ring.is_open ? opens : (ring.opens_high ?? opens);
  const coming = surely === opens ? null : stretch(opens, laterOf(surely, opens), days);
  const solid = Date.parse(until) > Date.parse(surely) ? stretch(surely, until, days) : null;
  const fading = until === latest ? null : stretch(laterOf(until, surely), latest, days);
  const words = ringWords(ring, devicesIn(ring.devices, row), zone, now);
  return (
    <>
      {coming && (
        <span
          className="absolute bottom-0 h-1 bg-gradient-to-l from-verdigris/60 to-transparent"
          style={coming}
          title={words}
        />
      )}
      {solid && (
        <span
          className={clsx(
            "absolute bottom-0 h-1",
            !coming && "rounded-l-full",
            ring.is_open ? "bg-verdigris" : "bg-verdigris/60",
          )}
          style={solid}
          title={words}
        />
      )}
      {fading && (
        <span
          className="absolute bottom-0 h-1 bg-gradient-to-r from-verdigris/60 to-transparent"
          style={fading}
          title={words}
        />
      )}
    </>
  );
}

const laterOf = (a: string, b: string) => (Date.parse(a) > Date.parse(b) ? a : b);

/** A ring in words: when it opens or opened, and when it is or was through. */
export function ringWords(ring: Ring, devices: number, zone: string, now: Date): string {
  const at = (moment: string) => instant(moment, zone, now);
  const who = `Ring ${ring.position}, ${ring.name}, ${counted(devices, "device")} here`;
  const opened = !ring.opens_at
    ? "not expected to open"
    : ring.is_open
      ? `opened ${at(ring.opens_at)}`
      : `expected to open ${at(ring.opens_at)}${ring.opens_high ? `, at the latest ${at(ring.opens_high)}` : ""}${ring.needs_approval ? ", once somebody approved it" : ""}`;
  const through = ring.is_through
    ? `through ${ring.through_at ? at(ring.through_at) : ""}`
    : ring.through_at
      ? `expected to be through ${at(ring.through_at)}${ring.through_high ? `, at the latest ${at(ring.through_high)}` : ""}`
      : "when it is through is not known";
  return `${who}: ${opened}, ${through}`;
}
