/** What happened, newest first. */
import { Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { fullInstant, instant } from "@/lib/format";
import { latestPerDevice } from "@/lib/latest";

export function Timeline({
  entries,
  showDevice = true,
  perDevice = false,
}: {
  entries: Schemas["TimelineEntry"][];
  showDevice?: boolean;
  /** only the newest of each device */
  perDevice?: boolean;
}) {
  const { now, zone } = useClock();
  if (entries.length === 0) return <p className="text-soft">Nothing happened yet.</p>;
  return (
    <ol className="space-y-1.5">
      {(perDevice ? latestPerDevice(entries) : entries.map((entry) => ({ entry, earlier: 0 }))).map(
        ({ entry: e, earlier }, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: entries have no id, and two may be alike
          <li key={`${e.at}${e.text}${i}`} className="grid grid-cols-[7.4rem_1fr] gap-2">
            <time className="font-mono text-soft" dateTime={e.at} title={fullInstant(e.at, zone)}>
              {instant(e.at, zone, now)}
            </time>
            <span className="min-w-0">
              {showDevice && e.device && (
                <Link to="/devices/$name" params={{ name: e.device }} className="font-semibold hover:underline">
                  {e.device}
                </Link>
              )}{" "}
              {e.text}
              {earlier > 0 && e.device && (
                <Link to="/devices/$name" params={{ name: e.device }} className="text-soft hover:underline">
                  {" "}
                  (+{earlier} earlier)
                </Link>
              )}
              {e.detail && <span className="block text-soft text-xs">{e.detail}</span>}
            </span>
          </li>
        ),
      )}
    </ol>
  );
}
