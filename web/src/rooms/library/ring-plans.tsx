/** Ring plans: rings kept under a name. Each change is a version of its own, and rollouts keep the one they took. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas } from "@/api/client";
import { groups as groupsQuery, plans as plansQuery } from "@/api/queries";
import { useClock } from "@/app/clock";
import { Button, Empty, Problem } from "@/parts/controls";
import { counted, instant } from "@/parts/format";
import { gateWords, whom } from "../rollouts/ring-words";
import { Removal, ShelfTable } from "./shelf-table";

type Plan = Schemas["PlanRow"];

export function RingPlans() {
  const client = useQueryClient();
  const { data, error } = useQuery(plansQuery);
  const drop = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/plans/{plan_id}", { params: { path: { plan_id: id } } }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["plans"] }),
  });
  return (
    <>
      <p className="mb-3 text-soft">
        Rings that several rollouts use. A change makes a new version; rollouts that took an earlier one keep it.
      </p>
      <Problem error={error ?? drop.error} />
      {data?.length === 0 && (
        <Empty title="No ring plan">
          Write the rings of a rollout and keep them there under a name; they are offered to the next one.
        </Empty>
      )}
      {data && data.length > 0 && (
        <ShelfTable heads={["Plan", "Version", "Its rings", "Kept", "Taken by"]}>
          {data.map((plan) => (
            <Rows key={plan.id} plan={plan} onDrop={() => drop.mutate(plan.id)} />
          ))}
        </ShelfTable>
      )}
    </>
  );
}

/** A plan: its newest version, and on demand the ones before. */
function Rows({ plan, onDrop }: { plan: Plan; onDrop: () => void }) {
  const { now, zone } = useClock();
  const { data: groups } = useQuery(groupsQuery);
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
              {whom(ring, groups ?? [])}
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
          <Removal word="Put away…" title={`Put the plan ${plan.name} away?`} action="Put it away" onConfirm={onDrop}>
            It is offered no more.{" "}
            {taken ? `${counted(taken, "rollout")} took its rings and keep them.` : "No rollout took it."} Keeping rings
            under its name again brings it back.
          </Removal>
        )}
      </td>
    </tr>
  ));
}
