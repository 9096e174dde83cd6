/** What can be done with an image: approve it, by another person than added it; withdraw it, with what that stops. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { counted } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { imageWithdrawal } from "./queries";

type Image = Schemas["ImageRow"];

export function ImageActions({ image }: { image: Image }) {
  const client = useQueryClient();
  const { data: me } = useQuery(session);
  const mayApprove = useMay("approve-all");
  const [withdrawing, setWithdrawing] = useState(false);
  const approve = useMutation({
    mutationFn: () => body(api.POST("/api/v1/images/{image_id}/approve", { params: { path: { image_id: image.id } } })),
    onSuccess: (done) => {
      changed(client, "images");
      toast(`${done.name} is approved and signed`);
    },
  });
  const mine = image.added_by !== null && image.added_by === me?.user?.name;
  return (
    <>
      {image.status === "new" && (
        <Button
          disabled={mine || !mayApprove || approve.isPending}
          title={
            mine
              ? "You added it; somebody else must approve it."
              : mayApprove
                ? undefined
                : "Somebody with the role approver approves it."
          }
          onClick={() => approve.mutate()}
        >
          Approve
        </Button>
      )}
      {image.status === "approved" && (
        <Link to="/rollouts/new" search={{ image: image.id }} className="slot mr-3">
          Roll out…
        </Link>
      )}
      {image.status !== "withdrawn" && (
        <Button needs="stop-all" kind="quiet" className="-ml-3 text-brick!" onClick={() => setWithdrawing(true)}>
          Withdraw…
        </Button>
      )}
      <Problem error={approve.error} />
      {withdrawing && <Withdraw image={image} onClose={() => setWithdrawing(false)} />}
    </>
  );
}

function Withdraw({ image, onClose }: { image: Image; onClose: () => void }) {
  const client = useQueryClient();
  const { data, error } = useQuery(imageWithdrawal(image.id));
  const [reason, setReason] = useState("");
  const withdraw = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/images/{image_id}/withdraw", {
          params: { path: { image_id: image.id } },
          body: { reason },
        }),
      ),
    onSuccess: () => {
      changed(client, "images");
      changed(client, "rollout");
      toast(`${image.name} is withdrawn`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`Withdraw ${image.name}?`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          withdraw.mutate();
        }}
      >
        <div className="space-y-1" aria-live="polite">
          {data && (
            <>
              {data.uses.map((u) => (
                <p key={u.kind + u.id}>
                  {u.sentence}:{" "}
                  {u.sentence.includes("(running)") ? "halts; who is installing finishes." : "cannot go on with it."}
                </p>
              ))}
              {data.uses.length === 0 && <p>Nothing sends it now.</p>}
              {data.cut_off > 0 && (
                <p className="text-brick">
                  {counted(data.cut_off, "device loses its", "devices lose their")} way to the newest version.
                </p>
              )}
              <p className="text-soft">
                {counted(data.running, "device runs", "devices run")} it and {data.running === 1 ? "keeps" : "keep"} it.
                It cannot be approved again.
              </p>
            </>
          )}
          <Problem error={error ?? withdraw.error} />
        </div>
        <Labelled label="Why">
          <input className="field" value={reason} maxLength={300} onChange={(e) => setReason(e.target.value)} />
        </Labelled>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="danger" type="submit" disabled={!reason.trim() || !data || withdraw.isPending}>
            Withdraw {image.name}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
