/** Now on the screen of a wall: large, for several people at a distance, with nothing to press and nothing to scroll. */
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type ReactNode, useEffect } from "react";
import type { Schemas } from "@/api/client";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant, relative } from "@/lib/format";
import { statusWords } from "@/lib/status";
import { summary } from "@/parts/phases";
import { RingBar } from "@/parts/rollout-row";
import { headline, MARK } from "./now-words";
import { standing } from "./queries";
import { standingWords } from "./standing-words";

type Data = Schemas["NowView"];
/** so many of each are seen from afar; of the others it is said how many they are */
const MOST = { decisions: 3, running: 4, coming: 5, attention: 7 };

export function Wall({ data }: { data: Data }) {
  const { now, zone } = useClock();
  const moving = data.moving.filter((r) => r.status.code === "moving").length;
  useLeaving();
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_minmax(300px,32%)] overflow-hidden">
      <div className="overflow-hidden px-[1.1em] py-[0.8em]">
        <h1 className="text-[1.85em] leading-tight">
          {headline(data.decisions.length, moving, data.moving.length, data.troubles.length > 0, "for a decision")}
        </h1>
        <p className="mt-1 text-soft">
          {counted(data.devices, "device")} · {count(data.heard)} heard from in the last {data.heard_within_minutes} min
          {data.counted_at && `, counted ${relative(data.counted_at, now)}`}
        </p>
        <Standing />
        {data.paused && (
          <p className="mt-3 bg-wash px-3 py-1.5">
            <strong>Everything is paused</strong> since {instant(data.paused.began_at, zone, now)}
            {data.paused.paused_by && ` by ${data.paused.paused_by}`}.
          </p>
        )}
        <Part title="Waits for a decision" of={data.decisions} most={MOST.decisions} none="Nothing.">
          {(d) => {
            const [shape, tone] = MARK[d.kind as keyof typeof MARK] ?? MARK.stuck;
            return (
              <li key={`${d.kind}${d.rollout}`} className="flex gap-3 py-1">
                <span className={tone} aria-hidden>
                  {shape}
                </span>
                <div className="min-w-0">
                  <strong className="block truncate">{d.title}</strong>
                  <span className="block truncate text-soft">{d.detail}</span>
                </div>
              </li>
            );
          }}
        </Part>
        <Part title="Running" of={data.moving} most={MOST.running} none="No rollout is running.">
          {(r) => (
            <li key={r.id} className="py-1.5">
              <div className="truncate">
                <strong>{r.target}</strong> <span className="text-soft">on</span> {r.audience || "no device yet"}
              </div>
              <div className="my-1 [&_svg]:h-[1em]">{r.total > 0 && <RingBar rollout={r} />}</div>
              <div className="truncate text-soft">
                {r.total ? summary(r.phases) : "not launched"} · {statusWords(r.status, zone, now)}
              </div>
            </li>
          )}
        </Part>
      </div>
      <aside
        className="overflow-hidden border-rule border-l bg-side px-[1em] py-[0.8em]"
        aria-label="What comes and what wants attention"
      >
        <Part title="The next 24 hours" of={data.coming} most={MOST.coming} none="Nothing comes by itself.">
          {(c) => (
            <li key={`${c.at}${c.kind}${c.id}${c.zone}`} className="flex gap-[0.7em] py-0.5">
              <span className="whitespace-nowrap font-mono text-soft">{instant(c.at, zone, now)}</span>
              <span className="line-clamp-2">
                {c.text} <span className="text-soft">{count(c.devices)}</span>
              </span>
            </li>
          )}
        </Part>
        <Part title="Wants attention" of={data.attention} most={MOST.attention} none="Nothing.">
          {(a) => (
            <li key={a.id} className="flex justify-between gap-3 py-0.5">
              <span className={`line-clamp-2 ${a.kind === "quarantined" ? "text-brick" : ""}`}>{a.text}</span>
              {a.count !== null && <strong>{count(a.count)}</strong>}
            </li>
          )}
        </Part>
      </aside>
    </div>
  );
}

/** A part of the wall: the first of what it lists, and how many more there are. */
function Part<T>({
  title,
  of,
  most,
  none,
  children,
}: {
  title: string;
  of: T[];
  most: number;
  none: string;
  children: (one: T) => ReactNode;
}) {
  return (
    <section className="mt-[0.9em] first:mt-0">
      <h2 className="mb-1 text-[1.05em]">{title}</h2>
      <ul>{of.slice(0, most).map(children)}</ul>
      {of.length === 0 && <p className="text-soft">{none}</p>}
      {of.length > most && <p className="text-soft">and {count(of.length - most)} more</p>}
    </section>
  );
}

function Standing() {
  const { now, zone } = useClock();
  const limits = useLimits();
  const { data } = useQuery({ ...standing, enabled: limits === null }); // its samples count the whole fleet
  return (
    <p className="min-h-[1.4em]">
      {limits !== null
        ? "This is a part of the fleet. What reaches beyond it is not shown."
        : data && data.devices > 0 && standingWords(data, (at) => instant(at, zone, now))}
    </p>
  );
}

/** Whoever is at the keys leaves the wall by Escape. */
function useLeaving() {
  const navigate = useNavigate();
  useEffect(() => {
    const leave = (e: KeyboardEvent) => {
      if (e.key === "Escape") void navigate({ to: "/", search: {} });
    };
    document.addEventListener("keydown", leave);
    return () => document.removeEventListener("keydown", leave);
  }, [navigate]);
}
