/** Devices of a rollout that somebody holds back, by reason, with the way to let them go. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { Button, Card, Confirm, Problem } from "@/parts/controls";
import { count, counted } from "@/parts/format";

export function Held({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const client = useQueryClient();
  const release = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/rollouts/{rollout_id}/release", {
          params: { path: { rollout_id: rollout.id } },
          body: { rule: "everything", devices: [] },
        }),
      ),
    onSuccess: (done) => {
      client.invalidateQueries({ queryKey: ["rollout"] });
      toast(`${counted(done.released, "device")} released`);
    },
  });
  const total = rollout.held.reduce((n, h) => n + h.count, 0);
  if (total === 0 || rollout.ended_at !== null) return null;
  return (
    <Card title="Held back" aside={<span className="text-plum">{counted(total, "device")}</span>}>
      <ul className="mb-2">
        {rollout.held.map((h) => (
          <li key={h.reason}>
            {count(h.count)}: <span className="text-soft">{h.reason}</span>
          </li>
        ))}
      </ul>
      <Confirm
        trigger={<Button>Release them…</Button>}
        title={`Release ${counted(total, "device")}?`}
        action={`Release ${count(total)}`}
        onConfirm={() => release.mutate()}
      >
        They are offered the image as soon as their ring, the window and the cap allow.
      </Confirm>
      <Problem error={release.error} />
    </Card>
  );
}
