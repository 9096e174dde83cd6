/** Holding chosen devices back in the open rollouts that have something for them. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { counted } from "@/lib/format";
import { Button, Modal } from "@/parts/controls";
import { Hold } from "@/parts/hold";
import { Loaded } from "@/parts/views";
import { upcoming } from "./queries";

export function HoldDevices({
  devices,
  onClose,
  onDone,
}: {
  devices: string[];
  onClose: () => void;
  onDone: () => void;
}) {
  const asked = useQuery(upcoming(devices));
  const [rollout, setRollout] = useState<number | null>(null);
  if (rollout !== null)
    return <Hold rollout={rollout} whom={{ rule: "", devices }} onClose={() => setRollout(null)} onDone={onDone} />;
  return (
    <Modal open onClose={onClose} title={`Hold ${counted(devices.length, "device")} in which rollout?`}>
      <Loaded
        of={asked}
        what="The open rollouts"
        isEmpty={(rows) => !rows.some((row) => row.kind === "rollout")}
        empty={<p>No open rollout has anything for {devices.length === 1 ? "it" : "them"}.</p>}
      >
        {(rows) => (
          <ul className="space-y-2">
            {rows
              .filter((row) => row.kind === "rollout")
              .map((row) => (
                <li key={row.id} className="flex items-center justify-between gap-3">
                  <span>
                    {row.name} <span className="text-soft">· {counted(row.devices, "device")}</span>
                  </span>
                  <Button onClick={() => setRollout(row.id)}>Hold…</Button>
                </li>
              ))}
          </ul>
        )}
      </Loaded>
      <div className="mt-4 flex justify-end">
        <Button onClick={onClose}>Cancel</Button>
      </div>
    </Modal>
  );
}
