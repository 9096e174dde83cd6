/** A rollout as a strip: its sentence, where it stands, a bar of its rings. */
import { Link } from "@tanstack/react-router";
import type { DragEvent, ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/app/clock";
import { IN_MOTION, OUT, sum, summary } from "@/parts/phases";
import { statusWords } from "./status";

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

export function Strip({
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
        className="grid min-w-0 flex-1 grid-cols-[1fr_minmax(180px,280px)_13rem] items-center gap-5 px-4 py-3 hover:bg-side"
      >
        <div className="min-w-0">
          <div className="truncate">
            <strong>{rollout.target}</strong> <span className="text-soft">on</span> {rollout.audience || "nobody yet"}
          </div>
          <div className="truncate text-soft">
            {rollout.id} · {statusWords(rollout.status, zone, now)}
          </div>
        </div>
        <RingBar rollout={rollout} />
        <div className="text-right text-soft">{rollout.total ? summary(rollout.phases) : "not launched"}</div>
      </Link>
    </li>
  );
}
