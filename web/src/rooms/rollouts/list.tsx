/** Rollouts as strips, those that are open first. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { rollouts as rolloutsQuery } from "@/api/queries";
import { Empty, Problem } from "@/parts/controls";
import { Strip } from "./strip";

const OPEN = new Set(["draft", "launching", "running", "paused", "halted"]);

export function Rollouts() {
  const { data, error } = useQuery(rolloutsQuery);
  const parts = [
    { title: "Open", rows: data?.filter((r) => OPEN.has(r.state)) ?? [] },
    { title: "Ended", rows: data?.filter((r) => !OPEN.has(r.state)) ?? [] },
  ];
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-4 flex items-center justify-between">
        <h1 className="text-2xl">Rollouts</h1>
        <Link to="/rollouts/new" className="rounded-sm border border-ink bg-ink px-3 py-1 font-semibold text-paper">
          New rollout
        </Link>
      </div>
      <Problem error={error} />
      {data?.length === 0 && (
        <Empty title="No rollout yet">
          A rollout puts one firmware image on a group, ring by ring.{" "}
          <Link to="/rollouts/new" className="slot">
            Write the first one.
          </Link>
        </Empty>
      )}
      {parts.map(
        (part) =>
          part.rows.length > 0 && (
            <section key={part.title} className="mb-5">
              <h2 className="mb-1.5 text-[1.05rem]">{part.title}</h2>
              <ul className="rounded-md border border-rule bg-card">
                {part.rows.map((r) => (
                  <Strip key={r.id} rollout={r} />
                ))}
              </ul>
            </section>
          ),
      )}
    </div>
  );
}
