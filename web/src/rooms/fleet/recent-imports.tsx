/** The latest imports, and undoing one as one step. */
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed, devicesChanged } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { Button, Card, Modal, Problem } from "@/parts/controls";
import { More } from "@/parts/list-parts";
import { Loaded, Skeleton } from "@/parts/views";
import { imports as importsQuery } from "./queries";

type Row = Schemas["ImportListRow"];

export const STATES: Record<Row["state"], string> = {
  checking: "checking…",
  checked: "checked, not imported yet",
  applying: "importing…",
  done: "imported",
  cancelled: "cancelled",
  failed: "failed",
  undone: "undone",
};

export function RecentImports() {
  const asked = useInfiniteQuery(importsQuery);
  const { now, zone } = useClock();
  return (
    <Card title="Recent imports">
      <Loaded
        of={asked}
        what="The recent imports"
        isEmpty={(all) => all.pages[0]?.count === 0}
        empty={<p className="text-soft">No file was imported yet.</p>}
      >
        {(data) => (
          <>
            <ul>
              {data.pages
                .flatMap((p) => p.imports)
                .map((row) => (
                  <li
                    key={row.id}
                    className="grid grid-cols-[1fr_9rem_12rem_9rem_5rem] items-center gap-3 border-rule border-t py-1 first:border-0"
                  >
                    <Link
                      to="/import/$id"
                      params={{ id: String(row.id) }}
                      className="truncate font-semibold hover:underline"
                    >
                      {row.file_name}
                    </Link>
                    <span>{STATES[row.state]}</span>
                    <span className="text-soft">
                      {count(row.new_count)} new, {count(row.changed_count)} changed
                    </span>
                    <span className="text-soft">
                      {instant(row.created_at, zone, now)}
                      {row.created_by && `, ${row.created_by}`}
                    </span>
                    <span className="text-right">
                      <UndoImport id={row.id} state={row.state} written={row.written_count} />
                    </span>
                  </li>
                ))}
            </ul>
            <More
              of={asked}
              shown={data.pages.reduce((n, p) => n + p.imports.length, 0)}
              all={data.pages[0]?.count ?? 0}
              what="imports"
            />
          </>
        )}
      </Loaded>
    </Card>
  );
}

/** *Undo…* where there is something to undo. */
export function UndoImport({ id, state, written }: { id: number; state: Row["state"]; written: number }) {
  const [open, setOpen] = useState(false);
  const mayOperate = useMay("operate-all");
  if (!mayOperate || written === 0 || !(state === "done" || state === "cancelled")) return null;
  return (
    <>
      <Button kind="quiet" onClick={() => setOpen(true)}>
        Undo…
      </Button>
      {open && <Undo id={id} onClose={() => setOpen(false)} />}
    </>
  );
}

function Undo({ id, onClose }: { id: number; onClose: () => void }) {
  const client = useQueryClient();
  const path = { params: { path: { import_id: id } } };
  const told = useQuery({
    queryKey: ["preview", "undo-import", id],
    queryFn: () => body(api.GET("/api/v1/imports/{import_id}/undo", path)),
    retry: false,
  });
  const undo = useMutation({
    mutationFn: () => body(api.POST("/api/v1/imports/{import_id}/undo", path)),
    onSuccess: (done) => {
      changed(client, "import");
      devicesChanged(client);
      toast(`Import undone: ${counted(done.restored + done.removed + done.kept_waiting, "device")}`);
      onClose();
    },
  });
  const d = told.data;
  return (
    <Modal open onClose={onClose} title="Undo this import?">
      <div className="space-y-3">
        {!d && !told.error && <Skeleton rows={2} />}
        {d && d.changed_since > 0 && (
          <p className="text-brick">
            {counted(d.changed_since, "device was", "devices were")} changed since, so it can no longer be undone as one
            step.
          </p>
        )}
        {d && d.changed_since === 0 && (
          <ul className="list-disc pl-5">
            {d.restored > 0 && <li>{counted(d.restored, "device gets", "devices get")} back what was there before.</li>}
            {d.removed > 0 && (
              <li>{counted(d.removed, "new device is", "new devices are")} removed: none has called.</li>
            )}
            {d.kept_waiting > 0 && (
              <li>
                {counted(d.kept_waiting, "new device has", "new devices have")} enrolled since, and{" "}
                {d.kept_waiting === 1 ? "waits" : "wait"} for admission again.
              </li>
            )}
          </ul>
        )}
        <Problem error={told.error ?? undo.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="danger" disabled={!d || d.changed_since > 0 || undo.isPending} onClick={() => undo.mutate()}>
            Undo the import
          </Button>
        </div>
      </div>
    </Modal>
  );
}
