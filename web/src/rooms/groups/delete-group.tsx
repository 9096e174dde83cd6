/** Deleting a group, which is refused with the list of uses while anything uses it. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { Button, Confirm, Problem } from "@/parts/controls";

export function DeleteGroup({ group }: { group: Schemas["GroupDetail"] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/groups/{group_id}", { params: { path: { group_id: group.id } } })),
    onSuccess: () => {
      changed(client, "group");
      toast(`“${group.name}” deleted`);
      navigate({ to: "/groups" });
    },
  });
  return (
    <div className="max-w-[26rem]">
      <Confirm
        trigger={
          <Button kind="quiet" className="float-right text-brick!">
            Delete…
          </Button>
        }
        title={`Delete “${group.name}”?`}
        action="Delete the group"
        danger
        onConfirm={() => remove.mutate()}
      >
        {counted(group.member_count, "device")} lose this group; the devices themselves stay as they are.
      </Confirm>
      <Problem error={remove.error} />
    </div>
  );
}
