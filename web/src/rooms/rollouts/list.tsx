/** Rollouts as strips: drafts, those that are open in the order of their rank, those that have ended. */
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { api, body, type Schemas } from "@/api/client";
import type { Stage } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { count } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Problem } from "@/parts/controls";
import { Choice, More, SearchField, useTypedWords } from "@/parts/list-parts";
import { RolloutStrip } from "@/parts/rollout-row";
import { Inline, Loaded } from "@/parts/views";
import { rollouts as rolloutsQuery } from "./queries";

const rolloutsRoute = getRouteApi("/rollouts");

type Row = Schemas["RolloutRow"];

const STAGES = [
  [undefined, "all"],
  ["open", "open"],
  ["draft", "drafts"],
  ["ended", "ended"],
] as const;

export function Rollouts() {
  usePageTitle("Rollouts");
  const mayOperate = useMay("operate");
  const { q: words = "", stage } = rolloutsRoute.useSearch();
  const navigate = useNavigate({ from: "/rollouts" });
  const [typed, setTyped] = useTypedWords(words, (found) =>
    navigate({ search: (s) => ({ ...s, q: found }), replace: true }),
  );
  const filter = { q: words || undefined };
  const shows = (s: Stage) => stage === undefined || stage === s;
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-4 flex flex-wrap items-center gap-4">
        <h1 className="text-2xl">Rollouts</h1>
        <SearchField
          label="Search rollouts"
          placeholder="Search version, group, person…"
          value={typed}
          onChange={setTyped}
        />
        <Choice
          label="Stage"
          options={STAGES}
          chosen={stage}
          onChoose={(value) => navigate({ search: (s) => ({ ...s, stage: value }), replace: true })}
        />
        <Link to="/rollouts/compare" search={{}} className="slot ml-auto">
          Compare two
        </Link>
        {mayOperate && (
          <Link to="/rollouts/new" className="rounded-sm border border-ink bg-ink px-3 py-1 font-semibold text-paper">
            New rollout
          </Link>
        )}
      </div>
      {shows("open") && <Section title="Open" filter={{ ...filter, stage: "open" }} ranked={!words} />}
      {shows("draft") && <Section title="Drafts" filter={{ ...filter, stage: "draft" }} />}
      {shows("ended") && <Section title="Ended" filter={{ ...filter, stage: "ended" }} />}
    </div>
  );
}

const NONE: Record<Stage, string> = {
  open: "No rollout is open.",
  draft: "No draft.",
  ended: "No rollout has ended yet.",
};

/** One stage of life, page by page. */
function Section({
  title,
  filter,
  ranked = false,
}: {
  title: string;
  filter: { stage: Stage; q?: string };
  ranked?: boolean;
}) {
  const found = useInfiniteQuery(rolloutsQuery(filter, filter.stage === "open" ? 100 : 20));
  return (
    <section className="mb-5" aria-label={title}>
      <h2 className="mb-1.5 text-[1.05rem]">
        {title}{" "}
        <span className="font-normal font-sans text-soft">
          <Inline of={found}>{(all) => count(all.pages[0]?.count ?? 0)}</Inline>
        </span>
      </h2>
      <Loaded
        of={found}
        what={`The list of rollouts (${title.toLowerCase()})`}
        rows={3}
        isEmpty={(all) => all.pages[0]?.count === 0}
        empty={<p className="text-soft">{filter.q ? `None of these match “${filter.q}”.` : NONE[filter.stage]}</p>}
      >
        {(all) => {
          const rows = all.pages.flatMap((p) => p.rollouts);
          return (
            <div className="rounded-md border border-rule bg-card">
              {ranked ? (
                <Open rows={rows.sort((a, b) => a.rank - b.rank || a.id - b.id)} />
              ) : (
                <ul>
                  {rows.map((r) => (
                    <RolloutStrip key={r.id} rollout={r} />
                  ))}
                </ul>
              )}
              <More of={found} shown={rows.length} all={all.pages[0]?.count ?? 0} what="rollouts" />
            </div>
          );
        }}
      </Loaded>
    </section>
  );
}

/** The open ones; a device in two of them belongs to the upper one. */
function Open({ rows }: { rows: Row[] }) {
  const client = useQueryClient();
  const order = useMutation({
    mutationFn: (ids: number[]) => body(api.PUT("/api/v1/rollouts/order", { body: { order: ids } })),
    onSettled: () => changed(client, "rollout"),
  });
  const ids = rows.map((r) => r.id);
  const move = (from: number, to: number) => {
    const next = [...ids];
    const [moved] = next.splice(from, 1);
    if (moved !== undefined) next.splice(to, 0, moved);
    order.mutate(next);
  };
  const mayOperate = useMay("operate");
  return (
    <>
      {rows.length > 1 && (
        <p className="border-rule border-b border-dashed px-4 py-1.5 text-soft">
          A device that is in two belongs to the upper one{mayOperate && "; drag them, or use the arrows"}.
        </p>
      )}
      <Problem error={order.error} />
      <ol>
        {rows.map((r, i) => (
          <RolloutStrip
            key={r.id}
            rollout={r}
            onDrop={mayOperate ? (id) => ids.includes(id) && move(ids.indexOf(id), i) : undefined}
            aside={
              rows.length > 1 &&
              mayOperate && (
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
    </>
  );
}
