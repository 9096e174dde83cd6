/** Holding devices of a rollout back, by name, by a rule that is given, or by one that is typed here. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { RuleEditor } from "@/parts/rule-editor";
import { toastWith } from "@/parts/toasts";

interface Whom {
  rule: string;
  devices: string[];
}

interface Props {
  rollout: number;
  whom: Whom;
  why?: string;
  onClose: () => void;
  onDone?: () => void;
}

export function Hold({ rollout, whom, why = "", onClose, onDone }: Props) {
  const client = useQueryClient();
  const path = { params: { path: { rollout_id: rollout } } };
  const typed = !whom.rule && whom.devices.length === 0;
  const [rule, setRule] = useState(whom.rule);
  const [reason, setReason] = useState(why);
  const settled = { rule: useDebounced(rule, 300), devices: whom.devices };
  const told = useQuery({
    queryKey: ["preview", "hold", rollout, settled],
    queryFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/hold/preview", { ...path, body: settled })),
    enabled: settled.rule !== "" || settled.devices.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const hold = useMutation({
    mutationFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/hold", { ...path, body: { ...settled, reason } })),
    onSuccess: (done) => {
      changed(client, "rollout");
      toastWith(`${counted(done.waiting + done.recalled, "device")} held`, "Release", () => release.mutate());
      onClose();
      onDone?.();
    },
  });
  const release = useRelease(rollout, settled);
  const problems = told.error instanceof ApiError ? told.error.errors.filter((e) => e.line) : [];
  const held = told.data && !told.error ? told.data.waiting + told.data.recalled : 0;
  return (
    <Modal
      open
      onClose={onClose}
      title={typed ? "Hold back the devices that a rule matches" : "Hold these devices back?"}
    >
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          hold.mutate();
        }}
      >
        {typed && (
          <RuleEditor
            label="Rule"
            value={rule}
            onChange={setRule}
            problems={problems}
            hint="for example: uplink = satellite and hardware = C"
            autoFocus
          />
        )}
        {whom.rule && <code className="block font-mono text-xs">{whom.rule}</code>}
        {told.data && !told.error && !held && (
          <p aria-live="polite">None of the devices that wait is among them, so there is nobody to hold.</p>
        )}
        {told.data && !told.error && held > 0 && (
          <p aria-live="polite">
            <strong>{counted(told.data.waiting, "waiting device")}</strong> {told.data.waiting === 1 ? "is" : "are"} not
            offered it until released
            {told.data.recalled > 0 && `; ${counted(told.data.recalled, "offer is", "offers are")} taken back`}
            {told.data.finishing > 0 &&
              `; ${counted(told.data.finishing, "device is", "devices are")} installing and will finish`}
            .
          </p>
        )}
        <Labelled label="Why">
          <input className="field" value={reason} maxLength={120} onChange={(e) => setReason(e.target.value)} />
        </Labelled>
        <Problem error={(problems.length === 0 && told.error) || hold.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!held || rule !== settled.rule || !reason.trim() || hold.isPending}
          >
            Hold {held ? count(held) : "these"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** Letting held devices go on. */
export function useRelease(rollout: number, whom: Whom) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/rollouts/{rollout_id}/release", { params: { path: { rollout_id: rollout } }, body: whom }),
      ),
    onSuccess: (done) => {
      changed(client, "rollout");
      toast(`${counted(done.released, "device")} released`);
    },
    onError: (error) => toast.error(error.message),
  });
}
