/** Moving groups and folders in the tree, with the way back. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { toastWith } from "@/parts/toasts";

export interface Moving {
  kind: "folder" | "group";
  id: number;
  name: string;
  from: number | null;
}

export function useMoves() {
  const client = useQueryClient();
  const send = ({ thing, to }: { thing: Moving; to: number | null }): Promise<unknown> =>
    thing.kind === "group"
      ? body(
          api.PATCH("/api/v1/groups/{group_id}", {
            params: { path: { group_id: thing.id } },
            body: { folder_id: to },
          }),
        )
      : body(
          api.PATCH("/api/v1/folders/{folder_id}", {
            params: { path: { folder_id: thing.id } },
            body: { parent: to },
          }),
        );
  const back = useMutation({
    mutationFn: send,
    onSettled: () => changed(client, "group"),
    onError: (error) => toast.error(error.message),
  });
  return useMutation({
    mutationFn: send,
    onSuccess: (_, { thing }) =>
      toastWith(`“${thing.name}” moved`, "Undo", () => back.mutate({ thing, to: thing.from })),
    onError: (error) => toast.error(error.message),
    onSettled: () => changed(client, "group"),
  });
}
