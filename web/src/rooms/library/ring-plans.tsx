/** Ring plans: rings kept under a name. Each change is a version of its own, and rollouts keep the one they took. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas } from "@/api/client";
import { groups as groupsQuery, ringPlans as plansQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { gateWords, whom } from "@/lib/ring-words";
import { Button, Empty, Problem } from "@/parts/controls";
import { Removal, Shelf } from "./shelf-table";

type Plan = Schemas["PlanRow"];

export function RingPlans() {
  const client = useQueryClient();
  const asked = useQuery(plansQuery);
  const groups = useQuery(groupsQuery);
  const drop = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/ring-plans/{plan_id}", { params: { path: { plan_id: id } } }),
    onSuccess: () => changed(client, "plans"),
  });
  return (
    <>
      <p className="mb-3 text-soft">
        Rings that several rollouts use. A change makes a new version; rollouts that took an earlier one keep it.
      </p>
      <Problem error={drop.error} />
      <Shelf
        of={asked}
        what="The ring plans"
        heads={["Plan", "Version", "Rings", "Saved", "Used by"]}
        empty={
          <Empty title="No ring plan">
            Write the rings of a rollout and save them there under a name; they are offered to the next one.
          </Empty>
        }
      >
        {(plan) => <Rows key={plan.id} plan={plan} groups={groups.data} onDrop={() => drop.mutate(plan.id)} />}
      </Shelf>
    </>
  );
}

/** A plan: its newest version, and on demand the ones before. */
function Rows({ plan, groups, onDrop }: { plan: Plan; groups: Schemas["GroupRow"][] | undefined; onDrop: () => void }) {
  const { now, zone } = useClock();
  const [all, setAll] = useState(false);
  const taken = plan.versions.reduce((n, v) => n + v.used_by, 0);
  return (all ? plan.versions : plan.versions.slice(0, 1)).map((version, i) => (
    <tr key={version.id} className={`align-top ${i === 0 ? "border-rule border-t" : ""}`}>
      <td className="px-3 py-1.5">
        {i === 0 && (
          <>
            <strong className="whitespace-nowrap font-semibold">{plan.name}</strong>
            {plan.note && <div className="max-w-[30ch] text-soft">{plan.note}</div>}
          </>
        )}
      </td>
      <td className="whitespace-nowrap px-3 py-1.5">
        {version.number}
        {i === 0 && plan.versions.length > 1 && (
          <Button kind="quiet" aria-expanded={all} onClick={() => setAll(!all)}>
            {all ? "only the newest" : `and ${plan.versions.length - 1} before`}
          </Button>
        )}
      </td>
      <td className="px-3 py-1.5">
        <ol>
          {version.rings.map((ring, at) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a ring is known by its place
            <li key={at}>
              <span className="text-soft">{at + 1}</span> <strong className="font-semibold">{ring.name}</strong>{" "}
              {groups ? whom(ring, groups) : "…"}
              {at < version.rings.length - 1 && <span className="text-soft">; {gateWords(ring)}</span>}
            </li>
          ))}
        </ol>
      </td>
      <td className="px-3 py-1.5">
        {instant(version.kept_at, zone, now)}
        {version.kept_by && <div className="text-soft">{version.kept_by}</div>}
      </td>
      <td className="px-3 py-1.5">{version.used_by ? counted(version.used_by, "rollout") : "none yet"}</td>
      <td className="whitespace-nowrap px-3 py-1 text-right">
        <Link to="/rollouts/new" search={{ plan: version.id }} className="slot mr-3">
          Roll out with it
        </Link>
        {i === 0 && (
          <Removal word="Delete…" title={`Delete the plan ${plan.name}?`} action="Delete the plan" onConfirm={onDrop}>
            It is no longer offered.{" "}
            {taken ? `${counted(taken, "rollout")} took its rings and keep them.` : "No rollout took it."} Saving rings
            under its name again brings it back.
          </Removal>
        )}
      </td>
    </tr>
  ));
}
