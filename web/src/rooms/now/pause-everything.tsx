/** Pausing everything that runs in one press, and taking that back as one act; both say first what they do. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { Button, Confirm, Labelled, Modal, Problem } from "@/parts/controls";
import { Skeleton } from "@/parts/views";
import { pause as pauseQuery } from "./queries";

/** “3 rollouts and 5 commands”. */
export function whatWords(rollouts: number, schedules: number): string {
  return `${counted(rollouts, "rollout")} and ${counted(schedules, "command")}`;
}

const failures = (done: Schemas["PauseOutcome"]) => (done.failed.length ? `; not ${done.failed.join("; ")}` : "");

export function PauseEverything() {
  const [isOpen, setOpen] = useState(false);
  return (
    <>
      <Button needs="stop-all" onClick={() => setOpen(true)}>
        Pause everything…
      </Button>
      {isOpen && <PauseDialog onClose={() => setOpen(false)} />}
    </>
  );
}

function PauseDialog({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  // what runs is asked when it is wanted, not taken from a list that may be minutes old
  const asked = useQuery({ ...pauseQuery, staleTime: 0 });
  const [reason, setReason] = useState("");
  const press = useMutation({
    mutationFn: () => body(api.POST("/api/v1/pause", { body: { reason: reason.trim() } })),
    onSuccess: (done) => {
      changed(client, "rollout");
      changed(client, "schedule");
      const launches = done.launches ? `; ${counted(done.launches, "launch", "launches")} taken back` : "";
      toast(`Paused ${whatWords(done.rollouts, done.schedules)}${launches}${failures(done)}`);
      onClose();
    },
  });
  const runs = asked.isFetching ? undefined : asked.data?.runs;
  const isNothing = runs && runs.rollouts + runs.launching + runs.schedules === 0;
  return (
    <Modal open onClose={onClose} title="Pause everything">
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          press.mutate();
        }}
      >
        <div aria-live="polite">
          {asked.isFetching && <Skeleton rows={2} />}
          {runs &&
            (isNothing ? <p>Nothing runs: no rollout, and no command that fires.</p> : <Consequences runs={runs} />)}
        </div>
        <Labelled label="Why" hint="on record, and shown until it is taken back">
          <input
            className="field"
            required
            maxLength={300}
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </Labelled>
        <Problem error={asked.error ?? press.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!runs || isNothing || !reason.trim() || press.isPending}>
            {press.isPending ? "Pausing…" : "Pause everything"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Consequences({ runs }: { runs: Schemas["WhatRuns"] }) {
  return (
    <ul className="list-disc space-y-1 pl-5">
      <li>
        <strong>{whatWords(runs.rollouts, runs.schedules)}</strong> give no device anything new. Offers that no device
        has begun are taken back.
      </li>
      <li>
        {runs.finishing === 0
          ? "No device is in the middle of anything."
          : `${counted(runs.finishing, "device")} in the middle of an install or a command will finish.`}
      </li>
      {runs.launching > 0 && (
        <li>
          {counted(runs.launching, "rollout")} about to be launched{" "}
          {runs.launching === 1 ? "becomes a draft" : "become drafts"} again.
        </li>
      )}
      <li>Firings that fall due meanwhile are missed. What is paused already stays as it is.</li>
    </ul>
  );
}

/** That everything is paused, by whom and why, and the way back. */
export function EverythingPaused({ standing }: { standing: Schemas["StandingPause"] }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const resume = useMutation({
    mutationFn: () => body(api.POST("/api/v1/pause/resume")),
    onSuccess: (done) => {
      changed(client, "rollout");
      changed(client, "schedule");
      toast(`Resumed ${whatWords(done.rollouts, done.schedules)}${failures(done)}`);
    },
  });
  const what = whatWords(standing.rollouts, standing.schedules);
  return (
    <section
      aria-label="Everything is paused"
      className="mb-4 flex flex-wrap items-center justify-between gap-3 rounded-md border-2 border-plum bg-card px-4 py-3"
    >
      <div>
        <strong>
          <span aria-hidden className="text-plum">
            ◐{" "}
          </span>
          Everything was paused {instant(standing.began_at, zone, now)}
          {standing.paused_by && ` by ${standing.paused_by}`}: {standing.reason}
        </strong>
        <p className="text-soft">
          {what} {standing.rollouts + standing.schedules === 1 ? "is" : "are"} held by it. What was started since runs.
        </p>
        <Problem error={resume.error} />
      </div>
      <Confirm
        needs="operate-all"
        trigger={<Button disabled={resume.isPending}>Resume what was paused…</Button>}
        title={`Resume ${what}?`}
        action="Resume them"
        onConfirm={() => resume.mutate()}
      >
        {counted(standing.waiting, "device")} {standing.waiting === 1 ? "waits" : "wait"} in these rollouts and may be
        offered an install from now on. Commands fire at their next times; what they missed is not caught up. What was
        paused before stays paused.
      </Confirm>
    </section>
  );
}
