/** Rings taken from a kept plan, and kept as one. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { ringPlans as plansQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { sameRings } from "@/lib/ring-words";
import { Button, Problem } from "@/parts/controls";
import type { Draft } from "./draft";

/** Which kept rings these are, or were before they were changed here. */
export function TakenFrom({ draft }: { draft: Draft }) {
  const { data } = useQuery({ ...plansQuery, enabled: draft.plan_version_id != null });
  const plan = data?.find((p) => p.versions.some((v) => v.id === draft.plan_version_id));
  const version = plan?.versions.find((v) => v.id === draft.plan_version_id);
  if (!plan || !version) return null;
  const newest = plan.versions[0];
  return (
    <p className="mt-2 text-soft">
      {sameRings(draft.rings, version.rings) ? "As in the plan" : "Begun from the plan"} <strong>{plan.name}</strong>,
      version {version.number}
      {!sameRings(draft.rings, version.rings) && ", and changed here"}
      {newest && newest.id !== version.id && `; there is a version ${newest.number} by now`}.
    </p>
  );
}

export function Plans({ draft, onChange }: { draft: Draft; onChange: (draft: Draft) => void }) {
  const client = useQueryClient();
  const { data, error } = useQuery(plansQuery);
  const [name, setName] = useState("");
  const keep = useMutation({
    mutationFn: () => body(api.POST("/api/v1/ring-plans", { body: { name, rings: draft.rings } })),
    onSuccess: (plan) => {
      changed(client, "plans");
      const newest = plan.versions[0];
      if (newest) onChange({ ...draft, plan_version_id: newest.id });
      toast(`Saved as ${plan.name}, version ${newest?.number ?? 1}`);
      setName("");
    },
  });
  return (
    <div className="mt-2 flex flex-wrap items-center gap-3 border-rule border-t pt-3">
      <select
        className="field"
        aria-label="Take the rings of a plan"
        disabled={!data}
        value=""
        onChange={(e) => {
          const version = data?.flatMap((p) => p.versions).find((v) => v.id === Number(e.target.value));
          if (version) onChange({ ...draft, rings: version.rings, plan_version_id: version.id });
        }}
      >
        <option value="">{data ? "take the rings of a plan…" : error ? "plans not loaded" : "…"}</option>
        {data?.map((plan) => {
          const newest = plan.versions[0];
          return (
            newest && (
              <option key={plan.id} value={newest.id}>
                {plan.name}, {counted(newest.rings.length, "ring")}
              </option>
            )
          );
        })}
      </select>
      <form
        className="flex items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (name.trim()) keep.mutate();
        }}
      >
        <input
          className="field w-44"
          aria-label="Name of the plan"
          placeholder="Name of a plan…"
          list="plan-names"
          maxLength={60}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <datalist id="plan-names">
          {data?.map((p) => (
            <option key={p.id} value={p.name} />
          ))}
        </datalist>
        <Button type="submit" disabled={!name.trim() || keep.isPending}>
          {data?.some((p) => p.name === name.trim()) ? "Save as its next version" : "Save these rings"}
        </Button>
      </form>
      <Problem error={keep.error} />
    </div>
  );
}
