/** Rollouts as strips: drafts, those that are open in the order of their rank, those that have ended. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, body, type Schemas } from "@/api/client";
import { rollouts as rolloutsQuery } from "@/api/queries";
import { Button, Empty, Problem } from "@/parts/controls";
import { Strip } from "./strip";

type Row = Schemas["RolloutRow"];

export function Rollouts() {
  const { data, error } = useQuery(rolloutsQuery);
  const isOpen = (r: Row) => r.launched_at !== null && r.ended_at === null;
  const parts = [
    { title: "Drafts", rows: data?.filter((r) => r.launched_at === null) ?? [] },
    { title: "Ended", rows: data?.filter((r) => r.launched_at !== null && r.ended_at !== null) ?? [] },
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
          A rollout puts new firmware on a group, ring by ring.{" "}
          <Link to="/rollouts/new" className="slot">
            Write the first one.
          </Link>
        </Empty>
      )}
      {data && <Open rows={data.filter(isOpen).sort((a, b) => a.rank - b.rank || a.id - b.id)} />}
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

/** The open ones; a device in two of them belongs to the upper one. */
function Open({ rows }: { rows: Row[] }) {
  const client = useQueryClient();
  const order = useMutation({
    mutationFn: (ids: number[]) => body(api.POST("/api/v1/rollouts/rank", { body: { order: ids } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["rollout"] }),
  });
  const ids = rows.map((r) => r.id);
  const move = (from: number, to: number) => {
    const next = [...ids];
    const [moved] = next.splice(from, 1);
    if (moved !== undefined) next.splice(to, 0, moved);
    order.mutate(next);
  };
  if (rows.length === 0) return null;
  return (
    <section className="mb-5">
      <div className="mb-1.5 flex items-baseline gap-3">
        <h2 className="text-[1.05rem]">Open</h2>
        {rows.length > 1 && (
          <p className="text-soft">a device that is in two belongs to the upper one; drag, or use the arrows</p>
        )}
      </div>
      <Problem error={order.error} />
      <ol className="rounded-md border border-rule bg-card">
        {rows.map((r, i) => (
          <Strip
            key={r.id}
            rollout={r}
            onDrop={(id) => ids.includes(id) && move(ids.indexOf(id), i)}
            aside={
              rows.length > 1 && (
                <span className="flex flex-none">
                  <Button
                    kind="quiet"
                    aria-label={`Rank rollout ${r.id} higher`}
                    disabled={i === 0 || order.isPending}
                    onClick={() => move(i, i - 1)}
                  >
                    ↑
                  </Button>
                  <Button
                    kind="quiet"
                    aria-label={`Rank rollout ${r.id} lower`}
                    disabled={i === rows.length - 1 || order.isPending}
                    onClick={() => move(i, i + 1)}
                  >
                    ↓
                  </Button>
                </span>
              )
            }
          />
        ))}
      </ol>
    </section>
  );
}
