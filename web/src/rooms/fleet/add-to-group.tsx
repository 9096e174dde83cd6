/** Adding devices to a static group, or to a new one. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { ApiError, api, body } from "@/api/client";
import { groups as groupsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { toastWith } from "@/parts/toasts";

export function AddToGroup({
  devices,
  onClose,
  onDone,
}: {
  devices: string[];
  onClose: () => void;
  onDone: () => void;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const asked = useQuery(groupsQuery);
  const groups = asked.data;
  const [to, setTo] = useState("");
  const [name, setName] = useState("");
  const byHand = groups?.filter((g) => g.kind === "static") ?? [];
  const put = useMutation({
    mutationFn: async (move: boolean) => {
      if (to === "new") {
        const made = await body(api.POST("/api/v1/groups", { body: { name, kind: "static", devices } }));
        return { id: made.id, name: made.name, joined: made.member_count };
      }
      const id = Number(to);
      const done = await body(
        api.POST("/api/v1/groups/{group_id}/members", {
          params: { path: { group_id: id } },
          body: { add: devices, remove: [], move },
        }),
      );
      return { id, name: byHand.find((g) => g.id === id)?.name ?? "", joined: done.joined };
    },
    onSuccess: (done) => {
      changed(client, "group");
      toastWith(`${counted(done.joined, "device")} added to “${done.name}”`, "Open", () =>
        navigate({ to: "/groups/$id", params: { id: String(done.id) }, search: {} }),
      );
      onDone();
    },
  });
  const moves = put.error instanceof ApiError && Array.isArray(put.error.body.moves);
  return (
    <Modal open onClose={onClose} title={`Add ${counted(devices.length, "device")} to a group`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate(false);
        }}
      >
        <Labelled label="Static group">
          <select className="field" value={to} onChange={(e) => setTo(e.target.value)}>
            <option value="">{groups ? "choose…" : asked.error ? "groups not loaded" : "…"}</option>
            <option value="new">a new one</option>
            {byHand.map((g) => (
              <option key={g.id} value={g.id}>
                {g.name} ({count(g.member_count)})
              </option>
            ))}
          </select>
        </Labelled>
        {to === "new" && (
          <Labelled label="Name">
            <input className="field" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
          </Labelled>
        )}
        <Problem error={put.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          {moves && <Button onClick={() => put.mutate(true)}>Move them here</Button>}
          <Button kind="main" type="submit" disabled={!to || (to === "new" && !name.trim()) || put.isPending}>
            Add
          </Button>
        </div>
      </form>
    </Modal>
  );
}
