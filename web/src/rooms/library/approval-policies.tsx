/** How images are approved, model by model, and the keys that sign them. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { images as imagesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { Button, Confirm, Empty, Problem } from "@/parts/controls";
import { Inline } from "@/parts/views";
import { approvalPolicies as policiesQuery, signingKeys } from "./queries";
import { Shelf } from "./shelf-table";

export function ApprovalPolicies() {
  return (
    <div className="space-y-6">
      <Modes />
      <Keys />
    </div>
  );
}

function Modes() {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const may = useMay("administer");
  const asked = useQuery(policiesQuery);
  const set = useMutation({
    mutationFn: ({ pk, on_arrival }: { pk: number; on_arrival: boolean }) =>
      body(api.PUT("/api/v1/models/{id}/approval-policy", { params: { path: { id: pk } }, body: { on_arrival } })),
    onSuccess: (modes) => client.setQueryData(policiesQuery.queryKey, modes),
  });
  return (
    <section>
      <p className="mb-2 text-soft">
        By hand, somebody other than who adds an image approves it. On arrival, it is approved and signed as it comes
        in; it is sent to nobody before a rollout says so. An image for several models needs all of them set so.
        {!may && " An administrator sets this."}
      </p>
      <Problem error={set.error} />
      <Shelf
        of={asked}
        what="The models' approval policies"
        heads={["Model", "Approved", "Set by"]}
        empty={<Empty title="No model yet">Models come with devices, or are added on their own shelf.</Empty>}
      >
        {(m) => (
          <tr key={m.model_id} className="border-rule border-t">
            <td className="px-3 py-1.5 font-semibold">{m.model}</td>
            <td className={`px-3 py-1.5 ${m.on_arrival ? "text-saffron-ink" : ""}`}>
              {m.on_arrival ? "on arrival" : "by hand"}
            </td>
            <td className="px-3 py-1.5 text-soft">{m.set_at && `${m.set_by}, ${instant(m.set_at, zone, now)}`}</td>
            <td className="px-3 py-1 text-right">
              {m.on_arrival ? (
                <Button disabled={!may} onClick={() => set.mutate({ pk: m.model_id, on_arrival: false })}>
                  By hand again
                </Button>
              ) : (
                <Confirm
                  trigger={<Button disabled={!may}>On arrival…</Button>}
                  title={`Approve images for ${m.model} as they arrive?`}
                  action="Approve on arrival"
                  onConfirm={() => set.mutate({ pk: m.model_id, on_arrival: true })}
                >
                  Nobody looks at an image for {m.model} a second time before it can be sent. Rollouts that bring the
                  newest approved then take it as their rings open.
                </Confirm>
              )}
            </td>
          </tr>
        )}
      </Shelf>
    </section>
  );
}

function Keys() {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const may = useMay("administer");
  const asked = useQuery(signingKeys);
  const images = useQuery(imagesQuery);
  const again = () => changed(client, "images");
  const rotate = useMutation({
    mutationFn: () => body(api.POST("/api/v1/signing-keys")),
    onSuccess: (done) => {
      again();
      toast(`A new key signs from now on; ${counted(done.signed, "image")} signed anew`);
    },
  });
  const revoke = useMutation({
    mutationFn: (kid: string) => body(api.DELETE("/api/v1/signing-keys/{kid}", { params: { path: { kid } } })),
    onSuccess: again,
  });
  return (
    <section>
      <div className="mb-2 flex items-baseline">
        <h2 className="text-[1.05rem]">Keys that sign images</h2>
        {!may && <span className="ml-3 text-soft">An administrator changes and revokes them.</span>}
        <Confirm
          trigger={
            <Button className="ml-auto" disabled={!may || !images.data}>
              Change the key…
            </Button>
          }
          title="Sign with a new key from now on?"
          action="Change the key"
          onConfirm={() => rotate.mutate()}
        >
          <Inline of={images}>
            {(all) =>
              counted(all.filter((i) => i.status === "approved").length, "approved image is", "approved images are")
            }
          </Inline>{" "}
          signed anew. The old public key stays published, so that devices in the middle of a fetch can verify what they
          have, until it is revoked.
        </Confirm>
      </div>
      <Problem error={rotate.error ?? revoke.error} />
      <Shelf
        of={asked}
        what="The signing keys"
        heads={["Key", "Created", "State"]}
        empty={<Empty title="No key yet">The first one is made when the first image is approved.</Empty>}
      >
        {(k) => (
          <tr key={k.kid} className="border-rule border-t">
            <td className="px-3 py-1.5 font-mono text-xs">{k.kid}</td>
            <td className="px-3 py-1.5 text-soft">{instant(k.created_at, zone, now)}</td>
            <td className="px-3 py-1.5">
              {k.revoked_at
                ? `revoked ${instant(k.revoked_at, zone, now)}`
                : k.retired_at
                  ? "signs nothing more, still published"
                  : "signs now"}
            </td>
            <td className="px-3 py-1 text-right">
              {k.retired_at && !k.revoked_at && (
                <Confirm
                  trigger={
                    <Button kind="danger" disabled={!may}>
                      Revoke…
                    </Button>
                  }
                  title="Publish this key no more?"
                  action="Revoke the key"
                  danger
                  onConfirm={() => revoke.mutate(k.kid)}
                >
                  Devices refuse whatever it signed. One in the middle of a fetch with the old signature fails that
                  attempt and gets the new one with the next.
                </Confirm>
              )}
            </td>
          </tr>
        )}
      </Shelf>
    </section>
  );
}
