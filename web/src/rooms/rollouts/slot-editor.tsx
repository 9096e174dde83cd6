/** The editor of one slot of the sentence, in place beneath it. */
import type { Schemas } from "@/api/client";
import { Button, Card, Labelled, Picker } from "@/parts/controls";
import { count, megabytes } from "@/parts/format";
import type { Draft } from "./draft";

interface Props {
  slot: string;
  draft: Draft;
  onChange: (draft: Draft) => void;
  images: Schemas["ImageRow"][];
  groups: Schemas["GroupRow"][];
  onClose: () => void;
}

const TITLES: Record<string, string> = {
  image: "Which image?",
  audience: "On which devices?",
  exclude: "Without whom?",
  window: "In which hours, by each device's own clock?",
  limit: "When does it stop itself, and how hard does it try?",
};

export function SlotEditor(props: Props) {
  return (
    <Card title={TITLES[props.slot]} aside={<Button onClick={props.onClose}>Done</Button>}>
      {props.slot === "image" && <ImageSlot {...props} />}
      {(props.slot === "audience" || props.slot === "exclude") && <GroupsSlot {...props} />}
      {props.slot === "window" && <WindowSlot {...props} />}
      {props.slot === "limit" && <LimitSlot {...props} />}
    </Card>
  );
}

function ImageSlot({ draft, onChange, images, onClose }: Props) {
  const approved = images.filter((i) => i.status === "approved");
  return (
    <div
      className="grid max-h-72 grid-cols-2 gap-x-5 overflow-auto max-xl:grid-cols-1"
      role="radiogroup"
      aria-label="Image"
    >
      {approved.map((i) => (
        <label key={i.id} className="flex min-h-[34px] items-center gap-2 border-rule border-b border-dashed">
          <input
            type="radio"
            name="image"
            className="accent-[var(--verdigris)]"
            checked={draft.image_id === i.id}
            onChange={() => {
              onChange({ ...draft, image_id: i.id });
              if (draft.include.length) onClose();
            }}
          />
          <strong className="font-semibold">{i.name}</strong>
          <span className="ml-auto truncate text-soft" title={i.notes}>
            {i.min_version && `from ${i.min_version} · `}
            {megabytes(i.size_bytes)} · {count(i.runs)} of {count(i.fits)} run it
          </span>
        </label>
      ))}
    </div>
  );
}

function GroupsSlot({ slot, draft, onChange, groups }: Props) {
  const options = groups.map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }));
  const field = slot === "audience" ? "include" : "exclude";
  return (
    <Picker
      label={slot === "audience" ? "Groups in the audience" : "Groups left out, whatever else they are in"}
      options={options}
      chosen={draft[field] ?? []}
      onChange={(ids) => onChange({ ...draft, [field]: ids })}
    />
  );
}

function WindowSlot({ draft, onChange }: Props) {
  const any = draft.window_start === null && draft.window_end === null;
  return (
    <div className="flex flex-wrap items-end gap-5">
      <label className="flex min-h-[30px] items-center gap-2">
        <input
          type="checkbox"
          className="accent-[var(--verdigris)]"
          checked={any}
          onChange={(e) =>
            onChange({
              ...draft,
              window_start: e.target.checked ? null : "01:00",
              window_end: e.target.checked ? null : "04:30",
            })
          }
        />
        At any hour
      </label>
      {!any && (
        <>
          <Labelled label="Opens (device time)">
            <input
              type="time"
              className="field"
              value={draft.window_start?.slice(0, 5) ?? ""}
              onChange={(e) => onChange({ ...draft, window_start: e.target.value || null })}
            />
          </Labelled>
          <Labelled label="Closes (device time)">
            <input
              type="time"
              className="field"
              value={draft.window_end?.slice(0, 5) ?? ""}
              onChange={(e) => onChange({ ...draft, window_end: e.target.value || null })}
            />
          </Labelled>
        </>
      )}
      <p className="max-w-[48ch] text-soft">
        An install is only offered while the window has the image's expected minutes left. A window may cross midnight.
      </p>
    </div>
  );
}

function LimitSlot({ draft, onChange }: Props) {
  const number = (field: keyof Draft, label: string, hint: string, min: number, optional = false) => (
    <Labelled label={label} hint={hint}>
      <input
        type="number"
        className="field w-28"
        min={min}
        step="any"
        value={(draft[field] as number | null) ?? ""}
        onChange={(e) => {
          const value = e.target.value === "" ? null : Number(e.target.value);
          if (value !== null || optional) onChange({ ...draft, [field]: value });
        }}
      />
    </Labelled>
  );
  return (
    <div className="grid grid-cols-3 gap-5 max-xl:grid-cols-2">
      {number("failure_limit_pct", "Failure rate, %", "halts when it is 90 % sure to be above", 0.01)}
      {number("failure_count_limit", "Or so many failures", "empty for no such limit", 1, true)}
      {number("at_once", "At once", "devices that have it in hand", 1)}
      {number("max_attempts", "Attempts a device", "before it counts as failed", 1)}
      {number("give_up_after_hours", "Give up after, hours", "devices not reached by then expire", 1)}
    </div>
  );
}
