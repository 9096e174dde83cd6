/** What can be done with ticked devices of an open rollout: ahead of their ring, held back, once more, or not at all. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { Button, Confirm, Labelled, Problem } from "@/parts/controls";
import { Hold, useRelease } from "@/parts/hold";

type Verb = "expedite" | "retry" | "skip";
const DONE: Record<Verb, string> = { expedite: "go ahead", retry: "are retried", skip: "are excluded" };

export function DeviceActions({
  rollout,
  devices,
  onDone,
}: {
  rollout: number;
  devices: string[];
  onDone: () => void;
}) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const [holding, setHolding] = useState(false);
  const release = useRelease(rollout, { rule: "", devices });
  const act = useMutation({
    mutationFn: (verb: Verb) => {
      const path = { params: { path: { rollout_id: rollout } } };
      switch (verb) {
        case "expedite":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/expedite", { ...path, body: { devices } }));
        case "retry":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/retry", { ...path, body: { devices } }));
        case "skip":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/skip", { ...path, body: { devices, reason } }));
      }
    },
    onSuccess: (done, verb) => {
      changed(client, "rollout");
      toast(`${counted(done.devices, "device")} ${DONE[verb]}`);
      onDone();
    },
  });
  const these = counted(devices.length, "device");
  return (
    <div className="mb-2 flex flex-wrap items-center gap-3 rounded-md bg-side px-3 py-2">
      <strong>{these} selected</strong>
      <Confirm
        trigger={<Button>Go ahead with them…</Button>}
        title={`Let ${these} go before their ring opens?`}
        action={`Go ahead with ${these}`}
        onConfirm={() => act.mutate("expedite")}
      >
        Those that wait are offered it as soon as the window, freezes and caps allow, whatever the gate says.
      </Confirm>
      <Button onClick={() => setHolding(true)}>Hold back…</Button>
      <Button onClick={() => release.mutate()}>Release</Button>
      <Button onClick={() => act.mutate("retry")}>Retry</Button>
      <Confirm
        trigger={<Button kind="danger">Exclude…</Button>}
        title={`Exclude ${these} from this rollout?`}
        action={`Exclude ${these}`}
        danger
        onConfirm={() => act.mutate("skip")}
      >
        <p>They keep the version they have. Those that install already will finish.</p>
        <Labelled label="Why">
          <input className="field" maxLength={120} value={reason} onChange={(e) => setReason(e.target.value)} />
        </Labelled>
      </Confirm>
      <Button kind="quiet" onClick={onDone}>
        Clear selection
      </Button>
      <Problem error={act.error} />
      {holding && (
        <Hold rollout={rollout} whom={{ rule: "", devices }} onClose={() => setHolding(false)} onDone={onDone} />
      )}
    </div>
  );
}
