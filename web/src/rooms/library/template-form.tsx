/** An own command: made from a built-in action with other defaults, or from an action that a manufacturer named. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { models as modelsQuery, templates as templatesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { ParameterField, type ParameterSchema } from "@/parts/parameter-field";
import { NEW_ROW, type ParameterRow, rowsOf, schemaOf } from "./parameter-rows";

type Template = Schemas["TemplateRow"];
type Offer = { model: number; from_version: string; to_version: string };

export function TemplateForm({ template, onClose }: { template: Template | null; onClose: () => void }) {
  const client = useQueryClient();
  const known = useQuery(templatesQuery);
  const models = useQuery(modelsQuery);
  const [name, setName] = useState(template?.name ?? "");
  const [note, setNote] = useState(template?.note ?? "");
  const [action, setAction] = useState<Template["action"]>(template?.action ?? "named");
  const [word, setWord] = useState(template?.action_name ?? "");
  const [harm, setHarm] = useState<Template["harm"]>(template?.harm ?? "disruptive");
  const [minutes, setMinutes] = useState(template?.minutes ?? 5);
  const [rows, setRows] = useState(template?.action === "named" ? rowsOf(template.schema as ParameterSchema) : []);
  const [defaults, setDefaults] = useState<Record<string, unknown>>(() =>
    template && template.action !== "named" ? defaultsOf(template.schema as ParameterSchema) : {},
  );
  const [offers, setOffers] = useState<Offer[]>(
    template?.models.map((m) => ({ model: m.id, from_version: m.from_version, to_version: m.to_version })) ?? [],
  );
  const isNamed = action === "named";
  const builtIn = known.data?.filter((t) => t.is_built_in) ?? [];
  const given = (builtIn.find((t) => t.action === action)?.schema ?? {}) as ParameterSchema;
  const save = useMutation({
    mutationFn: () => {
      const sent = {
        name: name.trim(),
        note: note.trim(),
        action,
        action_name: isNamed ? word.trim() : "",
        schema: isNamed ? schemaOf(rows) : {},
        defaults: isNamed ? {} : defaults,
        harm,
        minutes,
        models: offers,
      };
      return template
        ? body(api.PUT("/api/v1/command-templates/{key}", { params: { path: { key: template.key } }, body: sent }))
        : body(api.POST("/api/v1/command-templates", { body: sent }));
    },
    onSuccess: (saved) => {
      changed(client, "templates");
      toast(`The command ${saved.name} is saved`);
      onClose();
    },
  });
  const set = (at: number, change: Partial<ParameterRow>) =>
    setRows(rows.map((r, i) => (i === at ? { ...r, ...change } : r)));
  return (
    <Modal open onClose={onClose} title={template ? `The command ${template.name}` : "A command of your own"}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="flex gap-4">
          <Labelled label="Name">
            <input
              className="field w-56"
              required
              maxLength={60}
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </Labelled>
          <Labelled label="What it does">
            <select
              className="field w-60"
              value={action}
              onChange={(e) => {
                const chosen = e.target.value as Template["action"];
                setAction(chosen);
                setDefaults({});
                setHarm(builtIn.find((t) => t.action === chosen)?.harm ?? harm);
              }}
            >
              <option value="named">an action its manufacturer named</option>
              {builtIn.map((t) => (
                <option key={t.key} value={t.action}>
                  {t.name.toLowerCase()}
                </option>
              ))}
            </select>
          </Labelled>
        </div>
        <Labelled label="Note, shown to whoever chooses it">
          <input className="field" maxLength={300} value={note} onChange={(e) => setNote(e.target.value)} />
        </Labelled>
        <div className="flex flex-wrap gap-4">
          {isNamed && (
            <Labelled label="The manufacturer’s word">
              <input
                className="field w-48 font-mono"
                required
                pattern="[a-z][a-z0-9_.\-]*"
                title="lower-case letters, digits, _ . and -"
                maxLength={60}
                value={word}
                onChange={(e) => setWord(e.target.value)}
              />
            </Labelled>
          )}
          <Labelled label="Harm">
            <select className="field" value={harm} onChange={(e) => setHarm(e.target.value as Template["harm"])}>
              <option>gentle</option>
              <option>disruptive</option>
              <option>destructive</option>
            </select>
          </Labelled>
          <Labelled label="Minutes a device is at it">
            <input
              type="number"
              min={1}
              max={1440}
              className="field w-24"
              value={minutes}
              onChange={(e) => setMinutes(Number(e.target.value))}
            />
          </Labelled>
        </div>
        <fieldset>
          <legend className="mb-1 font-semibold text-soft">
            {isNamed ? "Models that offer it" : "Only these models, if not all"}
          </legend>
          {offers.map((offer, at) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a line is known by its place
            <div key={at} className="mb-1 flex items-center gap-2">
              <select
                className="field w-44"
                aria-label={`Model ${at + 1}`}
                value={offer.model}
                onChange={(e) =>
                  setOffers(offers.map((o, i) => (i === at ? { ...o, model: Number(e.target.value) } : o)))
                }
              >
                {models.data?.map((m) => (
                  <option key={m.id} value={m.id}>
                    {m.name}
                  </option>
                ))}
              </select>
              {(["from_version", "to_version"] as const).map((end) => (
                <input
                  key={end}
                  className="field w-24 font-mono"
                  aria-label={`Model ${at + 1}, ${end === "from_version" ? "from firmware" : "up to firmware"}`}
                  placeholder={end === "from_version" ? "from" : "up to"}
                  value={offer[end]}
                  onChange={(e) => setOffers(offers.map((o, i) => (i === at ? { ...o, [end]: e.target.value } : o)))}
                />
              ))}
              <Button kind="quiet" onClick={() => setOffers(offers.filter((_, i) => i !== at))}>
                Remove
              </Button>
            </div>
          ))}
          <Button
            kind="quiet"
            className="px-0!"
            disabled={!models.data?.length}
            onClick={() => {
              const next = models.data?.find((m) => !offers.some((o) => o.model === m.id)) ?? models.data?.[0];
              if (next) setOffers([...offers, { model: next.id, from_version: "", to_version: "" }]);
            }}
          >
            Add a model
          </Button>
        </fieldset>
        {isNamed ? (
          <Parameters rows={rows} onSet={set} onRows={setRows} />
        ) : (
          <fieldset className="flex flex-wrap gap-4">
            <legend className="mb-1 font-semibold text-soft">Filled in beforehand</legend>
            {Object.entries(given.properties ?? {}).map(([key, parameter]) => (
              <Labelled key={key} label={parameter.title ?? key}>
                <ParameterField
                  parameter={parameter}
                  value={defaults[key]}
                  onChange={(value) => {
                    const { [key]: _, ...others } = defaults;
                    setDefaults(value === undefined ? others : { ...others, [key]: value });
                  }}
                />
              </Labelled>
            ))}
            {Object.keys(given.properties ?? {}).length === 0 && <p className="text-soft">It has no parameters.</p>}
          </fieldset>
        )}
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function defaultsOf(schema: ParameterSchema): Record<string, unknown> {
  const all = Object.entries(schema.properties ?? {});
  return Object.fromEntries(all.filter(([, p]) => p.default !== undefined).map(([key, p]) => [key, p.default]));
}

function Parameters({
  rows,
  onSet,
  onRows,
}: {
  rows: ParameterRow[];
  onSet: (at: number, change: Partial<ParameterRow>) => void;
  onRows: (rows: ParameterRow[]) => void;
}) {
  return (
    <fieldset>
      <legend className="mb-1 font-semibold text-soft">Parameters</legend>
      {rows.map((row, at) => {
        const isNumber = row.type === "number" || row.type === "whole number";
        const field = (
          key: "key" | "title" | "choices" | "minimum" | "maximum" | "unit" | "default",
          words: string,
          size = "w-24",
        ) => (
          <label className="flex flex-col text-soft text-xs">
            {words}
            <input
              className={`field ${size} text-sm`}
              aria-label={`Parameter ${at + 1}, ${words}`}
              value={row[key]}
              onChange={(e) => onSet(at, { [key]: e.target.value })}
            />
          </label>
        );
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a line is known by its place
          <div key={at} className="mb-2 flex flex-wrap items-end gap-2 border-rule border-b border-dashed pb-2">
            {field("key", "key", "w-28 font-mono")}
            {field("title", "label", "w-36")}
            <select
              className="field"
              aria-label={`Parameter ${at + 1}, type`}
              value={row.type}
              onChange={(e) => onSet(at, { type: e.target.value as ParameterRow["type"], default: "" })}
            >
              <option>text</option>
              <option>choice</option>
              <option>whole number</option>
              <option>number</option>
              <option>yes or no</option>
            </select>
            {row.type === "choice" && field("choices", "choices, with commas", "w-44")}
            {isNumber && field("minimum", "from", "w-16")}
            {isNumber && field("maximum", "up to", "w-16")}
            {isNumber && field("unit", "unit", "w-20")}
            {field("default", row.type === "yes or no" ? "default: yes or no" : "default", "w-28")}
            <label className="flex items-center gap-1">
              <input
                type="checkbox"
                checked={row.required}
                onChange={(e) => onSet(at, { required: e.target.checked })}
              />
              needed
            </label>
            <Button kind="quiet" onClick={() => onRows(rows.filter((_, i) => i !== at))}>
              Remove
            </Button>
          </div>
        );
      })}
      <Button kind="quiet" className="px-0!" onClick={() => onRows([...rows, NEW_ROW])}>
        Add a parameter
      </Button>
    </fieldset>
  );
}
