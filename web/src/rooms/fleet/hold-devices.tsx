/** Holding chosen devices back in the open rollouts that have something for them. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { upcoming } from "@/api/queries";
import { Button, Modal, Problem } from "@/parts/controls";
import { counted } from "@/parts/format";
import { Hold } from "@/rooms/rollouts/hold";

export function HoldDevices({
  devices,
  onClose,
  onDone,
}: {
  devices: string[];
  onClose: () => void;
  onDone: () => void;
}) {
  const { data, error } = useQuery(upcoming(devices));
  const [rollout, setRollout] = useState<number | null>(null);
  const rollouts = data?.filter((row) => row.kind === "rollout");
  if (rollout !== null)
    return <Hold rollout={rollout} whom={{ rule: "", devices }} onClose={() => setRollout(null)} onDone={onDone} />;
  return (
    <Modal open onClose={onClose} title={`Hold ${counted(devices.length, "device")} in which rollout?`}>
      <Problem error={error} />
      {!rollouts && !error && <div className="h-10 animate-pulse rounded-md bg-side" aria-hidden />}
      {rollouts?.length === 0 && <p>No open rollout has anything for {devices.length === 1 ? "it" : "them"}.</p>}
      <ul className="space-y-2">
        {rollouts?.map((row) => (
          <li key={row.id} className="flex items-center justify-between gap-3">
            <span>
              {row.name} <span className="text-soft">· {counted(row.devices, "device")}</span>
            </span>
            <Button onClick={() => setRollout(row.id)}>Hold…</Button>
          </li>
        ))}
      </ul>
      <div className="mt-4 flex justify-end">
        <Button onClick={onClose}>Cancel</Button>
      </div>
    </Modal>
  );
}
