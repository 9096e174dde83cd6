/** Imports that repeat from an address: when each was read, what became of its last file, and what waits. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, everyWords, instant, relative } from "@/lib/format";
import { Button, Card, Confirm, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { repeatedImports } from "./queries";
import { STATES } from "./recent-imports";
import { RepeatForm } from "./repeat-form";

type Row = Schemas["RepeatedImportRow"];

export function RepeatedImports() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const mayOperate = useMay("operate-all");
  const asked = useQuery(repeatedImports);
  const [editing, setEditing] = useState<Row | "new" | null>(null);
  const path = (id: number) => ({ params: { path: { repeated_id: id } } });
  const read = useMutation({
    mutationFn: (id: number) => body(api.POST("/api/v1/repeated-imports/{repeated_id}/read", path(id))),
    onSuccess: (row) => {
      changed(client, "import");
      if (row.last_error || !row.last_import) toast(`${row.name} could not be read`);
      else navigate({ to: "/import/$id", params: { id: String(row.last_import.id) } });
    },
  });
  const remove = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/repeated-imports/{repeated_id}", path(id)),
    onSuccess: () => changed(client, "import"),
  });
  return (
    <Card
      title="Imports that repeat"
      aside={
        mayOperate && (
          <Button kind="quiet" onClick={() => setEditing("new")}>
            Repeat an import…
          </Button>
        )
      }
    >
      <Loaded
        of={asked}
        what="The imports that repeat"
        rows={1}
        empty={
          <p className="text-soft">
            None. A file that another system keeps at an address can be imported again and again, by a mapping that was
            saved at an import.
          </p>
        }
      >
        {(rows) => (
          <ul>
            {rows.map((row) => (
              <li
                key={row.id}
                className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.4fr)_auto] items-start gap-3 border-rule border-t py-1.5 first:border-0 max-md:grid-cols-1"
              >
                <div className="min-w-0">
                  <strong className="font-semibold">{row.name}</strong>
                  <p className="truncate text-soft text-xs" title={row.url}>
                    {row.url.replace(/[?#].*$/, "")}
                  </p>
                  <p className="text-soft text-xs">
                    {everyWords(row.read_every_minutes * 60)}, by “{row.mapping.name}”; {count(row.unasked)} unasked
                  </p>
                </div>
                <Last row={row} />
                {mayOperate && (
                  <div className="whitespace-nowrap text-right">
                    <Button kind="quiet" disabled={read.isPending} onClick={() => read.mutate(row.id)}>
                      Read now
                    </Button>
                    <Button kind="quiet" onClick={() => setEditing(row)}>
                      Change…
                    </Button>
                    <Confirm
                      trigger={<Button kind="quiet">Remove…</Button>}
                      title={`Let the import “${row.name}” repeat no longer?`}
                      action="Remove it"
                      onConfirm={() => remove.mutate(row.id)}
                    >
                      What it imported stays, and a file of it that waits can still be imported.
                    </Confirm>
                  </div>
                )}
              </li>
            ))}
          </ul>
        )}
      </Loaded>
      <Problem error={read.error ?? remove.error} />
      {editing && <RepeatForm repeated={editing === "new" ? null : editing} onClose={() => setEditing(null)} />}
    </Card>
  );
}

/** What became of the last file, and what was wrong. */
function Last({ row }: { row: Row }) {
  const { now, zone } = useClock();
  const last = row.last_import;
  return (
    <div>
      <p>
        {row.read_at ? `Read ${instant(row.read_at, zone, now)}` : "Never read"}
        {last && (
          <>
            {": "}
            <Link to="/import/$id" params={{ id: String(last.id) }} className="slot">
              {STATES[last.state]}
            </Link>
            <span className="text-soft">
              , {count(last.new_count)} new, {count(last.changed_count)} changed
              {last.wrong_count > 0 && `, ${count(last.wrong_count)} wrong`}
            </span>
          </>
        )}
      </p>
      {row.waits_for && (
        <p className="text-saffron-ink">
          <span aria-hidden>◆ </span>Waits for somebody: {row.waits_for}
        </p>
      )}
      {row.last_error && (
        <p className="text-brick">
          <span aria-hidden>▪ </span>
          {row.tried_at && `Not read ${relative(row.tried_at, now)}`}
          {row.failures > 1 && `, ${row.failures} times in a row`}: {row.last_error} Nothing was changed.
        </p>
      )}
    </div>
  );
}
