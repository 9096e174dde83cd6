/** Devices of a rollout that somebody holds back, by reason, with the way to let them go. */
import type { Schemas } from "@/api/client";
import { count, counted } from "@/lib/format";
import { Button, Card, Confirm } from "@/parts/controls";
import { useRelease } from "@/parts/hold";

export function Held({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const release = useRelease(rollout.id, { rule: "everything", devices: [] });
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
        needs="operate"
        trigger={<Button>Release them…</Button>}
        title={`Release ${counted(total, "device")}?`}
        action={`Release ${count(total)}`}
        onConfirm={() => release.mutate()}
      >
        They are offered the image as soon as their ring, the window and the cap allow.
      </Confirm>
    </Card>
  );
}
