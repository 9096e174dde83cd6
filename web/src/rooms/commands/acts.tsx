/** What can be done with a schedule: change it, pause, skip its next firing, run it now, approve it, end it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { counted } from "@/lib/format";
import { Button, Confirm, Modal, Problem } from "@/parts/controls";
import { IN_HAND, sum } from "@/parts/phases";
import { isCount, TypedCount } from "@/parts/typed-count";

type Row = Schemas["ScheduleRow"];
type Verb = "pause" | "resume" | "end" | "run" | "skip" | "approve";

/** A local time of a rule as it is read: Tue 24 Nov 05:30. */
const localWords = (time: string) => DateTime.fromISO(time).toFormat("ccc d LLL HH:mm");

export function Acts({ schedule }: { schedule: Row }) {
  const client = useQueryClient();
  const path = { params: { path: { schedule_id: schedule.id } } };
  const act = useMutation({
    mutationFn: async (verb: Verb): Promise<string> => {
      switch (verb) {
        case "pause":
          await api.POST("/api/v1/schedules/{schedule_id}/pause", path);
          return "Paused: it fires no more for now";
        case "resume":
          await api.POST("/api/v1/schedules/{schedule_id}/resume", path);
          return "It fires again; what was missed is not caught up";
        case "approve":
          await api.POST("/api/v1/schedules/{schedule_id}/approve", path);
          return "Approved";
        case "skip":
          await api.POST("/api/v1/schedules/{schedule_id}/skip", {
            ...path,
            body: { local_time: schedule.next_local_time },
          });
          return `It skips the firing of ${localWords(schedule.next_local_time)}`;
        case "end":
          await api.POST("/api/v1/schedules/{schedule_id}/end", path);
          return "Ended";
        case "run": {
          const { devices } = await body(
            api.POST("/api/v1/schedules/{schedule_id}/run", { ...path, body: { devices: schedule.reached_now } }),
          );
          return `Running once for ${counted(devices, "device")}`;
        }
      }
    },
    onSuccess: (text) => {
      changed(client, "schedule");
      toast(text);
    },
  });
  const mayOperate = useMay("operate");
  if (schedule.state === "ended") return null;
  const inHand = sum(schedule.phases, IN_HAND);
  const isProposed = schedule.state === "proposed";
  return (
    <div className="flex flex-col items-end gap-2">
      <div className="flex flex-wrap justify-end gap-2">
        {isProposed && <Approve schedule={schedule} onApprove={() => act.mutate("approve")} />}
        {mayOperate && !isProposed && <RunOnce schedule={schedule} onRun={() => act.mutate("run")} />}
        {mayOperate && schedule.when !== "now" && (
          <Link
            to="/commands/$id/edit"
            params={{ id: String(schedule.id) }}
            className="min-h-[30px] rounded-sm border border-ink bg-card px-3 py-1 font-semibold hover:bg-side"
          >
            Change
          </Link>
        )}
        {mayOperate && schedule.when === "repeat" && schedule.next_local_time && !isProposed && (
          <Confirm
            trigger={<Button>Skip the next…</Button>}
            title={`Skip the firing of ${localWords(schedule.next_local_time)}?`}
            action="Skip it"
            onConfirm={() => act.mutate("skip")}
          >
            In every zone where it has not fired yet, by the clock of the rule. It would be for{" "}
            {counted(schedule.reached_now, "device")} as of now. Under “Change” it can be taken in again.
          </Confirm>
        )}
        {schedule.state === "active" && (
          <Button needs="stop" onClick={() => act.mutate("pause")}>
            Pause
          </Button>
        )}
        {schedule.state === "paused" && (
          <Button needs="operate" kind="main" onClick={() => act.mutate("resume")}>
            Resume
          </Button>
        )}
        <Confirm
          needs="stop"
          trigger={<Button kind="danger">End…</Button>}
          title="End this command for good?"
          action="End it"
          danger
          onConfirm={() => act.mutate("end")}
        >
          It fires no more. {counted(schedule.phases.waiting ?? 0, "waiting device")} are withdrawn;{" "}
          {inHand ? `${counted(inHand, "device")} at it may finish.` : "none works on it."}
        </Confirm>
      </div>
      <Problem error={act.error} />
    </div>
  );
}

function Approve({ schedule, onApprove }: { schedule: Row; onApprove: () => void }) {
  const me = useQuery(session);
  if (me.data?.user?.name && me.data.user.name === schedule.created_by)
    return <span className="text-soft">somebody else must approve it</span>;
  return (
    <Confirm
      needs="approve"
      trigger={<Button kind="main">Approve…</Button>}
      title={`Approve: ${schedule.template.name.toLowerCase()} on ${counted(schedule.reached_now, "device")}?`}
      action="Approve it"
      danger
      onConfirm={onApprove}
    >
      {schedule.template.note} Proposed by {schedule.created_by ?? "nobody that is known"}: “{schedule.reason}”.{" "}
      {schedule.when === "now" ? "It runs at once." : "It fires at its times from then on."}
    </Confirm>
  );
}

/** Running it besides its times: what it reaches is said, and typed where it is not gentle. */
function RunOnce({ schedule, onRun }: { schedule: Row; onRun: () => void }) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const reached = schedule.reached_now;
  const isGentle = schedule.template.harm === "gentle";
  const isTyped = isGentle || isCount(typed, reached);
  const close = () => {
    setOpen(false);
    setTyped("");
  };
  return (
    <>
      <Button onClick={() => setOpen(true)}>Run once now…</Button>
      <Modal open={open} onClose={close} title="Run it once, now">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (!isTyped || reached === 0) return;
            onRun();
            close();
          }}
        >
          <p>
            It runs on {counted(reached, "device")} now, besides its own times. {schedule.template.note}
          </p>
          {!isGentle && reached > 0 && (
            <div className="mt-3">
              <span className="text-soft">Type the number of devices to run it.</span>
              <TypedCount className="mt-1 block" reached={reached} value={typed} onChange={setTyped} />
            </div>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={close}>Cancel</Button>
            <Button kind="main" type="submit" disabled={!isTyped || reached === 0}>
              Run it on {counted(reached, "device")}
            </Button>
          </div>
        </form>
      </Modal>
    </>
  );
}
