/** A ring as a lane: one dial a device, and the gate at its right end with measured against needed. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import clsx from "clsx";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant, percent, span } from "@/lib/format";
import { ofGroup } from "@/lib/ring-words";
import { gateWords } from "@/lib/status";
import { Bar, Button, Confirm, Problem } from "@/parts/controls";
import { DialField } from "@/parts/dial";
import { PhaseBar } from "@/parts/phase-bar";
import { summary } from "@/parts/phases";

interface Props {
  ring: Schemas["RingView"];
  rollout: Schemas["RolloutDetail"];
  marks?: Schemas["Mark"][];
  last: boolean;
  onPick: (device: string) => void;
}

const PER_ROW = 48;

export function Lane({ ring, rollout, marks, last, onPick }: Props) {
  return (
    <div className="grid grid-cols-[9.5rem_1fr_18rem] gap-4 max-md:grid-cols-1 max-md:gap-2 border-rule border-b border-dashed px-4 py-3.5 last:border-0">
      <div>
        <div className="flex items-baseline gap-2">
          <span className={clsx("font-bold font-display text-xl", ring.opened_at ? "text-verdigris" : "text-soft")}>
            {ring.position}
          </span>
          <h2 className="font-sans font-semibold">{ring.name}</h2>
        </div>
        <p className="text-soft">
          {counted(ring.size, "device")}
          <br />
          {whom(ring)}
        </p>
      </div>
      <div className="min-w-0 self-center">
        {ring.size === 0 ? (
          <p className="text-soft">Nobody is in this ring.</p>
        ) : marks ? (
          <DialField
            marks={marks}
            perRow={PER_ROW}
            label={`Ring ${ring.position}: ${summary(ring.phases)}`}
            onPick={onPick}
          />
        ) : (
          <PhaseBar phases={ring.phases} size={ring.size} />
        )}
        {ring.size > 0 && (
          <p className="mt-1.5 text-soft">
            <Link
              to="/rollouts/$id"
              params={{ id: String(rollout.id) }}
              search={(s) => ({ ...s, ring: ring.position })}
              hash="devices"
              className="hover:underline"
            >
              {summary(ring.phases)}
            </Link>
            {ring.lost > 0 && (
              <span className="text-brick">
                {" "}
                · {count(ring.lost)} of the confirmed are lost since: they count as failed
              </span>
            )}
          </p>
        )}
      </div>
      <Gate ring={ring} rollout={rollout} last={last} />
    </div>
  );
}

function whom(ring: Schemas["RingView"]): string {
  switch (ring.kind) {
    case "group":
      return ofGroup(ring.group?.name, ring.share_pct);
    case "share":
      return `${ring.share_pct}%, drawn`;
    case "number":
      return "drawn";
    default:
      return "all the rest";
  }
}

function Gate({
  ring,
  rollout,
  last,
}: {
  ring: Schemas["RingView"];
  rollout: Schemas["RolloutDetail"];
  last: boolean;
}) {
  const { now, zone } = useClock();
  if (last)
    return (
      <div className="border-rule border-l-[3px] pl-3 text-soft">
        {opening(ring, rollout, zone, now)}
        <br />
        {ring.gate.words}.
      </div>
    );
  const tone = ring.gate_met_at
    ? "border-verdigris"
    : ring.stuck
      ? "border-brick"
      : ring.opened_at
        ? "border-saffron"
        : "border-rule";
  return (
    <div className={clsx("border-l-[3px] pl-3", tone)}>
      <p className={clsx("font-semibold", ring.stuck && "text-brick", !ring.opened_at && "font-normal text-soft")}>
        {gateWords(ring, zone, now)}
      </p>
      {ring.opened_at &&
        ring.criteria.map((c) => (
          <div key={c.name} className="grid min-h-[22px] grid-cols-[5rem_1fr_auto] items-center gap-2">
            <span className="text-soft first-letter:uppercase">{WORDS[c.name] ?? c.name}</span>
            <Bar
              share={
                bounds(c.name) ? Math.min(1, c.measured / (c.needed * 2 || 1)) : c.needed ? c.measured / c.needed : 1
              }
              needed={bounds(c.name) ? 0.5 : 1}
              tone={bounds(c.name) ? "brick" : "verdigris"}
              label={`${WORDS[c.name] ?? c.name}: ${amount(c.name, c.measured)}, needed ${bounds(c.name) ? "at most " : ""}${amount(c.name, c.needed)}`}
            />
            <span className="min-w-[7.2rem] text-right text-xs">
              <span
                className={clsx("font-mono", c.met ? "" : "font-semibold", bounds(c.name) && !c.met && "text-brick")}
              >
                {amount(c.name, c.measured)}
              </span>{" "}
              <span className="text-soft">
                {c.name === "approval" ? "" : `${bounds(c.name) ? "≤" : "of"} ${amount(c.name, c.needed)}`}
              </span>
              <span className={c.met ? "text-verdigris" : "font-semibold text-brick"}>
                {" "}
                <span aria-hidden className="inline-block w-3">
                  {c.met ? "✓" : bounds(c.name) ? "✕" : ""}
                </span>
                <span className="sr-only">{c.met ? "met" : "not met"}</span>
              </span>
            </span>
          </div>
        ))}
      <Approval ring={ring} rollout={rollout} />
    </div>
  );
}

const WORDS: Record<string, string> = { unheard: "not tried", tried: "tried" };

/** Whether less is better: such a criterion is met below its mark. */
const bounds = (name: string) => name === "failures" || name === "unheard";

function amount(name: string, value: number): string {
  if (name === "soak") return span(value);
  if (name === "unheard" || name === "tried") return String(value);
  if (name === "approval") return value ? "given" : "none yet";
  return percent(value);
}

/** Somebody other than who launched agrees that the next ring may open. */
function Approval({ ring, rollout }: { ring: Schemas["RingView"]; rollout: Schemas["RolloutDetail"] }) {
  const client = useQueryClient();
  const approve = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/rollouts/{rollout_id}/approve-gate", {
          params: { path: { rollout_id: rollout.id } },
          body: { ring: ring.position },
        }),
      ),
    onSuccess: () => changed(client, "rollout"),
  });
  const mayApprove = useMay("approve");
  if (ring.approved_by) return <p className="text-soft">approved by {ring.approved_by}</p>;
  if (!ring.needs_approval || !ring.opened_at || ring.gate_met_at || rollout.ended_at) return null;
  const next = rollout.rings.find((r) => r.position === ring.position + 1);
  if (!mayApprove) return <p className="text-soft">An approver must agree.</p>;
  return (
    <>
      <Confirm
        trigger={<Button className="mt-1">Approve…</Button>}
        title={`Approve ring ${next?.position}, ${next?.name}?`}
        action={`Approve it for ${counted(next?.size ?? 0, "device")}`}
        onConfirm={() => approve.mutate()}
      >
        Ring {ring.position}: {summary(ring.phases)}. The next ring opens as soon as the rest of the gate is met.
      </Confirm>
      <Problem error={approve.error} />
    </>
  );
}

function opening(ring: Schemas["RingView"], rollout: Schemas["RolloutDetail"], zone: string, now: Date): string {
  if (ring.opened_at) return `Opened ${instant(ring.opened_at, zone, now)}`;
  if (rollout.ended_at) return "Never opened";
  return ring.position > 1 ? `Opens after ring ${ring.position - 1}` : "Opens at launch";
}
