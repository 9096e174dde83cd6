/** Which versions are brought: one for all, or a row for each model, uplink and current version. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { models as modelsQuery } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { count, megabytes } from "@/lib/format";
import { Button, Labelled } from "@/parts/controls";
import { MomentField } from "@/parts/time-fields";
import { type Answer, Loaded } from "@/parts/views";
import { preflight } from "./consequences";
import { type Change, type Draft, mainChange, withChange, withMain } from "./draft";
import { ModelRow } from "./model-row";

interface Props {
  draft: Draft;
  rollout: Schemas["RolloutDetail"] | null;
  images: Answer<Schemas["ImageRow"][]>;
  onChange: (draft: Draft) => void;
}

export function ChangeSlot({ draft, rollout, images, onChange }: Props) {
  const set = (changes: Change[]) => onChange({ ...draft, changes });
  if (rollout?.rolls_back_id)
    return <p>Each device gets the version that it had before rollout {rollout.rolls_back_id} changed it.</p>;
  return (
    <div className="space-y-4">
      <Loaded of={images} what="The images" rows={6}>
        {(all) => (
          <>
            <MainTarget
              draft={draft}
              rollout={rollout}
              images={all}
              onPick={(main) => set(withMain(draft.changes, main))}
            />
            <ByModel draft={draft} rollout={rollout} images={all} set={set} />
          </>
        )}
      </Loaded>
      <label className="flex min-h-[30px] items-center gap-2">
        <input
          type="checkbox"
          className="accent-[var(--verdigris)]"
          checked={draft.downgrades ?? false}
          onChange={(e) => onChange({ ...draft, downgrades: e.target.checked })}
        />
        Also to devices that run a newer version: they are downgraded to it
      </label>
      <Labelled label="Shown on the device before the install" hint="your own words; empty for nothing">
        <input
          className="field"
          maxLength={300}
          value={draft.notice ?? ""}
          onChange={(e) =>
            onChange(
              e.target.value
                ? { ...draft, notice: e.target.value }
                : { ...draft, notice: "", defer_times: null, defer_until: null },
            )
          }
        />
      </Labelled>
      {draft.notice && <Deferral draft={draft} onChange={onChange} />}
    </div>
  );
}

/** Whether whoever reads the notice may put the install off. */
function Deferral({ draft, onChange }: Pick<Props, "draft" | "onChange">) {
  const { zone } = useClock();
  return (
    <div className="flex flex-wrap items-end gap-5">
      <Labelled label="May be put off, times" hint="by whoever reads it; empty: no number of times limits it">
        <input
          type="number"
          min={1}
          max={100}
          className="field w-28"
          value={draft.defer_times ?? ""}
          onChange={(e) =>
            onChange({ ...draft, defer_times: e.target.value === "" ? null : Math.max(1, Math.trunc(+e.target.value)) })
          }
        />
      </Labelled>
      <MomentField
        label="And until (your clock)"
        value={draft.defer_until}
        zone={zone}
        onChange={(defer_until) => onChange({ ...draft, defer_until })}
      />
      {!draft.defer_times && !draft.defer_until && <p className="text-soft">It may not be put off.</p>}
    </div>
  );
}

function MainTarget({
  draft,
  rollout,
  images,
  onPick,
}: {
  draft: Draft;
  rollout: Schemas["RolloutDetail"] | null;
  images: Schemas["ImageRow"][];
  onPick: (main: Change | null) => void;
}) {
  const main = mainChange(draft.changes);
  const { data } = useQuery({ ...preflight(rollout?.id ?? 0), enabled: rollout !== null });
  const present = new Set(data?.models.map((m) => m.model));
  // what was chosen before comes first, then what the audience can use, so that nobody scrolls for it; what is chosen
  // now stays where it is, or the arrow keys would never come past the first few
  const [chosenBefore] = useState(main?.image_id);
  const [words, setWords] = useState("");
  const approved = images.filter((i) => i.status === "approved");
  const shown = approved.filter((i) =>
    `${i.name} ${i.family} ${i.models.join(" ")}`.toLowerCase().includes(words.trim().toLowerCase()),
  );
  const place = (i: Schemas["ImageRow"]) => (i.id === chosenBefore ? 0 : i.models.some((m) => present.has(m)) ? 1 : 2);
  const option = (key: string, chosen: boolean, pick: Change | null, name: string, note: string) => (
    <label key={key} className="flex min-h-[34px] items-center gap-2 border-rule border-b border-dashed">
      <input
        type="radio"
        name="image"
        className="accent-[var(--verdigris)]"
        checked={chosen}
        onChange={() => onPick(pick)}
      />
      <strong className="font-semibold">{name}</strong>
      <span className="ml-auto truncate text-soft" title={note}>
        {note}
      </span>
    </label>
  );
  return (
    <>
      {approved.length > 6 && (
        <input
          className="field w-80"
          aria-label="Find an image"
          placeholder="Find an image by version, family or model…"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
      )}
      <div
        className="grid max-h-60 grid-cols-2 gap-x-5 overflow-auto max-xl:grid-cols-1"
        role="radiogroup"
        aria-label="Image"
      >
        {option("newest", main?.choice === "newest", { choice: "newest" }, "The newest approved", "of each model")}
        {option("rows", !main && draft.changes.length > 0, null, "Row by row", "each model says its own below")}
        {shown
          .sort((a, b) => place(a) - place(b))
          .map((i) =>
            option(
              String(i.id),
              main?.image_id === i.id,
              { choice: "image", image_id: i.id },
              i.name,
              `${i.min_version ? `from ${i.min_version} · ` : ""}${megabytes(i.size_bytes)} · ${count(i.runs)} of ${count(i.fits)} run it`,
            ),
          )}
      </div>
      {shown.length === 0 && (
        <p className="text-soft">{words ? "No match." : "No image is approved yet; approve one in Library."}</p>
      )}
    </>
  );
}

function ByModel({
  draft,
  rollout,
  images,
  set,
}: {
  draft: Draft;
  rollout: Schemas["RolloutDetail"] | null;
  images: Schemas["ImageRow"][];
  set: (changes: Change[]) => void;
}) {
  const { data } = useQuery({ ...preflight(rollout?.id ?? 0), enabled: rollout !== null });
  const { data: models } = useQuery(modelsQuery);
  if (!data || !models || data.models.length === 0) return null;
  const unset = data.models.filter((m) => m.without_target > 0);
  const leavesRest = draft.changes.some((c) => c.model_id == null && c.choice === "leave_out");
  return (
    <section aria-label="By model">
      <h3 className="mb-1">By model, as the audience stands</h3>
      <table className="w-full">
        <thead className="text-left text-soft">
          <tr>
            <th className="py-1 font-normal">Model</th>
            <th className="pr-4 text-right font-normal">Devices</th>
            <th className="font-normal">Run now</th>
            <th className="font-normal">Get</th>
            <th>
              <span className="sr-only">narrower rows</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.models.map((m) => (
            <ModelRow
              key={m.model}
              model={m}
              modelId={models.find((x) => x.name === m.model)?.id ?? 0}
              draft={draft}
              images={images}
              set={set}
            />
          ))}
        </tbody>
      </table>
      {(unset.length > 0 || leavesRest) && (
        <p className="mt-2 flex items-center gap-3">
          {unset.length > 0 && (
            <span className="text-brick">
              {count(unset.reduce((n, m) => n + m.without_target, 0))} devices have no target yet, so it cannot be
              launched.
            </span>
          )}
          <Button onClick={() => set(withChange(draft.changes, { choice: "leave_out" }, !leavesRest))}>
            {leavesRest ? "Do not leave the other models out" : "Leave the other models out"}
          </Button>
        </p>
      )}
    </section>
  );
}
