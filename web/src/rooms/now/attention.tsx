/** What wants attention: open, put off and over; who knows of it, who looks after it, and how long each kind takes. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import clsx from "clsx";
import type { Schemas } from "@/api/client";
import { useLimits } from "@/api/use-may";
import { count, counted, span } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Card, Empty } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { AttentionItem } from "./attention-item";
import { Outages } from "./outages";
import { type AttentionState, attention as attentionQuery } from "./queries";

const route = getRouteApi("/attention");
const STATES: [AttentionState, string][] = [
  ["open", "Open"],
  ["snoozed", "Put off"],
  ["closed", "Over"],
];
const NOTHING: Record<AttentionState, [string, string]> = {
  open: ["Nothing wants attention", "What goes wrong with the fleet or the system comes up here by itself."],
  snoozed: ["Nothing is put off", "Put an item off where it can wait; it comes back by itself."],
  closed: ["Nothing is over yet", "An item closes by itself when its cause is gone."],
};
/** What the kinds of items are called where there is no item whose words would say it. */
const KINDS: Record<Schemas["AttentionItem"]["kind"], string> = {
  quarantined: "Quarantine",
  "fleet-silent": "The whole fleet silent",
  "unknown-zone": "Unknown time zones",
  "site-silent": "Sites that fell silent",
  silent: "Silent devices",
  "low-battery": "Low battery",
  "no-firmware": "No firmware reported",
  "awaiting-admission": "Waiting for admission",
  "stopped-part": "A part of the system stopped",
  "late-joiners": "Late joiners",
  missed: "Missed commands",
  unsettled: "Unsettled members",
  halted: "Rollouts that stopped themselves",
  stuck: "Rings that cannot go on",
  approval: "Waiting for an approval",
  "standing-in": "Standing in for an approver",
  "followed-list": "Lists kept elsewhere",
};

export function AttentionPage() {
  usePageTitle("Attention");
  const limits = useLimits();
  const address = route.useSearch();
  const navigate = route.useNavigate();
  const state = address.state ?? "open";
  const asked = useQuery(attentionQuery(state, address.mine ?? false));
  const counts = { open: asked.data?.open, snoozed: asked.data?.snoozed, closed: undefined };
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="mr-auto text-2xl">Attention</h1>
        <Link to="/record/mails" className="text-verdigris hover:underline">
          By mail
        </Link>
        <label className="flex items-center gap-1.5">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={address.mine ?? false}
            onChange={(e) => navigate({ search: { ...address, mine: e.target.checked || undefined }, replace: true })}
          />
          Only what I look after
        </label>
        <fieldset className="flex overflow-hidden rounded-sm border border-ink">
          <legend className="sr-only">State</legend>
          {STATES.map(([key, words]) => (
            <button
              key={key}
              type="button"
              aria-pressed={state === key}
              className={clsx(
                "min-h-[30px] border-ink px-3 font-semibold not-last:border-r",
                state === key ? "bg-ink text-card" : "bg-card hover:bg-side",
              )}
              onClick={() =>
                navigate({ search: { ...address, state: key === "open" ? undefined : key }, replace: true })
              }
            >
              {words} {counts[key] !== undefined && <span className="font-normal">{count(counts[key])}</span>}
            </button>
          ))}
        </fieldset>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)_290px] items-start gap-5 max-lg:grid-cols-1">
        <Loaded
          of={asked}
          what="What wants attention"
          rows={5}
          isEmpty={(d) => d.items.length === 0}
          empty={<Empty title={NOTHING[state][0]}>{NOTHING[state][1]}</Empty>}
        >
          {(data) => (
            <ul className="space-y-2.5" aria-label="Items">
              {data.items.map((item) => (
                <AttentionItem key={item.id} item={item} people={data.people} />
              ))}
            </ul>
          )}
        </Loaded>
        <div className="space-y-5">
          {limits === null && <Outages />}
          <TimesToClose times={asked.data?.times_to_close} />
        </div>
      </div>
    </div>
  );
}

function TimesToClose({ times }: { times?: Schemas["TimeToClose"][] }) {
  if (!times?.length) return null;
  return (
    <Card title="How long they take" aside="30 days">
      <table className="w-full">
        <thead className="text-left text-soft text-xs">
          <tr>
            <th className="font-normal">What</th>
            <th className="text-right font-normal">closed</th>
            <th className="text-right font-normal">half within</th>
          </tr>
        </thead>
        <tbody>
          {times.map((t) => (
            <tr key={t.kind}>
              <td>{KINDS[t.kind]}</td>
              <td className="text-right">{count(t.closed)}</td>
              <td className="text-right">{span(t.seconds)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-soft text-xs">
        Of{" "}
        {counted(
          times.reduce((n, t) => n + t.closed, 0),
          "item",
        )}{" "}
        that closed.
      </p>
    </Card>
  );
}
