/** A shelf of things that devices refer to: made, changed with what that does, deleted where nothing refers to them. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import type { Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { written } from "@/parts/clauses";
import { Button, Empty, Labelled, Modal, Problem } from "@/parts/controls";
import { Effects } from "@/parts/effects";
import { ObjectLink } from "@/parts/object-link";
import type { Answer } from "@/parts/views";
import { GroupLinks, Removal, Shelf } from "./shelf-table";

export interface Thing {
  id: number;
  name: string;
  devices: number;
  groups: Schemas["NamedThing"][];
}

export interface ReferenceField {
  key: string;
  label: string;
  hint?: string;
  needed?: boolean;
  list?: string[];
}

/** A kind of thing: its words, its fields as text, and its calls. */
export interface ThingKind<T extends Thing> {
  word: string;
  /** the field of rules that names it */
  field: string;
  intro: string;
  heads: string[];
  cells: (thing: T) => ReactNode[];
  fields: ReferenceField[];
  read: (thing: T) => Record<string, string>;
  create: (values: Record<string, string>) => Promise<T>;
  change: (id: number, values: Record<string, string>) => Promise<T>;
  preview: (id: number, values: Record<string, string>) => Promise<Schemas["ReferenceEffects"]>;
  remove: (id: number) => Promise<unknown>;
}

export function ReferenceTable<T extends Thing>({ kind, of }: { kind: ThingKind<T>; of: Answer<T[]> }) {
  const [open, setOpen] = useState<T | "new" | null>(null);
  return (
    <>
      <div className="mb-2 flex items-baseline gap-3">
        <p className="text-soft">{kind.intro}</p>
        <Button needs="operate-all" className="ml-auto" onClick={() => setOpen("new")}>
          New {kind.word}
        </Button>
      </div>
      <Shelf
        of={of}
        what={`The ${kind.word}s`}
        heads={[kind.word.replace(/^./, (c) => c.toUpperCase()), ...kind.heads, "Devices", "Named by the rules of"]}
        empty={<Empty title={`No ${kind.word} yet`}>Add one here, or import devices that name it.</Empty>}
      >
        {(t) => <Row key={t.id} kind={kind} thing={t} onOpen={() => setOpen(t)} />}
      </Shelf>
      {open && <Form kind={kind} known={open === "new" ? null : open} onClose={() => setOpen(null)} />}
    </>
  );
}

function Row<T extends Thing>({ kind, thing, onOpen }: { kind: ThingKind<T>; thing: T; onOpen: () => void }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: () => kind.remove(thing.id),
    onSuccess: () => {
      changed(client, "fleet");
      toast(`${thing.name} was deleted`);
    },
  });
  return (
    <tr className="border-rule border-t align-top">
      <td className="px-3 py-1.5">
        <ObjectLink kind={kind.word} id={thing.id} className="hover:underline">
          <strong className="font-semibold">{thing.name}</strong>
        </ObjectLink>
        <Problem error={remove.error} />
      </td>
      {kind.cells(thing).map((cell, i) => (
        <td key={kind.heads[i]} className="px-3 py-1.5">
          {cell}
        </td>
      ))}
      <td className="px-3 py-1.5">
        <Link to="/fleet" search={{ rule: `${kind.field} = ${written(thing.name)}` }} className="slot">
          {count(thing.devices)}
        </Link>
      </td>
      <td className="px-3 py-1.5">
        <GroupLinks groups={thing.groups} />
      </td>
      <td className="whitespace-nowrap px-3 py-1 text-right">
        <Button needs="operate-all" kind="quiet" onClick={onOpen}>
          Change…
        </Button>
        <Removal
          word="Delete…"
          title={`Delete ${thing.name}?`}
          action={`Delete the ${kind.word}`}
          onConfirm={() => remove.mutate()}
        >
          {thing.devices || thing.groups.length
            ? `${counted(thing.devices, "device refers", "devices refer")} to it and ${counted(thing.groups.length, "rule names", "rules name")} it, so it cannot be deleted until those are changed.`
            : "No device refers to it and no rule names it."}
        </Removal>
      </td>
    </tr>
  );
}

function Form<T extends Thing>({ kind, known, onClose }: { kind: ThingKind<T>; known: T | null; onClose: () => void }) {
  const client = useQueryClient();
  const before = known ? kind.read(known) : {};
  const [values, setValues] = useState<Record<string, string>>(before);
  const settled = useDebounced(JSON.stringify(values), 300);
  const edited = JSON.stringify(values) !== JSON.stringify(before);
  const effects = useQuery({
    queryKey: ["preview", kind.word, known?.id, settled],
    queryFn: () => kind.preview(known?.id ?? 0, JSON.parse(settled)),
    enabled: known !== null && edited && settled === JSON.stringify(values),
    retry: false,
  });
  const save = useMutation({
    mutationFn: () => (known ? kind.change(known.id, values) : kind.create(values)),
    onSuccess: (saved) => {
      client.invalidateQueries();
      toast(`${saved.name} saved`);
      onClose();
    },
  });
  const told = known && edited && settled === JSON.stringify(values) ? effects.data : undefined;
  const full = kind.fields.every((f) => !f.needed || values[f.key]?.trim());
  return (
    <Modal open onClose={onClose} title={known ? `Change ${known.name}` : `New ${kind.word}`}>
      <form
        className="grid grid-cols-2 gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {kind.fields.map((f) => (
          <Labelled key={f.key} label={f.label} hint={f.hint}>
            <input
              className="field"
              list={f.list && `list-${f.key}`}
              value={values[f.key] ?? ""}
              onChange={(e) => setValues({ ...values, [f.key]: e.target.value })}
            />
          </Labelled>
        ))}
        {kind.fields.map(
          (f) =>
            f.list && (
              <datalist key={f.key} id={`list-${f.key}`}>
                {f.list.map((v) => (
                  <option key={v} value={v} />
                ))}
              </datalist>
            ),
        )}
        <div className="col-span-2 space-y-1" aria-live="polite">
          <Problem error={edited ? effects.error : null} />
          {told && (
            <>
              <p>
                <strong>{counted(told.devices, "device refers", "devices refer")}</strong> to it
                {told.rules.length > 0 && `; the rules of ${told.rules.map((r) => r.name).join(", ")} are rewritten`}.
              </p>
              <Effects groups={told.groups} />
            </>
          )}
          <Problem error={save.error} />
        </div>
        <div className="col-span-2 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!full || !edited || (known !== null && !told) || save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
