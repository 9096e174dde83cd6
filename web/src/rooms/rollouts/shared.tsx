/** What the failed devices share that the confirmed ones do not, and holding back those that wait and match. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { sharedByFailed } from "@/api/queries";
import { Button, Card, Labelled, Modal, Problem } from "@/parts/controls";
import { count, counted, percent } from "@/parts/format";
import { toastWith } from "@/parts/toasts";

export function Shared({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const failed = rollout.phases.failed ?? 0;
  const { data, error } = useQuery(sharedByFailed(rollout.id, failed));
  const [holding, setHolding] = useState<Schemas["CauseRow"] | null>(null);
  const open = rollout.ended_at === null;
  if (failed === 0) return null;
  return (
    <Card title="What the failed ones share" aside={counted(failed, "failed", "failed")}>
      <Problem error={error} />
      {data?.causes.length === 0 && (
        <p className="text-soft">
          No link: nothing that the {count(data.failed)} failed have in common tells them from the{" "}
          {count(data.confirmed)} confirmed.
        </p>
      )}
      <ul className="space-y-3">
        {data?.causes.map((c) => (
          <li key={c.rule}>
            <Link to="/fleet" search={{ rule: c.rule }} className="slot font-mono text-xs">
              {c.rule}
            </Link>
            <p>
              <strong className="text-brick">
                {count(c.failed_with)} of {count(c.tried_with)}
              </strong>{" "}
              tried failed; without it{" "}
              <strong>
                {count(c.failed_without)} of {count(c.tried_without)}
              </strong>{" "}
              ({percent(c.tried_without ? c.failed_without / c.tried_without : 0)}).
            </p>
            <p className="text-soft text-xs">
              {c.risk_ratio.toFixed(c.risk_ratio < 10 ? 1 : 0)} times as likely · {chance(c.q)}
            </p>
            {open && c.waiting > 0 && (
              <Button className="mt-1" onClick={() => setHolding(c)}>
                Hold the {count(c.waiting)} that wait…
              </Button>
            )}
          </li>
        ))}
      </ul>
      {holding && <Hold rollout={rollout.id} rule={holding.rule} onClose={() => setHolding(null)} />}
    </Card>
  );
}

function chance(q: number): string {
  return q < 0.0001 ? "by chance less than once in 10 000 looks" : `by chance ${percent(q, 1)} of looks`;
}

function Hold({ rollout, rule, onClose }: { rollout: number; rule: string; onClose: () => void }) {
  const client = useQueryClient();
  const path = { params: { path: { rollout_id: rollout } } };
  const [reason, setReason] = useState(`Failed ones share ${rule}`.slice(0, 120));
  const told = useQuery({
    queryKey: ["preview", "hold", rollout, rule],
    queryFn: () =>
      body(api.POST("/api/v1/rollouts/{rollout_id}/hold/preview", { ...path, body: { rule, devices: [] } })),
  });
  const hold = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/rollouts/{rollout_id}/hold", { ...path, body: { rule, devices: [], reason } })),
    onSuccess: (done) => {
      client.invalidateQueries({ queryKey: ["rollout"] });
      client.invalidateQueries({ queryKey: ["rollout-shared"] });
      toastWith(`${counted(done.waiting + done.recalled, "device")} held`, "Release", () => release.mutate());
      onClose();
    },
  });
  const release = useMutation({
    mutationFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/release", { ...path, body: { rule, devices: [] } })),
    onSuccess: (done) => {
      client.invalidateQueries({ queryKey: ["rollout"] });
      toast(`${counted(done.released, "device")} released`);
    },
    onError: (error) => toast.error(error.message),
  });
  return (
    <Modal open onClose={onClose} title="Hold these devices back?">
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          hold.mutate();
        }}
      >
        <code className="block font-mono text-xs">{rule}</code>
        {told.data && (
          <p aria-live="polite">
            <strong>{counted(told.data.waiting, "waiting device")}</strong> are not offered it until released
            {told.data.recalled > 0 && `; ${counted(told.data.recalled, "offer is", "offers are")} taken back`}
            {told.data.finishing > 0 && `; ${counted(told.data.finishing, "device")} are installing and will finish`}.
          </p>
        )}
        <Labelled label="Why">
          <input className="field" value={reason} maxLength={120} onChange={(e) => setReason(e.target.value)} />
        </Labelled>
        <Problem error={told.error ?? hold.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Leave them</Button>
          <Button kind="main" type="submit" disabled={!told.data || !reason.trim() || hold.isPending}>
            Hold {told.data ? count(told.data.waiting + told.data.recalled) : "these"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
