/** Stepping in: pause, resume, stop, open a gate by hand; each says its consequence in numbers. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { counted } from "@/lib/format";
import { Button, Confirm, Problem } from "@/parts/controls";
import { IN_HAND, sum } from "@/parts/phases";
import { inTrouble } from "./evidence";
import { More } from "./more-changes";
import { RollBack } from "./roll-back";

type Verb = "pause" | "resume" | "stop" | "open-gate";

export function Actions({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const client = useQueryClient();
  const path = { params: { path: { rollout_id: rollout.id } } };
  const act = useMutation({
    mutationFn: (verb: Verb) => {
      switch (verb) {
        case "pause":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/pause", path));
        case "resume":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/resume", path));
        case "stop":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/stop", path));
        case "open-gate":
          return body(api.POST("/api/v1/rollouts/{rollout_id}/open-gate", path));
      }
    },
    onSuccess: (effect, verb) => {
      changed(client, "rollout");
      const finishing = effect.finishing ? ` ${counted(effect.finishing, "device")} at it will finish.` : "";
      const words = {
        pause: `Paused: nothing new is offered.${finishing}`,
        resume: "Resumed.",
        stop: `Stopped: ${counted(effect.withdrawn, "device")} withdrawn.${finishing}`,
        "open-gate": "The gate is open.",
      };
      toast(words[verb]);
    },
  });
  const mayOperate = useMay("operate");
  const mayApprove = useMay("approve");
  const inHand = sum(rollout.phases, IN_HAND);
  const waiting = rollout.phases.waiting ?? 0;
  const finish = inHand
    ? `${counted(inHand, "device")} hold an offer or work on it now; those that accepted it will finish.`
    : "No device works on it now.";
  const stuck = rollout.rings.find((r) => r.stuck);
  const next = stuck && rollout.rings.find((r) => r.position === stuck.position + 1);
  const open = ["running", "paused", "halted"].includes(rollout.state);
  return (
    <div className="flex flex-col items-end gap-2">
      <div className="flex flex-wrap justify-end gap-2">
        {rollout.state === "running" && (
          <Confirm
            needs="stop"
            trigger={<Button kind={inTrouble(rollout) ? "main" : "plain"}>Pause…</Button>}
            title="Pause this rollout?"
            action="Pause"
            onConfirm={() => act.mutate("pause")}
          >
            Nothing new is offered until it is resumed. {finish} {counted(waiting, "device")} keep waiting.
          </Confirm>
        )}
        {(rollout.state === "paused" || rollout.state === "halted") && (
          <Confirm
            needs="operate"
            trigger={
              <Button kind={rollout.state === "halted" ? "danger" : "main"}>
                {rollout.state === "halted" ? "Resume anyway…" : "Resume…"}
              </Button>
            }
            title="Go on with this rollout?"
            action="Resume"
            onConfirm={() => act.mutate("resume")}
          >
            {rollout.state === "halted" && (
              <p>It stopped itself: {rollout.reason}. It halts again if more devices fail.</p>
            )}
            {counted(waiting, "device")} wait and may be offered it from now on.
          </Confirm>
        )}
        {open && (
          <Confirm
            needs="stop"
            trigger={<Button kind={rollout.state === "halted" ? "main" : "danger"}>Stop…</Button>}
            title="Stop this rollout for good?"
            action={`Stop it for ${counted(waiting, "device")}`}
            danger
            onConfirm={() => act.mutate("stop")}
          >
            {counted(waiting, "waiting device")} are withdrawn and keep the version they have. {finish} This cannot be
            undone; a new rollout can be launched.
          </Confirm>
        )}
        {stuck && next && mayOperate && !mayApprove && (
          <p className="self-center text-soft">An approver may open ring {next.position}.</p>
        )}
        {stuck && next && mayApprove && (
          <Confirm
            trigger={<Button kind="danger">Open ring {next.position} anyway…</Button>}
            title={`Open ring ${next.position}, ${next.name}, although the gate is not met?`}
            action={`Open it for ${counted(next.size, "device")}`}
            onConfirm={() => act.mutate("open-gate")}
          >
            Ring {stuck.position} has {stuck.phases.failed ?? 0} failed of {stuck.size}. Opening reaches{" "}
            {counted(next.size, "device")}.
          </Confirm>
        )}
        {open && mayOperate && <More rollout={rollout} />}
        {mayOperate && rollout.ended_at && rollout.rolls_back_id === null && (
          <Link
            to="/rollouts/new"
            search={{ like: rollout.id }}
            className="rounded-sm border border-ink px-3 py-1 font-semibold"
          >
            Another like it…
          </Link>
        )}
        {rollout.launched_at && (
          <Link
            to="/rollouts/$id/report"
            params={{ id: String(rollout.id) }}
            className="rounded-sm border border-ink px-3 py-1 font-semibold"
          >
            Report
          </Link>
        )}
        {rollout.launched_at && (rollout.phases.confirmed ?? 0) > 0 && mayOperate && <RollBack rollout={rollout} />}
      </div>
      {rollout.freeze_override_reason && !rollout.override_approved_by && <Override rollout={rollout} />}
      <Problem error={act.error} />
    </div>
  );
}

/** Going on in freezes is not in force before somebody else has agreed. */
function Override({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const client = useQueryClient();
  const mayApprove = useMay("approve");
  const approve = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/rollouts/{rollout_id}/approve-override", { params: { path: { rollout_id: rollout.id } } }),
      ),
    onSuccess: () => changed(client, "rollout"),
  });
  return (
    <div className="text-right">
      <p className="text-plum">
        <span aria-hidden>◐ </span>Freezes hold: going on in them ({rollout.freeze_override_reason}) waits for an
        approver.
      </p>
      {mayApprove && (
        <Confirm
          trigger={<Button>Approve the override…</Button>}
          title="Go on in freezes?"
          action="Approve the override"
          onConfirm={() => approve.mutate()}
        >
          {counted(rollout.phases.waiting ?? 0, "waiting device")} may be offered it in any freeze from now on. The
          reason given: {rollout.freeze_override_reason}.
        </Confirm>
      )}
      <Problem error={approve.error} />
    </div>
  );
}
