/** What can be done with ticked devices of an open rollout: ahead of their ring, held back, once more, or not at all. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { Button, Confirm, Labelled, Problem } from "@/parts/controls";
import { counted } from "@/parts/format";
import { Hold, useRelease } from "./hold";

type Verb = "push" | "retry" | "skip";
const DONE: Record<Verb, string> = { push: "go ahead", retry: "are tried again", skip: "are taken out" };

export function DeviceActs({ rollout, devices, onDone }: { rollout: number; devices: string[]; onDone: () => void }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const [holding, setHolding] = useState(false);
  const release = useRelease(rollout, { rule: "", devices });
  const act = useMutation({
    mutationFn: (verb: Verb) => {
      const path = { params: { path: { rollout_id: rollout } } };
      switch (verb) {
        case "push":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/push", { ...path, body: { devices } }));
        case "retry":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/retry", { ...path, body: { devices } }));
        case "skip":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/skip", { ...path, body: { devices, reason } }));
      }
    },
    onSuccess: (done, verb) => {
      client.invalidateQueries({ queryKey: ["rollout"] });
      toast(`${counted(done.devices, "device")} ${DONE[verb]}`);
      onDone();
    },
  });
  const these = counted(devices.length, "device");
  return (
    <div className="mb-2 flex flex-wrap items-center gap-3 rounded-md bg-side px-3 py-2">
      <strong>{these} chosen</strong>
      <Confirm
        trigger={<Button>Go ahead with them…</Button>}
        title={`Let ${these} go before their ring opens?`}
        action={`Go ahead with ${these}`}
        onConfirm={() => act.mutate("push")}
      >
        Those that wait are offered it as soon as the window, freezes and caps allow, whatever the gate says.
      </Confirm>
      <Button onClick={() => setHolding(true)}>Hold back…</Button>
      <Button onClick={() => release.mutate()}>Release</Button>
      <Button onClick={() => act.mutate("retry")}>Try again</Button>
      <Confirm
        trigger={<Button kind="danger">Take them out…</Button>}
        title={`Take ${these} out of this rollout?`}
        action={`Take ${these} out`}
        danger
        onConfirm={() => act.mutate("skip")}
      >
        <p>They keep the version they have. Those that install already will finish.</p>
        <Labelled label="Why">
          <input className="field" maxLength={120} value={reason} onChange={(e) => setReason(e.target.value)} />
        </Labelled>
      </Confirm>
      <Button kind="quiet" onClick={onDone}>
        Choose none
      </Button>
      <Problem error={act.error} />
      {holding && (
        <Hold rollout={rollout} whom={{ rule: "", devices }} onClose={() => setHolding(false)} onDone={onDone} />
      )}
    </div>
  );
}
