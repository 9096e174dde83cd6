/** Scheduled commands as strips. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { schedules as schedulesQuery } from "@/api/queries";
import { useClock } from "@/app/clock";
import { Empty, Problem } from "@/parts/controls";
import { city, instant } from "@/parts/format";
import { summary } from "@/parts/phases";
import { sentenceText } from "@/parts/sentence";

export function Commands() {
  const { data, error } = useQuery(schedulesQuery);
  const { now, zone } = useClock();
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-4 flex items-center justify-between">
        <h1 className="text-2xl">Commands</h1>
        <Link to="/commands/new" className="rounded-sm border border-ink bg-ink px-3 py-1 font-semibold text-paper">
          New command
        </Link>
      </div>
      <Problem error={error} />
      {data?.length === 0 && (
        <Empty title="No command yet">
          A command makes the devices of a group do something, now or every day by their own clocks.{" "}
          <Link to="/commands/new" className="slot">
            Write the first one.
          </Link>
        </Empty>
      )}
      {data && data.length > 0 && (
        <ul className="rounded-md border border-rule bg-card">
          {data.map((s) => (
            <li key={s.id} className="border-rule border-b border-dashed last:border-0">
              <Link
                to="/commands/$id"
                params={{ id: String(s.id) }}
                search={{}}
                className="grid grid-cols-[1fr_16rem_15rem] items-center gap-5 px-4 py-3 hover:bg-side"
              >
                <div className="min-w-0">
                  <div className="font-semibold">{sentenceText(s.sentence)}</div>
                  <div className="text-soft">
                    {s.id} · {s.status.words}
                    {s.created_by && ` · by ${s.created_by}`}
                  </div>
                </div>
                <div className="text-soft">
                  {s.next_firing ? (
                    <>
                      next: {city(s.next_zone ?? "")} {instant(s.next_firing, zone, now)}{" "}
                      <span className="text-xs">(your clock)</span>
                    </>
                  ) : s.state === "ended" ? (
                    "ended"
                  ) : s.state === "paused" ? (
                    "paused"
                  ) : (
                    "no further firing"
                  )}
                </div>
                <div className="text-right text-soft">
                  {s.occurrences.length ? summary(s.phases) : "has not fired yet"}
                </div>
              </Link>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
