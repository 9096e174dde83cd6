/** The devices of a rollout with phase, what they wait for, since when, last error; filters in the address. */
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { rolloutDeliveries } from "@/api/queries";
import { useClock } from "@/app/clock";
import { rolloutRoute } from "@/app/router";
import { Problem } from "@/parts/controls";
import { useDeliveryColumns } from "@/parts/delivery-columns";
import { count } from "@/parts/format";
import { IN_HAND, OUT } from "@/parts/phases";
import { Table } from "@/parts/table";
import { DeviceActs } from "./device-acts";

const PHASE_FILTERS: [string, string][] = [
  ["", "every phase"],
  ["waiting", "waiting"],
  [IN_HAND.join(","), "in motion"],
  ["confirmed", "confirmed"],
  ["failed", "failed"],
  [OUT.join(","), "out: withdrawn, expired, superseded"],
];

export function DeliveryTable({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const search = rolloutRoute.useSearch();
  const navigate = useNavigate({ from: rolloutRoute.fullPath });
  const { now } = useClock();
  const { data, error } = useQuery(rolloutDeliveries(rollout.id, search));
  const columns = useDeliveryColumns(now);
  const [chosen, setChosen] = useState<ReadonlyMap<number, string>>(new Map());
  const toggle = (d: Schemas["DeliveryRow"]) => {
    const next = new Map(chosen);
    if (!next.delete(d.id)) next.set(d.id, d.device);
    setChosen(next);
  };
  const set = (change: Partial<typeof search>) => navigate({ search: (s) => ({ ...s, ...change }), replace: true });
  return (
    <section id="devices" className="mt-3">
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2 className="text-[1.05rem]">Devices</h2>
        <select
          className="field"
          aria-label="Ring"
          value={search.ring ?? ""}
          onChange={(e) => set({ ring: Number(e.target.value) || undefined })}
        >
          <option value="">every ring</option>
          {rollout.rings.map((r) => (
            <option key={r.id} value={r.position}>
              ring {r.position}, {r.name}
            </option>
          ))}
        </select>
        <select
          className="field"
          aria-label="Phase"
          value={search.phase ?? ""}
          onChange={(e) => set({ phase: e.target.value || undefined })}
        >
          {PHASE_FILTERS.map(([value, word]) => (
            <option key={word} value={value}>
              {word}
            </option>
          ))}
        </select>
        <input
          className="field"
          aria-label="Name or id"
          placeholder="Name or id…"
          value={search.words ?? ""}
          onChange={(e) => set({ words: e.target.value || undefined })}
        />
        <p className="ml-auto text-soft" aria-live="polite">
          {data &&
            `${count(data.count)} devices${data.count > data.deliveries.length ? `, the first ${data.deliveries.length} shown` : ""}`}
        </p>
      </div>
      <Problem error={error} />
      {chosen.size > 0 && (
        <DeviceActs rollout={rollout.id} devices={[...chosen.values()]} onDone={() => setChosen(new Map())} />
      )}
      <div className="h-[26rem]">
        <Table
          label="Deliveries"
          rows={data?.deliveries ?? []}
          columns={columns}
          selection={rollout.ended_at === null ? { chosen, toggle } : undefined}
          onOpen={(d) => navigate({ to: "/devices/$name", params: { name: d.device } })}
          empty="No device fits these filters."
        />
      </div>
    </section>
  );
}
