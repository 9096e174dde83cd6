/** What went wrong in a rollout, first of all on its page: why it stopped, common causes, and the devices that failed. */
import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { api, body, type Schemas } from "@/api/client";
import { handOver, MOST_NAMED } from "@/api/handed-over";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, percent, relative } from "@/lib/format";
import { Button, Card, Problem } from "@/parts/controls";
import { Dial } from "@/parts/dial";
import { IN_MOTION, sum } from "@/parts/phases";
import { Loaded } from "@/parts/views";
import { CommonCauses } from "./common-causes";
import { rolloutDeliveries } from "./queries";

type Rollout = Schemas["RolloutDetail"];
const SHOWN = 8;

/** Whether a person should see the evidence before anything else. */
export function inTrouble(rollout: Rollout): boolean {
  return rollout.state === "halted" || (rollout.phases.failed ?? 0) > 0 || rollout.rings.some((r) => r.stuck);
}

export function Evidence({ rollout }: { rollout: Rollout }) {
  const failed = rollout.phases.failed ?? 0;
  return (
    <section aria-label="Evidence" className="mt-3 rounded-md border border-brick border-l-[5px] bg-card px-4 py-3">
      <h2 className="text-[1.15rem] text-brick">
        <span aria-hidden>■ </span>
        {headline(rollout)}
      </h2>
      <p className="mt-0.5">{figures(rollout)}</p>
      {failed > 0 && (
        <div className="mt-3 grid grid-cols-[minmax(280px,2fr)_3fr] gap-3 max-md:grid-cols-1">
          <CommonCauses rollout={rollout} />
          <FailedDevices rollout={rollout} failed={failed} />
        </div>
      )}
    </section>
  );
}

function headline(rollout: Rollout): string {
  if (rollout.state === "halted") return `Halted itself: ${rollout.reason}`;
  const stuck = rollout.rings.find((r) => r.stuck);
  if (stuck) return `The gate after ring ${stuck.position}, ${stuck.name}, cannot be met`;
  const failed = rollout.phases.failed ?? 0;
  const goesOn = rollout.state === "running" ? "; it goes on, as that is within its limit" : "";
  return `${counted(failed, "device")} failed${goesOn}`;
}

/** Measured beside needed, and what moves still. */
function figures(rollout: Rollout): string {
  const failed = rollout.phases.failed ?? 0;
  const parts = [
    rollout.tried
      ? `${count(failed)} of ${count(rollout.tried)} tried failed, ${percent(failed / rollout.tried)}; the limit is ${percent(rollout.failure_limit_pct / 100)}${rollout.failure_count_limit ? ` or ${counted(rollout.failure_count_limit, "device")}` : ""}`
      : "no device was tried yet",
  ];
  const atIt = sum(rollout.phases, IN_MOTION);
  if (atIt) parts.push(`${counted(atIt, "device is", "devices are")} at it and will finish`);
  const waiting = rollout.phases.waiting ?? 0;
  if (waiting && rollout.state === "halted") parts.push(`${counted(waiting, "device")} wait and are offered nothing`);
  return `${parts.join(". ").replace(/^n/, "N")}.`;
}

/** All devices that failed, by name. */
async function failedNames(id: number): Promise<string[]> {
  const names: string[] = [];
  let cursor: number | undefined;
  do {
    const page = await body(
      api.GET("/api/v1/rollouts/{rollout_id}/deliveries", {
        params: { path: { rollout_id: id }, query: { phase: "failed", limit: 1000, cursor } },
      }),
    );
    names.push(...page.deliveries.map((d) => d.device));
    cursor = page.next ?? undefined;
  } while (cursor !== undefined);
  return names;
}

function FailedDevices({ rollout, failed }: { rollout: Rollout; failed: number }) {
  const { now } = useClock();
  const found = useInfiniteQuery(rolloutDeliveries(rollout.id, { phase: "failed" }));
  const navigate = useNavigate();
  const mayOperate = useMay("operate");
  const hand = useMutation({
    mutationFn: () => failedNames(rollout.id),
    onSuccess: (names) => navigate({ to: "/commands/new", search: { devices: handOver(names) } }),
  });
  return (
    <Card
      title="Failed devices"
      aside={
        <Link
          to="/rollouts/$id"
          params={{ id: String(rollout.id) }}
          search={(s) => ({ ...s, phase: "failed" })}
          hash="devices"
          className="slot"
        >
          {failed > SHOWN ? `all ${count(failed)}` : "in the table below"}
        </Link>
      }
    >
      <Loaded of={found} what="The failed devices" rows={4}>
        {(all) => (
          <ul>
            {all.pages
              .flatMap((p) => p.deliveries)
              .slice(0, SHOWN)
              .map((d) => (
                <li
                  key={d.id}
                  className="flex min-h-[26px] items-center gap-x-2 border-rule border-t border-dashed max-md:flex-wrap"
                >
                  <Dial phase={d.phase} />
                  <Link
                    to="/devices/$name"
                    params={{ name: d.device }}
                    className="whitespace-nowrap font-semibold hover:underline"
                  >
                    {d.device}
                  </Link>
                  <code className="whitespace-nowrap font-mono text-brick text-xs" title={d.last_error_text}>
                    {d.last_error}
                  </code>
                  <span className="min-w-0 truncate text-soft">
                    {[d.model, d.site].filter(Boolean).join(", ")}
                    {d.firmware && `, reports ${d.firmware}`}
                  </span>
                  <span className="ml-auto whitespace-nowrap text-soft">{relative(d.phase_since, now)}</span>
                </li>
              ))}
          </ul>
        )}
      </Loaded>
      {mayOperate && (
        <Button
          kind="quiet"
          className="mt-1 px-0!"
          disabled={failed > MOST_NAMED || hand.isPending}
          aria-busy={hand.isPending || undefined}
          title={failed > MOST_NAMED ? `At most ${MOST_NAMED} devices are named; make a group of them` : undefined}
          onClick={() => hand.mutate()}
        >
          Run a command on {failed === 1 ? "it" : `the ${count(failed)}`}…
        </Button>
      )}
      <Problem error={hand.error} />
    </Card>
  );
}
