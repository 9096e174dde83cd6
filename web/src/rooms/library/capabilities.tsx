/** What each model can do, by firmware: the table, and the dialog that changes a model's row. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Modal, Problem } from "@/parts/controls";
import { capabilities as capabilitiesQuery } from "./queries";
import { Shelf } from "./shelf-table";

type Row = Schemas["ModelCapabilitiesRow"];
type Cell = Schemas["CapabilityCell"];

export function Capabilities() {
  const asked = useQuery(capabilitiesQuery);
  const [open, setOpen] = useState<Row | null>(null);
  return (
    <section className="mt-6">
      <h2 className="text-[1.1rem]">What they can do</h2>
      <p className="mb-2 text-soft">
        Which firmware has what commands and rollouts ask for. Preflight counts the devices without, and does not ask
        them.
      </p>
      <Shelf
        of={asked}
        what="What the models can do"
        heads={["Model", "What not all of its firmware can do"]}
        empty={<p className="text-soft">No model yet.</p>}
      >
        {(row) => (
          <tr key={row.id} className="border-rule border-t align-top">
            <td className="whitespace-nowrap px-3 py-1.5 font-semibold">{row.name}</td>
            <td className="px-3 py-1.5">
              <Limited cells={row.capabilities.filter((c) => c.rule)} />
            </td>
            <td className="px-3 py-1 text-right">
              <Button
                needs="operate-all"
                kind="quiet"
                aria-label={`Change what ${row.name} can do`}
                onClick={() => setOpen(row)}
              >
                Change…
              </Button>
            </td>
          </tr>
        )}
      </Shelf>
      {open && <Form row={open} onClose={() => setOpen(null)} />}
    </section>
  );
}

function Limited({ cells }: { cells: Cell[] }) {
  if (cells.length === 0) return <span className="text-soft">nothing: all of it can do everything</span>;
  return (
    <ul>
      {cells.map((cell) => (
        <li key={cell.capability}>
          {cell.words}: {said(cell)}
          {cell.without > 0 && (
            <>
              {" · "}
              <Link to="/fleet" search={{ rule: cell.rule }} className="slot">
                {counted(cell.without, "device")} without
              </Link>
            </>
          )}
        </li>
      ))}
    </ul>
  );
}

function said({ never, from_version, to_version }: Cell): string {
  if (never) return "no firmware";
  const ends = [from_version && `from ${from_version}`, to_version && `up to ${to_version}`].filter(Boolean);
  return ends.join(" ") || "all firmware";
}

type Which = "all" | "some" | "none";

function Form({ row, onClose }: { row: Row; onClose: () => void }) {
  const client = useQueryClient();
  const [cells, setCells] = useState(
    row.capabilities.map((c): Cell & { which: Which } => ({
      ...c,
      which: c.never ? "none" : c.from_version || c.to_version ? "some" : "all",
    })),
  );
  const ranges = cells
    .filter((c) => c.which !== "all")
    .map(({ capability: name, which, from_version, to_version }) =>
      which === "none"
        ? { capability: name, never: true }
        : { capability: name, from_version: from_version.trim(), to_version: to_version.trim() },
    );
  const written = JSON.stringify(ranges);
  const settled = useDebounced(written, 300);
  const path = { params: { path: { id: row.id } } };
  const told = useQuery({
    queryKey: ["preview", "capabilities", row.id, settled],
    queryFn: () =>
      body(api.POST("/api/v1/models/{id}/capabilities/preview", { ...path, body: { ranges: JSON.parse(settled) } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const save = useMutation({
    mutationFn: () => body(api.PUT("/api/v1/models/{id}/capabilities", { ...path, body: { ranges } })),
    onSuccess: (saved) => {
      changed(client, "fleet");
      toast(`What ${saved.name} can do is saved`);
      onClose();
    },
  });
  const set = (at: number, change: Partial<Cell & { which: Which }>) =>
    setCells(cells.map((c, i) => (i === at ? { ...c, ...change } : c)));
  const isSettled = settled === written && !told.isFetching;
  return (
    <Modal open onClose={onClose} title={`What ${row.name} can do`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {cells.map((cell, at) => (
          <fieldset
            key={cell.capability}
            className="grid grid-cols-[9.5rem_8.5rem_1fr_1fr] items-center gap-2 border-rule border-b pb-3"
          >
            <legend className="sr-only">{cell.words}</legend>
            <span className="font-semibold">{cell.words}</span>
            <select
              className="field"
              aria-label={`${cell.words}: which firmware`}
              value={cell.which}
              onChange={(e) => set(at, { which: e.target.value as Which })}
            >
              <option value="all">all firmware</option>
              <option value="some">from … to …</option>
              <option value="none">no firmware</option>
            </select>
            {cell.which === "some" ? (
              <>
                <Version
                  words={`${cell.words}: from`}
                  value={cell.from_version}
                  onSet={(from_version) => set(at, { from_version })}
                />
                <Version
                  words={`${cell.words}: up to`}
                  value={cell.to_version}
                  onSet={(to_version) => set(at, { to_version })}
                />
              </>
            ) : (
              <span className="col-span-2" />
            )}
            <span className="col-span-4 text-soft" aria-live="polite">
              {isSettled && told.data
                ? `${counted(told.data.capabilities[at]?.without ?? 0, "device")} would be without`
                : "counting…"}
            </span>
          </fieldset>
        ))}
        <Problem error={save.error ?? told.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!isSettled || told.isError || save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Version({ words, value, onSet }: { words: string; value: string; onSet: (text: string) => void }) {
  return (
    <input
      className="field w-full min-w-0 font-mono"
      aria-label={words}
      placeholder={words.split(": ")[1]}
      maxLength={64}
      value={value}
      onChange={(e) => onSet(e.target.value)}
    />
  );
}
