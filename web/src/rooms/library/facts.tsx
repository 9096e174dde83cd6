/** Facts: what devices report, which type each has, and what of it does not count. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { devicesChanged } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, relative } from "@/lib/format";
import { Button, Empty, Labelled, Modal, Problem } from "@/parts/controls";
import { facts as factsQuery } from "./queries";
import { Shelf } from "./shelf-table";

type Fact = Schemas["FactView"];
const TYPES: NonNullable<Fact["type"]>[] = ["number", "yes/no", "version", "date", "text"];
const HEADS = ["Fact", "Key", "Type", "Devices", "Do not count", "Used by", "Note"];

export function Facts() {
  const asked = useQuery(factsQuery);
  const [open, setOpen] = useState<Fact | null>(null);
  const { now } = useClock();
  const mayOperate = useMay("operate-all");
  return (
    <>
      <p className="mb-2 max-w-[80ch] text-soft">
        What devices report of themselves. A new fact can be used within seconds; its type is what 99% of the last
        values are. Values of another type count as missing in rules.
      </p>
      <Shelf
        of={asked}
        what="The facts"
        heads={HEADS}
        empty={<Empty title="No fact was reported yet">Facts appear here as devices report them.</Empty>}
      >
        {(f) => (
          <tr key={f.key} className="border-rule border-t">
            <td className="px-3 py-1.5 font-semibold">{f.label || f.key}</td>
            <td className="px-3 py-1.5 font-mono text-xs">{f.key}</td>
            <td className="px-3 py-1.5">
              <TypeOf fact={f} />
            </td>
            <td className="px-3 py-1.5 tabular-nums">
              {f.counted_at ? (
                <span title={`counted ${relative(f.counted_at, now)}`}>{count(f.devices)}</span>
              ) : (
                <span className="text-soft">counting…</span>
              )}
            </td>
            <td className="px-3 py-1.5">
              <Misfits fact={f} />
            </td>
            <td className="px-3 py-1.5">
              {f.uses.length > 0 ? counted(f.uses.length, "rule") : <span className="text-soft">nothing</span>}
            </td>
            <td className="px-3 py-1.5 text-soft">{f.note}</td>
            <td className="px-3 py-1.5 text-right">
              {f.type && mayOperate && (
                <Button needs="operate-all" kind="quiet" onClick={() => setOpen(f)}>
                  Edit
                </Button>
              )}
            </td>
          </tr>
        )}
      </Shelf>
      {open && <EditFact fact={open} onClose={() => setOpen(null)} />}
    </>
  );
}

function TypeOf({ fact: f }: { fact: Fact }) {
  if (f.conflict)
    return (
      <span className="text-saffron-ink">
        cannot be used: {f.conflict === "built-in" ? "a built-in field" : "an attribute"} has this key
      </span>
    );
  if (!f.type) return <span className="text-soft">no value yet</span>;
  return (
    <>
      {f.type}
      {f.unit && <span className="text-soft"> in {f.unit}</span>}
      {!f.found && <span className="text-soft">, set by a person</span>}
      {f.mixed && <span className="block text-saffron-ink text-xs">mixed: {kindsInWords(f.kinds)}</span>}
    </>
  );
}

const kindsInWords = (kinds: Record<string, number>) =>
  Object.entries(kinds)
    .sort(([, a], [, b]) => b - a)
    .map(([kind, n]) => `${count(n)} ${kind}`)
    .join(", ");

function Misfits({ fact: f }: { fact: Fact }) {
  if (!f.type || !f.counted_at) return null;
  if (f.incompatible_count === 0) return <span className="text-soft">none</span>;
  return (
    <details>
      <summary className="cursor-pointer text-saffron-ink">{counted(f.incompatible_count, "device")}</summary>
      <ul className="font-mono text-xs">
        {f.incompatible_values.map((m) => (
          <li key={m.value}>
            “{m.value}” <span className="text-soft">{count(m.devices)}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}

function EditFact({ fact, onClose }: { fact: Fact; onClose: () => void }) {
  const client = useQueryClient();
  const [label, setLabel] = useState(fact.label);
  const [unit, setUnit] = useState(fact.unit);
  const [note, setNote] = useState(fact.note);
  const [type, setType] = useState(fact.type);
  const save = useMutation({
    mutationFn: () =>
      body(
        api.PATCH("/api/v1/facts/{key}", {
          params: { path: { key: fact.key } },
          body: { label, unit, note, ...(type && type !== fact.type ? { type } : {}) },
        }),
      ),
    onSuccess: () => {
      devicesChanged(client);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`The fact ${fact.key}`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Labelled label="Label">
          <input className="field" value={label} maxLength={80} onChange={(e) => setLabel(e.target.value)} />
        </Labelled>
        <Labelled label="Type" hint={`Now: ${kindsInWords(fact.kinds) || "no value yet"}. A type set here stays.`}>
          <select className="field" value={type ?? ""} onChange={(e) => setType(e.target.value as Fact["type"])}>
            {TYPES.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        </Labelled>
        <Labelled label="Unit">
          <input className="field" value={unit} maxLength={20} onChange={(e) => setUnit(e.target.value)} />
        </Labelled>
        <Labelled label="Note">
          <input className="field" value={note} maxLength={300} onChange={(e) => setNote(e.target.value)} />
        </Labelled>
        {fact.uses.length > 0 && (
          <ul className="text-soft">
            {fact.uses.map((u) => (
              <li key={u.kind + u.id}>
                {u.kind === "group" ? (
                  <Link to="/groups/$id" params={{ id: String(u.id) }} search={{}} className="slot">
                    {u.sentence}
                  </Link>
                ) : (
                  u.sentence
                )}{" "}
                reads it
              </li>
            ))}
          </ul>
        )}
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!label.trim() || save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
