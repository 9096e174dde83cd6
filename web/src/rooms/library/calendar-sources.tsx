/** Calendars elsewhere that freezes are read from: a file, or an address that is read again and again. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant, relative } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { HoldersFields, holdsWords } from "@/parts/holders";
import { Loaded } from "@/parts/views";
import { ZoneField } from "@/parts/zone-field";
import { calendarSources } from "./queries";
import { Removal, ShelfTable } from "./shelf-table";

type Source = Schemas["SourceRow"];
type Draft = Schemas["SourceBodyRequest"];
type Told = Schemas["SourcePreview"];

export function CalendarSources() {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const asked = useQuery(calendarSources);
  const [editing, setEditing] = useState<Source | "new" | null>(null);
  const path = (id: number) => ({ params: { path: { source_id: id } } });
  const remove = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/calendar-sources/{source_id}", path(id)),
    onSuccess: () => changed(client, "freezes"),
  });
  const read = useMutation({
    mutationFn: (id: number) => body(api.POST("/api/v1/calendar-sources/{source_id}/read", path(id))),
    onSuccess: (row) => {
      changed(client, "freezes");
      toast(row.last_error ? `${row.name} could not be read` : `Read ${row.name}`);
    },
  });
  return (
    <section className="mt-6" aria-labelledby="calendars">
      <div className="mb-2 flex items-baseline gap-4">
        <h2 id="calendars" className="text-[1.05rem]">
          From calendars elsewhere
        </h2>
        <Button needs="operate-all" className="ml-auto" onClick={() => setEditing("new")}>
          Add a calendar
        </Button>
      </div>
      <Loaded
        of={asked}
        what="The calendars"
        rows={1}
        empty={
          <p className="text-soft">
            None. A calendar of harvests or holidays that is kept elsewhere, as a file or at an address, makes freezes
            here and keeps them as it is.
          </p>
        }
      >
        {(rows) => (
          <ShelfTable heads={["Calendar", "Read", "Holds", "Freezes ahead"]}>
            {rows.map((s) => (
              <tr key={s.id} className="border-rule border-t align-top">
                <td className="px-3 py-1.5">
                  <strong className="font-semibold">{s.name}</strong>
                  <p className="max-w-[24rem] truncate text-soft text-xs" title={s.url}>
                    {s.url || "a file"}
                  </p>
                </td>
                <td className="px-3 py-1.5">
                  {s.read_at ? instant(s.read_at, zone, now) : "never"}
                  {s.url && (
                    <span className="text-soft">
                      , every{" "}
                      {s.read_every_minutes % 60 ? `${s.read_every_minutes} min` : `${s.read_every_minutes / 60} h`}
                    </span>
                  )}
                  {s.last_error && (
                    <p className="text-brick">
                      <span aria-hidden>▪ </span>
                      {s.tried_at && `${relative(s.tried_at, now)}: `}
                      {s.last_error} The freezes stay as they were read.
                    </p>
                  )}
                </td>
                <td className="px-3 py-1.5">{holdsWords(s)}</td>
                <td className="px-3 py-1.5">{count(s.freezes)}</td>
                <td className="whitespace-nowrap px-3 py-1 text-right">
                  {s.url && (
                    <Button
                      needs="operate-all"
                      kind="quiet"
                      disabled={read.isPending}
                      onClick={() => read.mutate(s.id)}
                    >
                      Read now
                    </Button>
                  )}
                  <Button needs="operate-all" kind="quiet" onClick={() => setEditing(s)}>
                    Change
                  </Button>
                  <Removal
                    word="Remove…"
                    title={`Remove the calendar ${s.name}?`}
                    action="Remove it"
                    onConfirm={() => remove.mutate(s.id)}
                  >
                    {counted(s.freezes, "freeze")} that {s.freezes === 1 ? "is" : "are"} not over{" "}
                    {s.freezes === 1 ? "goes" : "go"} with it, and what {s.freezes === 1 ? "it holds" : "they hold"} may
                    be offered installs again.
                  </Removal>
                </td>
              </tr>
            ))}
          </ShelfTable>
        )}
      </Loaded>
      <Problem error={remove.error ?? read.error} />
      {editing && <SourceForm source={editing === "new" ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  );
}

/** First what it is, then what reading it would do, and only then it is kept. */
function SourceForm({ source, onClose }: { source: Source | null; onClose: () => void }) {
  const client = useQueryClient();
  const { zone } = useClock();
  const [draft, setDraft] = useState<Draft>({
    name: source?.name ?? "",
    url: source?.url ?? "",
    text: "",
    time_zone: source?.time_zone ?? zone,
    read_every_minutes: source?.read_every_minutes ?? 60,
    everywhere: source?.everywhere ?? false,
    groups: source?.groups.map((g) => g.id) ?? [],
    sites: source?.sites.map((s) => s.id) ?? [],
  });
  const [fileName, setFileName] = useState("");
  const path = { params: { path: { source_id: source?.id ?? 0 } } };
  const look = useMutation({
    mutationFn: () =>
      source
        ? body(api.POST("/api/v1/calendar-sources/{source_id}/preview", { ...path, body: draft }))
        : body(api.POST("/api/v1/calendar-sources/preview", { body: draft })),
  });
  const keep = useMutation({
    mutationFn: () =>
      source
        ? body(api.PUT("/api/v1/calendar-sources/{source_id}", { ...path, body: draft }))
        : body(api.POST("/api/v1/calendar-sources", { body: draft })),
    onSuccess: (saved) => {
      changed(client, "freezes");
      toast(`${saved.name}: ${counted(saved.freezes, "freeze")} ahead`);
      onClose();
    },
  });
  const set = (fields: Partial<Draft>) => {
    look.reset();
    keep.reset();
    setDraft({ ...draft, ...fields });
  };
  return (
    <Modal open onClose={onClose} title={source ? `Change the calendar ${source.name}` : "Add a calendar"}>
      <form
        className="space-y-3"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          (look.data ? keep : look).mutate();
        }}
      >
        <div className="grid grid-cols-2 gap-4">
          <Labelled label="Name">
            <input
              className="field"
              maxLength={80}
              value={draft.name}
              onChange={(e) => set({ name: e.target.value })}
            />
          </Labelled>
          <Labelled label="Whole days by the clock of">
            <ZoneField value={draft.time_zone ?? zone} onChange={(to) => set({ time_zone: to })} />
          </Labelled>
          <Labelled label="Address" hint="read again every hour">
            <input
              className="field"
              type="url"
              maxLength={1000}
              placeholder="https://…"
              value={draft.url}
              onChange={(e) => {
                setFileName("");
                set({ url: e.target.value, text: "" });
              }}
            />
          </Labelled>
          <Labelled label="or a file" hint={fileName || "a calendar, as .ics"}>
            <input
              type="file"
              accept=".ics,text/calendar"
              onChange={async (e) => {
                const file = e.target.files?.[0];
                if (!file) return;
                setFileName(file.name);
                set({ text: await file.text(), url: "", name: draft.name || file.name.replace(/\.ics$/i, "") });
              }}
            />
          </Labelled>
        </div>
        <HoldersFields value={draft} onChange={set} />
        {look.data && <Preview told={look.data} zone={zone} />}
        <Problem error={look.error ?? keep.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!draft.name.trim() || !(draft.url || draft.text) || look.isPending || keep.isPending}
          >
            {look.isPending ? "Reading…" : look.data ? "Keep it" : "See what is in it"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

const SHOWN = 12;

function Preview({ told, zone }: { told: Told; zone: string }) {
  const { now } = useClock();
  const kept = told.events.filter((e) => e.change !== "gone");
  return (
    <section aria-label="What is in it" className="rounded-md border border-rule bg-side p-3">
      <p className="mb-1 font-semibold">
        {kept.length
          ? `${counted(kept.length, "freeze")} ahead, each for ${counted(told.devices, "device")}`
          : "No freeze is ahead in it"}
      </p>
      <ul>
        {told.events.slice(0, SHOWN).map((e) => (
          <li key={`${e.name}${e.starts_at}${e.change}`} className="flex justify-between gap-4">
            <span className={e.change === "gone" ? "truncate line-through" : "truncate"}>{e.name}</span>
            <span className="whitespace-nowrap text-soft">
              {instant(e.starts_at, zone, now)} to {instant(e.ends_at, zone, now)} {city(zone)}, {e.change}
            </span>
          </li>
        ))}
        {told.events.length > SHOWN && <li className="text-soft">and {told.events.length - SHOWN} more</li>}
      </ul>
      {told.left_out.map((words) => (
        <p key={words}>
          <span aria-hidden className="text-saffron">
            ◆{" "}
          </span>
          Left out: {words}
        </p>
      ))}
    </section>
  );
}
