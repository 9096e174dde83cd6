/** Record: who did what, the latest first. */
import { useQuery } from "@tanstack/react-query";
import { record as recordQuery } from "@/api/queries";
import { useClock } from "@/app/clock";
import { Empty, Problem } from "@/parts/controls";
import { fullInstant, instant } from "@/parts/format";

export function RecordRoom() {
  const { data, error } = useQuery(recordQuery);
  const { now, zone } = useClock();
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: nothing in it takes the focus, and it must scroll by keyboard
    <section aria-label="Record" tabIndex={0} className="h-full overflow-auto px-5 py-4">
      <h1 className="mb-1 text-2xl">Record</h1>
      <p className="mb-4 text-soft">Who did what to what, the latest 200. Only ever added to.</p>
      <Problem error={error} />
      {data?.length === 0 && <Empty title="Nothing happened yet" />}
      <ol className="rounded-md border border-rule bg-card">
        {data?.map((e) => (
          <li
            key={e.id}
            className="grid grid-cols-[7.8rem_9rem_8rem_1fr] gap-3 border-rule border-b px-4 py-1.5 last:border-0"
          >
            <time className="font-mono text-soft" dateTime={e.at} title={fullInstant(e.at, zone)}>
              {instant(e.at, zone, now)}
            </time>
            <span>{e.actor ?? <span className="text-soft">the clock</span>}</span>
            <span className="text-soft">
              {e.kind} {e.object_id}
            </span>
            <span>{e.sentence}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
