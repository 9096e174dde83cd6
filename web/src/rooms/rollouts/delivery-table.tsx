/** The devices of a rollout with phase, what they wait for, since when, last error; filters in the address. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { getRouteApi, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted } from "@/lib/format";
import { Button } from "@/parts/controls";
import { useDeliveryColumns } from "@/parts/delivery-columns";
import { Hold } from "@/parts/hold";
import { IN_MOTION, OFFERED, OUT } from "@/parts/phases";
import { Table } from "@/parts/table";
import { Inline, Loaded } from "@/parts/views";
import { DeviceActions } from "./device-actions";
import { rolloutDeliveries } from "./queries";
import { PLACES } from "./status-breakdown";

const rolloutRoute = getRouteApi("/rollouts/$id");

const PHASE_FILTERS: [string, string][] = [
  ["", "every phase"],
  ["waiting", "waiting"],
  [IN_MOTION.join(","), "in motion"],
  [OFFERED.join(","), "offered"],
  ["confirmed", "confirmed"],
  ["failed", "failed"],
  [OUT.join(","), "out: withdrawn, expired, superseded"],
];

export function DeliveryTable({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const search = rolloutRoute.useSearch();
  const navigate = useNavigate({ from: "/rollouts/$id" });
  const { now } = useClock();
  const mayOperate = useMay("operate");
  const { by: _, ...filter } = search;
  const found = useInfiniteQuery(rolloutDeliveries(rollout.id, filter));
  const [holding, setHolding] = useState(false);
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
        <select
          className="field"
          aria-label="Error"
          value={search.error ?? ""}
          onChange={(e) => set({ error: e.target.value || undefined })}
        >
          <option value="">any error or none</option>
          {rollout.errors.map((e) => (
            <option key={e.error} value={e.error}>
              {e.error} ({count(e.count)})
            </option>
          ))}
        </select>
        {PLACES.filter(([place]) => place !== "last_error" && search[place as keyof typeof search] !== undefined).map(
          ([place, word, none]) => (
            <button
              key={place}
              type="button"
              className="rounded-sm border border-ink px-2 py-1"
              onClick={() => set({ [place]: undefined })}
            >
              {word.toLowerCase()} {String(search[place as keyof typeof search]) || none} <span aria-hidden>×</span>
              <span className="sr-only">, remove this filter</span>
            </button>
          ),
        )}
        <input
          className="field"
          aria-label="Name or id"
          placeholder="Name or id…"
          value={search.q ?? ""}
          onChange={(e) => set({ q: e.target.value || undefined })}
        />
        <p className="ml-auto text-soft" aria-live="polite">
          <Inline of={found}>{(all) => counted(all.pages[0]?.count ?? 0, "device")}</Inline>
        </p>
        {rollout.ended_at === null && (
          <Button needs="operate" kind="quiet" onClick={() => setHolding(true)}>
            Hold by a rule…
          </Button>
        )}
      </div>
      {holding && <Hold rollout={rollout.id} whom={{ rule: "", devices: [] }} onClose={() => setHolding(false)} />}
      {chosen.size > 0 && (
        <DeviceActions rollout={rollout.id} devices={[...chosen.values()]} onDone={() => setChosen(new Map())} />
      )}
      <Loaded of={found} what="The devices" rows={8} className="h-[26rem]">
        {(all) => (
          <Table
            label="Deliveries"
            rows={all.pages.flatMap((p) => p.deliveries)}
            onEnd={() => found.hasNextPage && !found.isFetchingNextPage && found.fetchNextPage()}
            columns={columns}
            selection={
              rollout.ended_at === null && mayOperate ? { chosen, toggle, nameOf: (d) => d.device } : undefined
            }
            onOpen={(d) => navigate({ to: "/devices/$name", params: { name: d.device } })}
            empty="No device fits these filters."
          />
        )}
      </Loaded>
    </section>
  );
}
