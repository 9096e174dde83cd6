/** A rollout as a strip: its sentence, status, a bar of its rings. */
import { Link } from "@tanstack/react-router";
import type { DragEvent, ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { fullInstant, instant, relative } from "@/lib/format";
import { statusWords } from "@/lib/status";
import { IN_MOTION, OUT, sum, summary } from "@/parts/phases";

type Row = Schemas["RolloutRow"];

/** The rings side by side, each as wide as its share of the devices. */
export function RingBar({ rollout }: { rollout: Row }) {
  const total = rollout.total || 1;
  let from = 0;
  return (
    <svg
      viewBox="0 0 300 14"
      className="h-[14px] w-full"
      preserveAspectRatio="none"
      role="img"
      aria-label={summary(rollout.phases)}
    >
      {rollout.rings.map((ring) => {
        const width = (ring.size / total) * 300;
        const start = from;
        from += width;
        const parts: [number, string][] = [
          [ring.phases.confirmed ?? 0, "var(--verdigris)"],
          [sum(ring.phases, IN_MOTION), "var(--saffron)"],
          [ring.phases.failed ?? 0, "var(--brick)"],
          [sum(ring.phases, OUT), "var(--faint)"],
        ];
        let x = start;
        return (
          <g key={ring.id}>
            <rect x={start} width={Math.max(0, width - 1.5)} height="14" fill="var(--rule)" />
            {parts.map(([n, color]) => {
              const w = (n / total) * 300;
              const at = x;
              x += w;
              return n ? <rect key={color} x={at} width={Math.max(0.8, w - 1)} height="14" fill={color} /> : null;
            })}
          </g>
        );
      })}
    </svg>
  );
}

/** When it was written, launched and ended, or is expected to be through. */
function When({ rollout }: { rollout: Row }) {
  const { now, zone } = useClock();
  const at = (moment: string) => <span title={fullInstant(moment, zone)}>{instant(moment, zone, now)}</span>;
  if (!rollout.launched_at) return <>created {at(rollout.created_at)}</>;
  const { forecast } = rollout;
  return (
    <>
      launched {at(rollout.launched_at)}
      {rollout.launched_by && ` by ${rollout.launched_by}`}
      {rollout.ended_at && <> · ended {at(rollout.ended_at)}</>}
      {forecast && (
        <span title={`forecast ${relative(forecast.at, now)}`}>
          {" · "}
          {forecast.median ? (
            <>
              {Date.parse(forecast.median) < now.getTime() ? "was expected" : "expected"} through {at(forecast.median)}
              {forecast.low && forecast.high && forecast.low !== forecast.high && (
                <>
                  {" "}
                  ({at(forecast.low)} to {at(forecast.high)})
                </>
              )}
            </>
          ) : (
            <span className="text-brick">not expected to get through by itself</span>
          )}
        </span>
      )}
    </>
  );
}

export function RolloutStrip({
  rollout,
  aside,
  onDrop,
}: {
  rollout: Row;
  aside?: ReactNode;
  /** another strip, by its rollout's id, was let go on this one */
  onDrop?: (id: number) => void;
}) {
  const { now, zone } = useClock();
  const drag = onDrop && {
    draggable: true,
    onDragStart: (e: DragEvent) => e.dataTransfer.setData("text/rollout", String(rollout.id)),
    onDragOver: (e: DragEvent) => e.preventDefault(),
    onDrop: (e: DragEvent) => onDrop(Number(e.dataTransfer.getData("text/rollout"))),
  };
  return (
    <li className="flex items-center border-rule border-b border-dashed last:border-0" {...drag}>
      {aside}
      <Link
        to="/rollouts/$id"
        params={{ id: String(rollout.id) }}
        search={{}}
        className="grid min-w-0 flex-1 grid-cols-[1fr_minmax(190px,22rem)] items-center gap-5 px-4 py-3 hover:bg-side max-md:grid-cols-1 max-md:gap-2"
      >
        <div className="min-w-0">
          <div className="truncate">
            {rollout.name && <span className="text-soft">{rollout.name}: </span>}
            <strong>{rollout.target}</strong> <span className="text-soft">on</span>{" "}
            {rollout.audience || "no device yet"}
          </div>
          <div className="text-soft">
            {rollout.id} · {statusWords(rollout.status, zone, now)}
            {rollout.ticket && ` · ${rollout.ticket}`}
          </div>
          <div className="text-soft">
            <When rollout={rollout} />
          </div>
        </div>
        <div>
          {rollout.total > 0 && <RingBar rollout={rollout} />}
          <p className="text-soft">{rollout.total ? summary(rollout.phases) : "not launched"}</p>
        </div>
      </Link>
    </li>
  );
}
