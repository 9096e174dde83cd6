/** Attributes: defined before devices arrive, with how many have a value and which rules read each. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { attributes as attributesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { count, counted, inWords } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Empty, Labelled, Modal, Problem } from "@/parts/controls";
import { GroupLinks, Removal, Shelf } from "./shelf-table";

type Attribute = Schemas["AttributeRow"];
type Draft = Schemas["AttributeDraftRequest"];
const TYPES: Draft["type"][] = ["text", "choice", "number", "yes/no", "date", "version"];

export function Attributes() {
  const asked = useQuery(attributesQuery);
  const [open, setOpen] = useState<Attribute | "new" | null>(null);
  return (
    <>
      <div className="mb-2 flex items-baseline gap-3">
        <p className="text-soft">What operators say of devices. Rules, files and scripts use the reference name.</p>
        <Button needs="operate-all" className="ml-auto" onClick={() => setOpen("new")}>
          Define an attribute
        </Button>
      </div>
      <Shelf
        of={asked}
        what="The attributes"
        heads={["Attribute", "Reference name", "Type", "Devices", "Read by the rules of"]}
        empty={<Empty title="No attribute yet">Define one to describe devices in your own terms.</Empty>}
      >
        {(a) => <Row key={a.key} attribute={a} onOpen={() => setOpen(a)} />}
      </Shelf>
      {open && <Form known={open === "new" ? null : open} onClose={() => setOpen(null)} />}
    </>
  );
}

function Row({ attribute: a, onOpen }: { attribute: Attribute; onOpen: () => void }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/attributes/{key}", { params: { path: { key: a.key } } })),
    onSuccess: () => {
      changed(client, "fleet");
      changed(client, "fields");
      toast(`${a.label} was deleted`);
    },
  });
  return (
    <tr className="border-rule border-t align-top">
      <td className="px-3 py-1.5">
        <strong className="font-semibold">{a.label}</strong>
        {a.note && <span className="block text-soft text-xs">{a.note}</span>}
        <Problem error={remove.error} />
      </td>
      <td className="px-3 py-1.5 font-mono">{a.key}</td>
      <td className="px-3 py-1.5">
        {a.type}
        {a.unit && ` in ${a.unit}`}
        {(a.required || inWords(a.default) !== "") && (
          <span className="block text-soft text-xs">
            {[a.required && "required", inWords(a.default) && `else ${inWords(a.default)}`].filter(Boolean).join(", ")}
          </span>
        )}
        {a.choices.length > 0 && <span className="block text-soft text-xs">{a.choices.join(", ")}</span>}
      </td>
      <td className="px-3 py-1.5">
        <Link to="/fleet" search={{ rule: `${a.key} is set`, columns: a.key }} className="slot">
          {count(a.devices)}
        </Link>
        {a.required && a.without > 0 && (
          <Link
            to="/fleet"
            search={{ rule: `${a.key} is missing` }}
            className="block text-brick text-xs hover:underline"
          >
            {count(a.without)} without
          </Link>
        )}
      </td>
      <td className="px-3 py-1.5">
        <GroupLinks groups={a.groups} />
      </td>
      <td className="whitespace-nowrap px-3 py-1 text-right">
        <Button needs="operate-all" kind="quiet" onClick={onOpen}>
          Change…
        </Button>
        <Removal
          word="Delete…"
          title={`Delete ${a.label}?`}
          action="Delete the attribute"
          onConfirm={() => remove.mutate()}
        >
          {a.devices || a.groups.length
            ? `${counted(a.devices, "device has", "devices have")} a value and ${counted(a.groups.length, "rule")} read it, so it cannot be deleted until those are cleared.`
            : "No device has a value and no rule reads it."}
        </Removal>
      </td>
    </tr>
  );
}

function Form({ known, onClose }: { known: Attribute | null; onClose: () => void }) {
  const client = useQueryClient();
  const [label, setLabel] = useState(known?.label ?? "");
  const [key, setKey] = useState(known?.key ?? "");
  const [type, setType] = useState<Draft["type"]>((known?.type as Draft["type"]) ?? "text");
  const [unit, setUnit] = useState(known?.unit ?? "");
  const [choices, setChoices] = useState(known?.choices.join(", ") ?? "");
  const [note, setNote] = useState(known?.note ?? "");
  const [preset, setPreset] = useState(inWords(known?.default));
  const [required, setRequired] = useState(known?.required ?? false);
  const words = choices
    .split(",")
    .map((c) => c.trim())
    .filter(Boolean);
  const name =
    key ||
    label
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, "_")
      .replace(/^[_0-9]+|_+$/g, "");
  const fields = {
    label,
    type,
    unit,
    choices: type === "choice" ? words : [],
    note,
    default: preset.trim() === "" ? null : preset.trim(),
    required,
  };
  const asked = useDebounced(JSON.stringify({ type: fields.type, choices: fields.choices }), 300);
  const incompatible = useQuery({
    queryKey: ["fleet", "incompatible-values", known?.key, asked],
    queryFn: () =>
      body(
        api.POST("/api/v1/attributes/{key}/incompatible-values", {
          params: { path: { key: known?.key ?? "" } },
          body: JSON.parse(asked),
        }),
      ),
    enabled: known !== null && !(type === "choice" && !words.length),
    retry: false,
  });
  const save = useMutation({
    mutationFn: () =>
      known
        ? body(api.PATCH("/api/v1/attributes/{key}", { params: { path: { key: known.key } }, body: fields }))
        : body(api.POST("/api/v1/attributes", { body: { key: name, ...fields } })),
    onSuccess: (saved) => {
      changed(client, "fleet");
      changed(client, "fields");
      toast(`${saved.label} saved; rules call it ${saved.key}`);
      onClose();
    },
  });
  const unfit = incompatible.data?.reduce((n, m) => n + m.devices, 0) ?? 0;
  return (
    <Modal open onClose={onClose} title={known ? `Change ${known.label}` : "Define an attribute"}>
      <form
        className="grid grid-cols-2 gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Labelled label="Label">
          <input className="field" value={label} maxLength={80} onChange={(e) => setLabel(e.target.value)} />
        </Labelled>
        <Labelled label="Reference name">
          <input
            className="field font-mono"
            value={name}
            maxLength={40}
            disabled={known !== null}
            onChange={(e) => setKey(e.target.value)}
          />
        </Labelled>
        <Labelled label="Type">
          <select className="field" value={type} onChange={(e) => setType(e.target.value as Draft["type"])}>
            {TYPES.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        </Labelled>
        {type === "choice" ? (
          <Labelled label="Choices, between commas">
            <input className="field" value={choices} onChange={(e) => setChoices(e.target.value)} />
          </Labelled>
        ) : (
          <Labelled label="Unit">
            <input className="field" value={unit} maxLength={20} onChange={(e) => setUnit(e.target.value)} />
          </Labelled>
        )}
        <div className="col-span-2">
          <Labelled label="Note">
            <input className="field" value={note} maxLength={300} onChange={(e) => setNote(e.target.value)} />
          </Labelled>
        </div>
        <Labelled label="Default" hint="What a new device gets where nothing is said.">
          {type === "choice" || type === "yes/no" ? (
            <select className="field" value={preset} onChange={(e) => setPreset(e.target.value)}>
              <option value="">none</option>
              {(type === "choice" ? words : ["yes", "no"]).map((w) => (
                <option key={w}>{w}</option>
              ))}
            </select>
          ) : (
            <input className="field" value={preset} onChange={(e) => setPreset(e.target.value)} />
          )}
        </Labelled>
        <label className="flex items-start gap-2 pt-6">
          <input
            type="checkbox"
            className="mt-1 accent-[var(--verdigris)]"
            checked={required}
            onChange={(e) => setRequired(e.target.checked)}
          />
          <span>
            Required{" "}
            <span className="block text-soft text-xs">
              A file without it is refused, and it cannot be cleared.
              {known !== null && known.without > 0 && ` ${counted(known.without, "device")} have none now.`}
            </span>
          </span>
        </label>
        <div className="col-span-2" aria-live="polite">
          {unfit > 0 && (
            <>
              <p className="text-brick">{counted(unfit, "device has", "devices have")} a value that would not fit:</p>
              <ul className="max-h-32 overflow-auto">
                {incompatible.data?.slice(0, 20).map((m) => (
                  <li key={m.value}>
                    <code className="font-mono text-xs">{m.value}</code> on {count(m.devices)}:{" "}
                    <span className="text-soft">{m.why}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
          <Problem error={save.error} />
        </div>
        <div className="col-span-2 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!label.trim() || !name || unfit > 0 || save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
