/** The consequence column: preflight with counted reasons, and the launch. */
import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { Conflicts } from "@/parts/conflicts";
import { Button, Problem } from "@/parts/controls";
import { isCount, TypedCount } from "@/parts/typed-count";
import { Failed, Loaded, Skeleton, Stale } from "@/parts/views";
import { Rehearsal } from "./forecast";
import { OutcomeDevices } from "./outcome-devices";
import { rollout as rolloutQuery } from "./queries";

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
  const asked = useQuery({ ...preflight(rollout?.id ?? 0), enabled: rollout !== null });
  const { data } = asked;
  const [behind, setBehind] = useState<string | null>(null);
  return (
    <aside className="flex min-h-0 flex-col border-rule border-l bg-side" aria-label="Preflight">
      <div className="min-h-0 flex-1 overflow-auto px-4 py-4">
        <h2 className="text-[1.1rem]">Preflight</h2>
        {gaps.length > 0 && <p className="text-soft">Still missing: {gaps.join("; ")}.</p>}
        {gaps.length === 0 && !data && !asked.error && (
          <>
            <p className="text-soft">Counting…</p>
            <Skeleton rows={6} />
          </>
        )}
        {asked.error && (data ? <Stale what="The counts" of={asked} /> : <Failed what="The preflight" of={asked} />)}
        {data && !isKept && gaps.length === 0 && !asked.error && (
          <p role="status" data-state="older" className="bg-wash px-2 py-1">
            These are the counts before your last change; counting anew…
          </p>
        )}
        {data && (
          <>
            {data.past_failures.map((f) => (
              <p key={f} className="my-1 font-semibold text-brick">
                <span aria-hidden>■ </span>
                {f}.
              </p>
            ))}
            <p className="text-soft" aria-live="polite">
              {count(data.audience)} matched ·{" "}
              <strong className="text-ink">{count(data.reached)} will take part</strong> ·{" "}
              {count(data.audience - data.reached)} not
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
                      <span className={o.takes_part ? "" : "text-soft"}>
                        {o.words}
                        {o.amounts && `: ${o.amounts}`}
                      </span>
                      <strong>{count(o.count)}</strong>
                    </button>
                  </li>
                );
              })}
              {data.lacking.map((l) => (
                <li key={l.capability}>
                  <button
                    type="button"
                    onClick={() => setBehind(l.capability)}
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
            {rollout && <DraftConflicts id={rollout.id} />}
            {rollout && data.reached > 0 && (
              <>
                <hr className="my-4 border-rule" />
                <Rehearsal rollout={rollout} />
              </>
            )}
          </>
        )}
      </div>
      {data && (
        <div className="border-rule border-t px-4 py-3">
          <Launch rollout={rollout} data={data} isReady={isKept && gaps.length === 0} />
        </div>
      )}
      {rollout && behind && (
        <OutcomeDevices
          id={rollout.id}
          outcome={behind}
          words={
            data?.outcomes.find((o) => o.outcome === behind)?.words ??
            data?.lacking.find((l) => l.capability === behind)?.words ??
            ""
          }
          onClose={() => setBehind(null)}
        />
      )}
    </aside>
  );
}

/** What else wants these devices, and what will happen. */
function DraftConflicts({ id }: { id: number }) {
  const asked = useQuery({
    queryKey: ["preflight", id, "conflicts"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/conflicts", { params: { path: { rollout_id: id } } })),
    refetchInterval: 30_000,
  });
  return (
    <section className="mt-3">
      <h2 className="text-[1.1rem]">Conflicts</h2>
      <Loaded
        of={asked}
        what="The conflicts"
        rows={1}
        empty={<p className="text-soft">None: nothing else wants these devices.</p>}
      >
        {(rows) => <Conflicts rows={rows} />}
      </Loaded>
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
      changed(client, "rollout");
    },
    onError: () => changed(client, "draft", rollout?.id),
  });
  const unset = data.outcomes.find((o) => o.outcome === "no_target")?.count ?? 0;
  const failedBefore = data.past_failures.length > 0;
  const isSaid = !failedBefore || reason.trim() !== "";
  const matches = isCount(typed, data.reached, data.leeway);
  return (
    <section id="launch" tabIndex={-1} aria-labelledby="launch-title">
      <h2 id="launch-title" className="text-[1.1rem]">
        Launch
      </h2>
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
