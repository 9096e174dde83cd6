/** The consequence column: preflight with counted reasons, and the launch. */
import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { rollout as rolloutQuery } from "@/api/queries";
import { Conflicts } from "@/parts/conflicts";
import { Button, Problem } from "@/parts/controls";
import { count, counted } from "@/parts/format";
import { isCount, TypedCount } from "@/parts/typed-count";
import { Behind } from "./behind";
import { Rehearsal } from "./forecast";

export const preflight = (id: number) =>
  queryOptions({
    queryKey: ["preflight", id],
    queryFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/preflight", { params: { path: { rollout_id: id } } })),
    refetchInterval: 15_000,
    enabled: id > 0,
  });

const SHAPE: Record<string, [string, string]> = {
  straight: ["●", "text-verdigris"],
  via: ["●", "text-verdigris"],
  outranked: ["◐", "text-plum"],
  frozen: ["◐", "text-plum"],
  no_target: ["▪", "text-brick"],
  promised: ["◐", "text-plum"],
  late: ["◆", "text-saffron"],
  already: ["●", "text-verdigris"],
};

export function Consequences({
  rollout,
  gaps,
  isKept,
}: {
  rollout: Schemas["RolloutDetail"] | null;
  gaps: string[];
  isKept: boolean;
}) {
  const { data, error, isPending } = useQuery(preflight(rollout?.id ?? 0));
  const [behind, setBehind] = useState<string | null>(null);
  return (
    <aside className="overflow-auto border-rule border-l bg-side px-4 py-4" aria-label="Preflight">
      <h2 className="text-[1.1rem]">Preflight</h2>
      {gaps.length > 0 && <p className="text-soft">Still missing: {gaps.join("; ")}.</p>}
      {isPending && gaps.length === 0 && <p className="text-soft">Counting…</p>}
      <Problem error={error} />
      {data && (
        <>
          {data.past_failures.map((f) => (
            <p key={f} className="my-1 font-semibold text-brick">
              <span aria-hidden>■ </span>
              {f}.
            </p>
          ))}
          <p className="text-soft" aria-live="polite">
            {count(data.audience)} matched · <strong className="text-ink">{count(data.reached)} will take part</strong>{" "}
            · {count(data.audience - data.reached)} not
            {data.hops > 0 && `, by way of ${counted(data.hops, "more install")}`}
          </p>
          <ul className="mt-2">
            {data.outcomes.map((o) => {
              const [shape, tone] = SHAPE[o.outcome] ?? ["–", "text-soft"];
              return (
                <li key={o.outcome}>
                  <button
                    type="button"
                    onClick={() => setBehind(o.outcome)}
                    className="grid min-h-[30px] w-full grid-cols-[1.3rem_1fr_auto] items-center text-left hover:bg-paper"
                    title="Show these devices"
                  >
                    <span aria-hidden className={tone}>
                      {shape}
                    </span>
                    <span className={o.takes_part ? "" : "text-soft"}>{o.words}</span>
                    <strong>{count(o.count)}</strong>
                  </button>
                </li>
              );
            })}
            {data.lacking.map((l) => (
              <li key={l.function}>
                <button
                  type="button"
                  onClick={() => setBehind(l.function)}
                  className="grid min-h-[30px] w-full grid-cols-[1.3rem_1fr_auto] items-center text-left hover:bg-paper"
                  title="Show these devices"
                >
                  <span aria-hidden className="text-saffron">
                    ◆
                  </span>
                  <span>of those that take part, {l.words}</span>
                  <strong>{count(l.count)}</strong>
                </button>
              </li>
            ))}
            {data.in_no_ring > 0 && (
              <li className="grid min-h-[30px] grid-cols-[1.3rem_1fr_auto] items-center text-brick">
                <span aria-hidden>▪</span>
                <span>no ring takes them: they are left out</span>
                <strong>{count(data.in_no_ring)}</strong>
              </li>
            )}
          </ul>
          {rollout && <Clashes id={rollout.id} />}
          {rollout && data.reached > 0 && (
            <>
              <hr className="my-4 border-rule" />
              <Rehearsal rollout={rollout} />
            </>
          )}
          <hr className="my-4 border-rule" />
          <Launch rollout={rollout} data={data} isReady={isKept && gaps.length === 0} />
        </>
      )}
      {rollout && behind && (
        <Behind
          id={rollout.id}
          outcome={behind}
          words={
            data?.outcomes.find((o) => o.outcome === behind)?.words ??
            data?.lacking.find((l) => l.function === behind)?.words ??
            ""
          }
          onClose={() => setBehind(null)}
        />
      )}
    </aside>
  );
}

/** What else wants these devices, and what will happen. */
function Clashes({ id }: { id: number }) {
  const { data, error } = useQuery({
    queryKey: ["preflight", id, "clashes"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/clashes", { params: { path: { rollout_id: id } } })),
    refetchInterval: 30_000,
  });
  if (!error && !data?.length) return null;
  return (
    <section className="mt-3">
      <h2 className="text-[1.1rem]">Conflicts</h2>
      <Problem error={error} />
      <Conflicts rows={data ?? []} />
    </section>
  );
}

function Launch({
  rollout,
  data,
  isReady,
}: {
  rollout: Schemas["RolloutDetail"] | null;
  data: Schemas["PreflightView"];
  isReady: boolean;
}) {
  const client = useQueryClient();
  const [typed, setTyped] = useState("");
  const [reason, setReason] = useState("");
  const launch = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/rollouts/{rollout_id}/launch", {
          params: { path: { rollout_id: rollout?.id ?? 0 } },
          body: { devices: Number(typed), reason },
        }),
      ),
    onSuccess: (launched) => {
      client.setQueryData(rolloutQuery(launched.id).queryKey, launched);
      client.invalidateQueries({ queryKey: ["rollout"] });
    },
    onError: () => client.invalidateQueries({ queryKey: ["preflight", rollout?.id] }),
  });
  const unset = data.outcomes.find((o) => o.outcome === "no_target")?.count ?? 0;
  const failedBefore = data.past_failures.length > 0;
  const isSaid = !failedBefore || reason.trim() !== "";
  const matches = isCount(typed, data.reached, data.leeway);
  return (
    <section>
      <h2 className="text-[1.1rem]">Launch</h2>
      {unset > 0 ? (
        <p className="text-brick">
          {counted(unset, "device has", "devices have")} no target: choose one for the model, or leave it out.
        </p>
      ) : data.reached === 0 ? (
        <p className="text-brick">Nobody would take part, so it cannot be launched.</p>
      ) : (
        <p className="text-soft">
          Reaches {counted(data.reached, "device")}, {count(data.rings[0]?.devices ?? 0)} of them in the first ring, as
          soon as their window is open. Type the number of devices to launch.
        </p>
      )}
      {failedBefore && (
        <div className="mt-2 rounded-sm border border-brick p-2">
          <label className="block">
            <span className="font-semibold text-soft">It failed before. Why send it all the same?</span>
            <input
              className="field mt-1 w-full"
              maxLength={300}
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
          </label>
        </div>
      )}
      <form
        className="mt-2 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (matches && isReady && isSaid) launch.mutate();
        }}
      >
        <TypedCount reached={data.reached} value={typed} onChange={setTyped} />
        <Button kind="main" type="submit" disabled={!matches || !isReady || !isSaid || unset > 0 || launch.isPending}>
          Launch
        </Button>
      </form>
      <div className="mt-2">
        <Problem error={launch.error} />
      </div>
    </section>
  );
}
