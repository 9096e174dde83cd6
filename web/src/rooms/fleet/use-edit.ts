/** An edit of devices: counted while it is typed, applied, and undone from the message that says so. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useDebounced } from "@/lib/use-debounced";
import { toastWith } from "@/parts/toasts";

export function useEdit(wanted: Schemas["EditRequestRequest"] | null, onApplied: (edit: Schemas["EditRow"]) => void) {
  const client = useQueryClient();
  const request = useDebounced(wanted, 250);
  const settled = JSON.stringify(request) === JSON.stringify(wanted);
  const again = () => {
    changed(client, "fleet");
  };
  const preview = useQuery({
    queryKey: ["preview", "edit", request],
    queryFn: () => body(api.POST("/api/v1/edits/preview", { body: request as Schemas["EditRequestRequest"] })),
    enabled: request !== null,
    retry: false,
  });
  const undo = useMutation({
    mutationFn: (id: number) => body(api.POST("/api/v1/edits/{edit_id}/undo", { params: { path: { edit_id: id } } })),
    onSuccess: (edit) => {
      again();
      toast(`${edit.state === "undoing" ? "Undoing" : "Undone"}: ${edit.sentence}`);
    },
    onError: (error) => toast.error(error.message),
  });
  const apply = useMutation({
    mutationFn: () => body(api.POST("/api/v1/edits", { body: wanted as Schemas["EditRequestRequest"] })),
    onSuccess: (edit) => {
      again();
      onApplied(edit);
      toastWith(edit.state === "running" ? `${edit.sentence}: begun` : edit.sentence, "Undo", () =>
        undo.mutate(edit.id),
      );
    },
  });
  return {
    told: wanted && settled ? preview.data : undefined,
    refusal: wanted && settled ? preview.error : null,
    apply,
  };
}
