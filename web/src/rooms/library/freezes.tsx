/** Freezes: times in which nothing is installed on some devices, or on all. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant } from "@/lib/format";
import { Button, Empty, Problem } from "@/parts/controls";
import { FreezeForm } from "@/parts/freeze-form";
import { holdsWords } from "@/parts/holders";
import { CalendarSources } from "./calendar-sources";
import { freezes as freezesQuery } from "./queries";
import { Removal, Shelf } from "./shelf-table";

type Freeze = Schemas["FreezeRow"];

export function Freezes() {
  const limits = useLimits();
  const client = useQueryClient();
  const { now, zone } = useClock();
  const asked = useQuery(freezesQuery);
  const [editing, setEditing] = useState<Freeze | "new" | null>(null);
  const remove = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/freezes/{freeze_id}", { params: { path: { freeze_id: id } } }),
    onSuccess: () => changed(client, "freezes"),
  });
  return (
    <>
      <div className="mb-3 flex items-baseline gap-4">
        <p className="text-soft">
          In a freeze nothing is installed on the devices it holds, whatever the windows say. Times by the clock of{" "}
          {city(zone)}.
        </p>
        <span className="ml-auto flex items-baseline gap-3">
          <a className="slot whitespace-nowrap" href="/api/v1/freezes/export" download>
            Export as a calendar
          </a>
          <Button needs="operate-all" onClick={() => setEditing("new")}>
            Add a freeze
          </Button>
        </span>
      </div>
      <Problem error={remove.error} />
      <Shelf
        of={asked}
        what="The freezes"
        heads={["Freeze", "From", "To", "Holds", "Devices", "Why"]}
        empty={<Empty title="No freeze">Add one for the days in which nobody wants a device to restart.</Empty>}
      >
        {(f) => {
          const next = f.next ?? f;
          const state = f.next === null ? "over" : new Date(next.starts_at) <= now ? "holds now" : "to come";
          return (
            <tr key={f.id} className="border-rule border-t">
              <td className="px-3 py-1.5">
                <strong className="font-semibold">{f.name}</strong>{" "}
                <span className={state === "holds now" ? "text-plum" : "text-soft"}>{state}</span>
                {f.repeats_yearly && <span className="text-soft">, each year</span>}
                {f.source && <p className="text-soft text-xs">from the calendar {f.source.name}</p>}
              </td>
              <td className="px-3 py-1.5">{instant(next.starts_at, zone, now)}</td>
              <td className="px-3 py-1.5">{instant(next.ends_at, zone, now)}</td>
              <td className="px-3 py-1.5">{holdsWords(f)}</td>
              <td className="px-3 py-1.5">{count(f.devices)}</td>
              <td className="px-3 py-1.5 text-soft">{f.why}</td>
              <td className="whitespace-nowrap px-3 py-1 text-right">
                {f.source === null && (
                  <>
                    <Button needs="operate-all" kind="quiet" onClick={() => setEditing(f)}>
                      Change
                    </Button>
                    <Removal
                      word="Delete…"
                      title={`Delete the freeze ${f.name}?`}
                      action="Delete it"
                      onConfirm={() => remove.mutate(f.id)}
                    >
                      {state === "over"
                        ? "It is over; only its entry goes."
                        : `${counted(f.devices, "device")} may be offered installs again as their windows allow.`}
                    </Removal>
                  </>
                )}
              </td>
            </tr>
          );
        }}
      </Shelf>
      {limits === null && <CalendarSources />}
      {editing && <FreezeForm freeze={editing === "new" ? null : editing} onClose={() => setEditing(null)} />}
    </>
  );
}
