/** A rollout that starts from chosen devices: they are kept as a group picked by hand, which is its audience. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, body } from "@/api/client";
import { useClock } from "@/app/clock";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { count, counted, instant } from "@/parts/format";

export function RollOutTo({ devices }: { devices: string[] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { now, zone } = useClock();
  const [name, setName] = useState<string | null>(null);
  const make = useMutation({
    mutationFn: (called: string) =>
      body(
        api.POST("/api/v1/groups", { body: { name: called, kind: "static", devices, note: "Chosen for a rollout" } }),
      ),
    onSuccess: (group) => {
      client.invalidateQueries({ queryKey: ["group"] });
      navigate({ to: "/rollouts/new", search: { group: group.id } });
    },
  });
  return (
    <>
      <Button kind="quiet" onClick={() => setName(`Chosen ${instant(now.toISOString(), zone, now)}`)}>
        Roll out to {count(devices.length)} chosen…
      </Button>
      {name !== null && (
        <Modal open onClose={() => setName(null)} title={`A rollout to ${counted(devices.length, "device")}`}>
          <form
            className="space-y-3"
            onSubmit={(e) => {
              e.preventDefault();
              make.mutate(name);
            }}
          >
            <p className="text-soft">
              A rollout is for groups, so these devices are kept as one that is picked by hand. Nothing is sent yet.
            </p>
            <Labelled label="Name of the group">
              <input className="field" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
            </Labelled>
            <Problem error={make.error} />
            <div className="flex justify-end gap-2">
              <Button onClick={() => setName(null)}>Leave it</Button>
              <Button kind="main" type="submit" disabled={!name.trim() || make.isPending}>
                Write the rollout
              </Button>
            </div>
          </form>
        </Modal>
      )}
    </>
  );
}
