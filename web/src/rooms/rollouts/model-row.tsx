/** One model of the change table: what its devices get, and narrower rows by uplink or current version. */
import type { Schemas } from "@/api/client";
import { count } from "@/lib/format";
import { Button } from "@/parts/controls";
import { type Change, type Draft, withChange } from "./draft";

interface Props {
  model: Schemas["ModelInAudience"];
  modelId: number;
  draft: Draft;
  images: Schemas["ImageRow"][];
  set: (changes: Change[]) => void;
}

export function ModelRow({ model, modelId, draft, images, set }: Props) {
  const mine = draft.changes.filter((c) => c.model_id === modelId);
  const whole = mine.find((c) => !c.uplink && !c.from_version);
  const narrower = mine.filter((c) => c !== whole);
  const versions = images.filter((i) => i.status === "approved" && i.models.includes(model.model));
  const put = (row: Change) => set(withChange(draft.changes, row));
  return (
    <>
      <tr className="border-rule border-t border-dashed align-baseline">
        <td className="py-1.5 font-semibold">{model.model}</td>
        <td className="pr-4 text-right">{count(model.devices)}</td>
        <td className="text-soft">{few(model.versions)}</td>
        <td>
          <Target
            label={`Target of ${model.model}`}
            row={whole ?? null}
            versions={versions}
            otherwise={fallback(model)}
            onPick={(row) =>
              row ? put({ ...row, model_id: modelId }) : whole && set(withChange(draft.changes, whole, false))
            }
          />
          {model.without_target > 0 && <span className="ml-2 text-brick">no target yet</span>}
          {model.via > 0 && <span className="ml-2 text-soft">{count(model.via)} by steps</span>}
        </td>
        <td className="text-right">
          <Narrow model={model} onNarrow={(row) => put({ ...row, model_id: modelId, choice: "leave_out" })} />
        </td>
      </tr>
      {narrower.map((row) => (
        <tr key={`${row.uplink}|${row.from_version}`} className="align-baseline">
          <td className="py-1 pl-4 text-soft" colSpan={3}>
            of these: {row.uplink && `on ${row.uplink}`} {row.from_version && `now on ${row.from_version}`}
          </td>
          <td>
            <Target
              label={`Target of ${model.model} ${row.uplink}${row.from_version}`}
              row={row}
              versions={versions}
              otherwise={null}
              onPick={(to) =>
                to && put({ ...to, model_id: modelId, uplink: row.uplink, from_version: row.from_version })
              }
            />
          </td>
          <td className="text-right">
            <Button kind="quiet" onClick={() => set(withChange(draft.changes, row, false))}>
              Remove row
            </Button>
          </td>
        </tr>
      ))}
    </>
  );
}

function few(values: Schemas["HowMany"][]): string {
  const shown = values.slice(0, 3).map((v) => `${v.value} ×${count(v.count)}`);
  return values.length > 3 ? `${shown.join(", ")} and ${values.length - 3} more` : shown.join(", ");
}

function fallback(model: Schemas["ModelInAudience"]): string {
  if (model.targets.length > 0) return `as above: ${model.targets.map((t) => t.value).join(", ")}`;
  return model.left_out > 0 ? "left out with the others" : "choose…";
}

function Target({
  label,
  row,
  versions,
  otherwise,
  onPick,
}: {
  label: string;
  row: Change | null;
  versions: Schemas["ImageRow"][];
  otherwise: string | null;
  onPick: (row: Change | null) => void;
}) {
  const lines = [...new Set(versions.map((v) => v.version.split(".").slice(0, 2).join(".")))];
  const value = row ? `${row.choice}:${row.image_id ?? row.within ?? ""}` : "";
  return (
    <select
      className="field"
      aria-label={label}
      value={value.replace(/:(undefined|null)$/, ":")}
      onChange={(e) => {
        const [choice, what] = e.target.value.split(":") as [Change["choice"] | "", string];
        if (!choice) onPick(null);
        else if (choice === "image") onPick({ choice, image_id: Number(what) });
        else onPick({ choice, within: choice === "within" ? what : "" });
      }}
    >
      {otherwise !== null && <option value="">{otherwise}</option>}
      <option value="leave_out:">nothing: left out</option>
      <option value="newest:">the newest approved</option>
      {lines.map((l) => (
        <option key={l} value={`within:${l}`}>
          the newest {l}
        </option>
      ))}
      {versions.map((v) => (
        <option key={v.id} value={`image:${v.id}`}>
          {v.version}
        </option>
      ))}
    </select>
  );
}

function Narrow({
  model,
  onNarrow,
}: {
  model: Schemas["ModelInAudience"];
  onNarrow: (row: Pick<Change, "uplink" | "from_version">) => void;
}) {
  return (
    <select
      className="field max-w-40"
      aria-label={`Narrow ${model.model}`}
      value=""
      onChange={(e) => {
        const [field, value] = e.target.value.split("|");
        onNarrow(field === "uplink" ? { uplink: value } : { from_version: value });
      }}
    >
      <option value="">narrow by…</option>
      {model.uplinks.map((u) => (
        <option key={u.value} value={`uplink|${u.value}`}>
          on {u.value} ({count(u.count)})
        </option>
      ))}
      {model.versions
        .filter((v) => v.value !== "none")
        .map((v) => (
          <option key={v.value} value={`version|${v.value}`}>
            now on {v.value} ({count(v.count)})
          </option>
        ))}
    </select>
  );
}
