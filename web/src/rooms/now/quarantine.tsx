/** What the system leaves alone because work on it fails, why, and when it tries again. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { counted, instant, relative } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Empty, Problem } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { Loaded } from "@/parts/views";
import { quarantine as quarantineQuery } from "./queries";

type Row = Schemas["QuarantineRow"];

const KIND: Record<Row["part"], string> = {
  rollout: "Rollout",
  schedule: "Schedule",
  group: "Group",
  device: "Device",
  delivery: "Delivery",
};

export function QuarantinePage() {
  usePageTitle("Quarantine");
  const asked = useQuery(quarantineQuery);
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <h1 className="text-2xl">Quarantine</h1>
      <p className="mb-3 max-w-[70ch] text-soft">
        The system works on rollouts, schedules, groups and devices one by one, each second. What fails is set aside
        here and retried after a pause that doubles; everything else continues.
      </p>
      <Loaded
        of={asked}
        what="The quarantine"
        empty={<Empty title="Nothing is in quarantine">Work on every object succeeds.</Empty>}
      >
        {(rows) => (
          <ul className="space-y-3">
            {rows.map((row) => (
              <Quarantined key={row.id} row={row} />
            ))}
          </ul>
        )}
      </Loaded>
    </div>
  );
}

function Quarantined({ row }: { row: Row }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const again = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/quarantine/{quarantine_id}/try", { params: { path: { quarantine_id: row.id } } })),
    onSuccess: () => {
      changed(client, "attention");
      toast("It is tried again within seconds.");
    },
  });
  return (
    <li className="rounded-md border border-rule bg-card p-4">
      <div className="flex items-start justify-between gap-4">
        <div className="min-w-0">
          <h2 className="text-[1.05rem]">
            <ObjectLink kind={row.part} id={row.object_id} name={row.name} className="slot">
              {KIND[row.part]} {row.name ? `“${row.name}”` : row.object_id}
            </ObjectLink>
          </h2>
          <p className="text-brick">{row.cause}</p>
          <p className="text-soft">
            Since {instant(row.since, zone, now)} · {counted(row.failures, "try", "tries")} failed · next try{" "}
            {relative(row.retry_at, now)}
          </p>
        </div>
        <Button onClick={() => again.mutate()} disabled={again.isPending}>
          Try now
        </Button>
      </div>
      <Problem error={again.error} />
      {row.trace && (
        <details className="mt-2">
          <summary className="cursor-pointer text-soft">Where it failed</summary>
          <pre className="mt-1 overflow-auto rounded-sm bg-side p-2 font-mono text-xs">{row.trace}</pre>
        </details>
      )}
    </li>
  );
}
