/** Cleaning up images: a rehearsal first, then done, undoable for a week. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, instant, megabytes } from "@/lib/format";
import { Button, Modal, Problem } from "@/parts/controls";
import { Failed, Skeleton } from "@/parts/views";
import { cleanupPreview, imageCleanups as cleanupsQuery } from "./queries";

export function CleanUp({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const asked = useQuery(cleanupPreview);
  const { data } = asked;
  const [spared, setSpared] = useState<ReadonlySet<number>>(new Set());
  const free = data?.images.filter((i) => !i.kept_because) ?? [];
  const going = free.filter((i) => !spared.has(i.id));
  const clean = useMutation({
    mutationFn: () => body(api.POST("/api/v1/image-cleanups", { body: { images: going.map((i) => i.id) } })),
    onSuccess: (done) => {
      changed(client, "images");
      toast(`${counted(done.images.length, "image")} removed; this can be undone for a week`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title="Clean up images">
      {!data && (asked.error ? <Failed what="What could be removed" of={asked} /> : <Skeleton rows={5} />)}
      {data && free.length === 0 && (
        <p>Nothing to clean up: every image is run, needed on the way, planned, or may have to be rolled back.</p>
      )}
      {free.length > 0 && (
        <>
          <p>Nobody runs, needs or can be sent these. Those that are ticked go.</p>
          <ul className="my-2 max-h-56 overflow-auto">
            {free.map((i) => (
              <li key={i.id} className="border-rule border-b border-dashed">
                <label className="flex min-h-[30px] items-center gap-2">
                  <input
                    type="checkbox"
                    className="accent-[var(--verdigris)]"
                    checked={!spared.has(i.id)}
                    onChange={(e) => {
                      const next = new Set(spared);
                      if (e.target.checked) next.delete(i.id);
                      else next.add(i.id);
                      setSpared(next);
                    }}
                  />
                  <strong className="font-semibold">{i.name}</strong>
                  <span className="text-soft">{i.status}</span>
                  <span className="ml-auto text-soft">{megabytes(i.size_bytes)}</span>
                </label>
              </li>
            ))}
          </ul>
        </>
      )}
      {data && data.images.length > free.length && (
        <details className="text-soft">
          <summary className="cursor-pointer">
            {counted(data.images.length - free.length, "image")} stay, and why
          </summary>
          <ul className="max-h-40 overflow-auto">
            {data.images
              .filter((i) => i.kept_because)
              .map((i) => (
                <li key={i.id}>
                  {i.name}: {i.kept_because}
                </li>
              ))}
          </ul>
        </details>
      )}
      <Problem error={clean.error} />
      <div className="mt-3 flex items-center justify-end gap-2">
        {going.length > 0 && data && (
          <p className="mr-auto text-soft">
            {going.length === free.length && `${megabytes(data.frees_bytes)} are freed. `}The files are kept for a week,
            then deleted.
          </p>
        )}
        <Button onClick={onClose}>Cancel</Button>
        <Button kind="danger" disabled={going.length === 0 || clean.isPending} onClick={() => clean.mutate()}>
          {data ? `Remove ${counted(going.length, "image")}` : "Remove"}
        </Button>
      </div>
    </Modal>
  );
}

/** What was removed of late, with the way back. */
export function Cleaned() {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const limits = useLimits();
  const { data } = useQuery({ ...cleanupsQuery, enabled: limits === null });
  const undo = useMutation({
    mutationFn: (id: number) =>
      body(api.POST("/api/v1/image-cleanups/{cleanup_id}/undo", { params: { path: { cleanup_id: id } } })),
    onSuccess: (done) => {
      changed(client, "images");
      toast(`${counted(done.images.length, "image")} brought back`);
    },
  });
  const open = data?.filter((c) => c.undo_until) ?? [];
  if (open.length === 0) return null;
  return (
    <section className="mb-4">
      <h2 className="mb-1 text-[1.05rem]">Removed</h2>
      <Problem error={undo.error} />
      <ul className="rounded-md border border-rule bg-card px-3">
        {open.map((c) => (
          <li
            key={c.id}
            className="flex min-h-[36px] items-center gap-3 border-rule border-b border-dashed last:border-0"
          >
            <span>
              {c.images.join(", ")}{" "}
              <span className="text-soft">
                {megabytes(c.freed_bytes)}, {instant(c.at, zone, now)} by {c.by ?? "a script"}
              </span>
            </span>
            <span className="ml-auto text-soft">deleted for good {instant(c.undo_until ?? "", zone, now)}</span>
            <Button needs="operate-all" disabled={undo.isPending} onClick={() => undo.mutate(c.id)}>
              Undo
            </Button>
          </li>
        ))}
      </ul>
    </section>
  );
}
