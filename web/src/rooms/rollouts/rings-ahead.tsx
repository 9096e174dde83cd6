/** Rings that have not opened: add, split, move, remove, and what that does to the devices that wait in them. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { groups as groupsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Modal, Problem } from "@/parts/controls";
import { ringDraftOf } from "./draft";
import { RingEditor } from "./ring-editor";
import { addRing, isSplittable, moveRing, type RingAhead, splitRing } from "./rings";

type Outcome = Schemas["RingsOutcomeView"];

export function RingsAhead({ rollout, onClose }: { rollout: Schemas["RolloutDetail"]; onClose: () => void }) {
  const client = useQueryClient();
  const groups = useQuery(groupsQuery);
  const [rings, setRings] = useState<RingAhead[]>(() =>
    rollout.rings.filter((r) => !r.opened_at).map((r, i) => ({ ...ringDraftOf(r), id: r.id, key: i })),
  );
  const opened = rollout.rings.filter((r) => r.opened_at).length;
  const asked = useDebounced(rings, 300);
  const path = { params: { path: { rollout_id: rollout.id } } };
  const whole = (all: RingAhead[]) => ({ rings: all.map(({ key: _key, ...ring }) => ring) });
  const told = useQuery({
    queryKey: ["preview", "rings-ahead", rollout.id, JSON.stringify(asked)],
    queryFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/rings-ahead/preview", { ...path, body: whole(asked) })),
    retry: false,
  });
  const save = useMutation({
    mutationFn: () => body(api.PUT("/api/v1/rollouts/{rollout_id}/rings-ahead", { ...path, body: whole(rings) })),
    onSuccess: () => {
      changed(client, "rollout");
      toast("Changed the rings ahead");
      onClose();
    },
  });
  const outcome = asked === rings ? told.data : undefined;
  const set = (i: number, change: Partial<RingAhead>) =>
    setRings(rings.map((r, j) => (j === i ? { ...r, ...change } : r)));
  return (
    <Modal open onClose={onClose} title="Change the rings ahead" wide>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <p className="text-soft">
          {opened === 1 && "Ring 1 is open and stays as it is. "}
          {opened > 1 && `Rings 1 to ${opened} are open and stay as they are. `}
          Each ring takes, from those that no earlier ring took.
        </p>
        <ol>
          {rings.map((ring, i) => {
            const place = opened + i + 1;
            return (
              <li
                key={ring.key}
                aria-label={`Ring ${place}`}
                className="grid grid-cols-[1.6rem_1fr_9rem] gap-3 border-rule border-t border-dashed py-2.5"
              >
                <span className="font-bold font-display text-lg text-saffron-ink">{place}</span>
                <div className="space-y-2">
                  <RingEditor
                    ring={ring}
                    groups={groups.data ?? []}
                    last={i === rings.length - 1}
                    onChange={(change) => set(i, change)}
                  />
                  <div className="flex flex-wrap gap-2">
                    <Button kind="quiet" disabled={i === 0} onClick={() => setRings(moveRing(rings, i, -1))}>
                      Earlier
                    </Button>
                    <Button
                      kind="quiet"
                      disabled={i === rings.length - 1}
                      onClick={() => setRings(moveRing(rings, i, 1))}
                    >
                      Later
                    </Button>
                    {isSplittable(ring) && (
                      <Button kind="quiet" onClick={() => setRings(splitRing(rings, i))}>
                        Split in two
                      </Button>
                    )}
                    <Button
                      kind="quiet"
                      disabled={rings.length === 1}
                      onClick={() => setRings(rings.filter((_, j) => j !== i))}
                    >
                      Remove
                    </Button>
                  </div>
                </div>
                <Size outcome={outcome} index={i} />
              </li>
            );
          })}
        </ol>
        <Button onClick={() => setRings(addRing(rings, opened))}>Add a ring</Button>
        {outcome && <Told outcome={outcome} />}
        <Problem error={told.error ?? save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!outcome || outcome.same || outcome.unplaced > 0 || save.isPending}
          >
            Change the rings
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** How many devices the ring has now, and would have. */
function Size({ outcome, index }: { outcome: Outcome | undefined; index: number }) {
  const ring = outcome?.rings[index];
  if (!ring) return <p className="text-right text-soft">…</p>;
  const same = ring.before === ring.after;
  return (
    <p className="text-right">
      {!same && (
        <>
          <span className="text-soft">{ring.before === null ? "new" : count(ring.before)}</span>
          <span className="text-soft"> → </span>
        </>
      )}
      <strong>{counted(ring.after, "device")}</strong>
      {ring.after === 0 && <span className="block text-brick">nothing is tried here</span>}
    </p>
  );
}

function Told({ outcome }: { outcome: Outcome }) {
  return (
    <p aria-live="polite" className="border-rule border-t pt-2">
      {outcome.same
        ? "Nothing is changed yet."
        : outcome.moving
          ? `${counted(outcome.moving, "waiting device")} would be in another ring than now.`
          : "Every waiting device stays in the ring that it is in."}{" "}
      {outcome.removed
        .map((r) => `Ring ${r.position}, ${r.name}, goes: ${counted(r.devices, "device")} waited in it.`)
        .join(" ")}
      {outcome.unplaced > 0 && (
        <strong className="block text-brick">
          {counted(outcome.unplaced, "device")} would be in no ring. Let the last ring take all the rest.
        </strong>
      )}
    </p>
  );
}
