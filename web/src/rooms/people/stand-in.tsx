/** An administrator stands in for an approver: beginning it, and the line above every room while it lasts. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";

const LONGEST = 300;

/** Whoever is signed in, as the server says they are now. */
function useIsNow() {
  const client = useQueryClient();
  return (user: Schemas["Me"]) => client.setQueryData(session.queryKey, (was) => was && { ...was, user });
}

/** Leads an administrator to standing in; `people` are all who have an account. */
export function StandIn({ people }: { people: Schemas["PersonRow"][] }) {
  const may = useMay("administer");
  const approves = useMay("approve");
  const [open, setOpen] = useState(false);
  if (!may || approves) return null;
  return (
    <p className="mb-2">
      No approver can be reached, and it cannot wait?{" "}
      <button type="button" className="slot" onClick={() => setOpen(true)}>
        Stand in for one…
      </button>
      {open && <Begin people={people} onClose={() => setOpen(false)} />}
    </p>
  );
}

function Begin({ people, onClose }: { people: Schemas["PersonRow"][]; onClose: () => void }) {
  const isNow = useIsNow();
  const [reason, setReason] = useState("");
  const begin = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/stand-in", { body: { reason: reason.trim() } })),
    onSuccess: (user) => {
      isNow(user);
      toast("You stand in for an approver for an hour. Every administrator was told.");
      onClose();
    },
  });
  const others = people.filter((p) => p.is_active && p.role === "administrator").length - 1;
  return (
    <Modal open onClose={onClose} title="Stand in for an approver">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          begin.mutate();
        }}
      >
        <p>
          For an hour you approve images, gates, overrides of freezes and destructive commands, as an approver does.
          What you asked for yourself still needs somebody else.
        </p>
        <p>
          {others > 0
            ? `${counted(others, "other administrator is", "other administrators are")} told at once, with your reason, and again when it is over.`
            : "Nobody else is told, as you are the only administrator."}{" "}
          The record keeps your reason and what you do.
        </p>
        <Labelled label="Why no approver is asked">
          <textarea
            className="field min-h-20"
            maxLength={LONGEST}
            required
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </Labelled>
        <Problem error={begin.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={begin.isPending || !reason.trim()}>
            Stand in for an hour
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** Says above every room that whoever is signed in stands in for an approver, until when, and ends it. */
export function StandsIn({ user }: { user: Schemas["Me"] }) {
  const { now, zone } = useClock();
  const isNow = useIsNow();
  const end = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/own/stand-in")),
    onSuccess: isNow,
  });
  const client = useQueryClient();
  const until = user.stands_in_until;
  const isOver = until !== null && Date.parse(until) <= now.getTime();
  useEffect(() => {
    if (isOver) void client.invalidateQueries({ queryKey: session.queryKey });
  }, [isOver, client]);
  if (!until || isOver) return null;
  return (
    <div role="status" className="flex flex-wrap items-center gap-x-3 bg-wash px-5 py-1">
      <p>
        <strong>You stand in for an approver</strong> until {instant(until, zone, now)}. Every administrator was told.
      </p>
      <Button disabled={end.isPending} onClick={() => end.mutate()}>
        End it now
      </Button>
      <Problem error={end.error} />
    </div>
  );
}
