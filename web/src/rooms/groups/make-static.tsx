/** Turning a group by rule static: it keeps the members of now, and its rule as history. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { Button, Confirm } from "@/parts/controls";
import { group as groupQuery } from "./queries";

export function MakeStatic({ group }: { group: Schemas["GroupDetail"] }) {
  const client = useQueryClient();
  const turn = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/groups/{group_id}/convert-to-static", { params: { path: { group_id: group.id } } })),
    onSuccess: (made) => {
      client.setQueryData(groupQuery(group.id).queryKey, made);
      changed(client, "group");
      toast(`“${made.name}” keeps its ${counted(made.member_count, "device")} of now`);
    },
    onError: (error) => toast.error(error.message),
  });
  return (
    <Confirm
      trigger={<Button kind="quiet">Turn static…</Button>}
      title={`Turn “${group.name}” static?`}
      action={`Keep these ${counted(group.member_count, "device")}`}
      onConfirm={() => turn.mutate()}
    >
      It keeps the {counted(group.member_count, "device")} of now. Devices no longer join or leave by themselves when
      their tags or versions change; the rule stays in the group's history and can be taken up again.
    </Confirm>
  );
}
