/** Signing out: the session ends, and nothing that was shown stays. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, body } from "@/api/client";
import { session } from "@/api/queries";

export function useSignOut() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/session")),
    onSuccess: (state) => {
      client.setQueryData(session.queryKey, state);
      client.removeQueries({ predicate: (q) => q.queryKey[0] !== session.queryKey[0] });
    },
  });
}
