/** More groups for an open rollout; nothing is sent again to whoever has it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { groups as groupsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { Button, Modal, Picker, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";

export function Extend({ rollout, onClose }: { rollout: Schemas["RolloutDetail"]; onClose: () => void }) {
  const client = useQueryClient();
  const all = useQuery(groupsQuery);
  const [groups, setGroups] = useState<number[]>([]);
  const path = { params: { path: { rollout_id: rollout.id } } };
  const told = useQuery({
    queryKey: ["preview", "extend", rollout.id, ...groups],
    queryFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/extend/preview", { ...path, body: { groups } })),
    enabled: groups.length > 0,
  });
  const extend = useMutation({
    mutationFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/extend", { ...path, body: { groups } })),
    onSuccess: (done) => {
      changed(client, "rollout");
      toast(`Extended by ${counted(done.joins, "device")}`);
      onClose();
    },
  });
  const named = new Set(rollout.include.map((g) => g.id));
  return (
    <Modal open onClose={onClose} title="Extend this rollout to more groups">
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          extend.mutate();
        }}
      >
        <Loaded of={all} what="The groups" rows={5}>
          {(rows) => (
            <Picker
              label="Groups to add"
              options={rows
                .filter((g) => !named.has(g.id))
                .map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))}
              chosen={groups}
              onChange={setGroups}
            />
          )}
        </Loaded>
        {groups.length > 0 && told.data && (
          <p aria-live="polite">
            <strong>{counted(told.data.joins, "device")}</strong> more take part, in the last open ring or one that
            names them; {count(told.data.already)} run the version already, {count(told.data.has_already)} are in this
            rollout and get nothing again, {count(told.data.left_out)} are left out.
          </p>
        )}
        <Problem error={told.error ?? extend.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!told.data?.joins || extend.isPending}>
            Extend to {told.data ? counted(told.data.joins, "device") : "them"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
