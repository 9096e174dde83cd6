/** Freezes: times in which nothing is installed on some devices, or on all. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { groups as groupsQuery, sites as sitesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant } from "@/lib/format";
import { Button, Empty, Labelled, Modal, Picker, Problem } from "@/parts/controls";
import { MomentField } from "@/parts/time-fields";
import { freezes as freezesQuery } from "./queries";
import { Removal, Shelf } from "./shelf-table";

type Freeze = Schemas["FreezeRow"];
type Draft = Schemas["FreezeBodyRequest"];

export function Freezes() {
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
      <div className="mb-3 flex items-baseline">
        <p className="text-soft">
          In a freeze nothing is installed on the devices it holds, whatever the windows say. Times by the clock of{" "}
          {city(zone)}.
        </p>
        <Button needs="operate" className="ml-auto" onClick={() => setEditing("new")}>
          Add a freeze
        </Button>
      </div>
      <Problem error={remove.error} />
      <Shelf
        of={asked}
        what="The freezes"
        heads={["Freeze", "From", "To", "Holds", "Devices", "Why"]}
        empty={<Empty title="No freeze">Add one for the days in which nobody wants a device to restart.</Empty>}
      >
        {(f) => {
          const state = new Date(f.ends_at) <= now ? "over" : new Date(f.starts_at) <= now ? "holds now" : "to come";
          return (
            <tr key={f.id} className="border-rule border-t">
              <td className="px-3 py-1.5">
                <strong className="font-semibold">{f.name}</strong>{" "}
                <span className={state === "holds now" ? "text-plum" : "text-soft"}>{state}</span>
              </td>
              <td className="px-3 py-1.5">{instant(f.starts_at, zone, now)}</td>
              <td className="px-3 py-1.5">{instant(f.ends_at, zone, now)}</td>
              <td className="px-3 py-1.5">
                {f.everywhere ? "every device" : [...f.groups, ...f.sites].map((x) => x.name).join(", ")}
              </td>
              <td className="px-3 py-1.5">{count(f.devices)}</td>
              <td className="px-3 py-1.5 text-soft">{f.why}</td>
              <td className="whitespace-nowrap px-3 py-1 text-right">
                <Button needs="operate" kind="quiet" onClick={() => setEditing(f)}>
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
              </td>
            </tr>
          );
        }}
      </Shelf>
      {editing && <FreezeForm freeze={editing === "new" ? null : editing} onClose={() => setEditing(null)} />}
    </>
  );
}

function FreezeForm({ freeze, onClose }: { freeze: Freeze | null; onClose: () => void }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const { data: groups } = useQuery(groupsQuery);
  const { data: sites } = useQuery(sitesQuery);
  const [draft, setDraft] = useState<Draft>(
    freeze
      ? { ...freeze, groups: freeze.groups.map((g) => g.id), sites: freeze.sites.map((s) => s.id) }
      : { name: "", starts_at: "", ends_at: "", everywhere: false, groups: [], sites: [] },
  );
  const save = useMutation({
    mutationFn: () => {
      const { name, why, starts_at, ends_at, everywhere } = draft;
      const sent = { name, why, starts_at, ends_at, everywhere, groups: draft.groups, sites: draft.sites };
      return freeze
        ? body(api.PUT("/api/v1/freezes/{freeze_id}", { params: { path: { freeze_id: freeze.id } }, body: sent }))
        : body(api.POST("/api/v1/freezes", { body: sent }));
    },
    onSuccess: (saved) => {
      changed(client, "freezes");
      toast(`${saved.name} holds ${counted(saved.devices, "device")}`);
      onClose();
    },
  });
  const moment = (field: "starts_at" | "ends_at", label: string) => (
    <MomentField
      label={`${label} (${city(zone)})`}
      min={DateTime.fromJSDate(now, { zone })}
      value={draft[field]}
      zone={zone}
      onChange={(at) => setDraft({ ...draft, [field]: at ?? "" })}
    />
  );
  return (
    <Modal open onClose={onClose} title={freeze ? `Change ${freeze.name}` : "Add a freeze"}>
      <form
        className="space-y-3"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="grid grid-cols-2 gap-4">
          <Labelled label="Name">
            <input
              className="field"
              maxLength={80}
              value={draft.name}
              onChange={(e) => setDraft({ ...draft, name: e.target.value })}
            />
          </Labelled>
          <Labelled label="Why">
            <input
              className="field"
              maxLength={300}
              value={draft.why ?? ""}
              onChange={(e) => setDraft({ ...draft, why: e.target.value })}
            />
          </Labelled>
          {moment("starts_at", "From")}
          {moment("ends_at", "To")}
        </div>
        <label className="flex min-h-[30px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={draft.everywhere ?? false}
            onChange={(e) => setDraft({ ...draft, everywhere: e.target.checked })}
          />
          Every device
        </label>
        {!draft.everywhere && (
          <>
            <Picker
              label="Groups"
              options={(groups ?? []).map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))}
              chosen={draft.groups ?? []}
              onChange={(ids) => setDraft({ ...draft, groups: ids })}
            />
            <Picker
              label="Sites"
              options={(sites ?? []).map((s) => ({ id: s.id, name: s.name, note: count(s.devices) }))}
              chosen={draft.sites ?? []}
              onChange={(ids) => setDraft({ ...draft, sites: ids })}
            />
          </>
        )}
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!draft.name.trim() || !draft.starts_at || !draft.ends_at || save.isPending}
          >
            {freeze ? "Change it" : "Add it"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
