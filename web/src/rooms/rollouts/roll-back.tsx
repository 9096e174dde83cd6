/** Putting a rollout back: a draft that gives each changed device the version it had. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { Button, Confirm, Problem } from "@/parts/controls";

export function RollBack({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const prepare = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/rollouts/{rollout_id}/roll-back", { params: { path: { rollout_id: rollout.id } } })),
    onSuccess: (draft) => {
      changed(client, "rollout");
      navigate({ to: "/rollouts/$id", params: { id: String(draft.id) }, search: {} });
    },
  });
  const confirmed = rollout.phases.confirmed ?? 0;
  const waiting = rollout.phases.waiting ?? 0;
  return (
    <>
      <Confirm
        trigger={<Button>Roll back…</Button>}
        title="Draft the rollout that rolls this one back?"
        action="Create the draft"
        onConfirm={() => prepare.mutate()}
      >
        It gives each of up to {counted(confirmed, "confirmed device")} the version it had before. Nothing is sent until
        you launch it.
        {rollout.ended_at === null && waiting > 0 && (
          <p className="mt-2">
            This rollout is still open for {counted(waiting, "waiting device")}; stop it first if they are not to get
            the new version.
          </p>
        )}
      </Confirm>
      <Problem error={prepare.error} />
    </>
  );
}
