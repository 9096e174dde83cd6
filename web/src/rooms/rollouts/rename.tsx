/** Giving a rollout a name, a reason and a ticket, at any time: it moves no device. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { AboutFields } from "@/parts/about-fields";
import { Button, Modal, Problem } from "@/parts/controls";

export function Rename({ rollout, onClose }: { rollout: Schemas["RolloutDetail"]; onClose: () => void }) {
  const client = useQueryClient();
  const { name, purpose, ticket } = rollout;
  const [words, setWords] = useState({ name, purpose, ticket });
  const same = words.name === name && words.purpose === purpose && words.ticket === ticket;
  const save = useMutation({
    mutationFn: () =>
      body(
        api.PUT("/api/v1/rollouts/{rollout_id}/words", {
          params: { path: { rollout_id: rollout.id } },
          body: words,
        }),
      ),
    onSuccess: () => {
      changed(client, "rollout");
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title="What is it called, and why is it there?">
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <AboutFields
          about={{ name: words.name, reason: words.purpose, ticket: words.ticket }}
          onChange={({ reason = words.purpose, ...others }) => setWords({ ...words, ...others, purpose: reason })}
        />
        <p className="text-soft">No device is touched by this; it is put on record.</p>
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={same || save.isPending}>
            Keep it
          </Button>
        </div>
      </form>
    </Modal>
  );
}
