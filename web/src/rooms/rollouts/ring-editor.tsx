/** The fields of one ring: its name, whom it takes, and the gate after it. */
import type { Schemas } from "@/api/client";
import type { RingDraft } from "./draft";

export function RingEditor({
  ring,
  groups,
  last,
  onChange,
}: {
  ring: RingDraft;
  groups: Schemas["GroupRow"][];
  /** there is no gate after it */
  last: boolean;
  onChange: (change: Partial<RingDraft>) => void;
}) {
  const number = (label: string, value: number | null | undefined, set: (n: number) => void, min = 0) => (
    <label className="flex items-center gap-1.5 text-soft">
      {label}
      <input
        type="number"
        min={min}
        step="any"
        className="field w-20"
        value={value ?? ""}
        onChange={(e) => set(Number(e.target.value))}
      />
    </label>
  );
  /** One that may be left empty, which asks for the usual. */
  const optional = (
    label: string,
    usual: string,
    value: number | null | undefined,
    set: (n: number | null) => void,
    min: number,
  ) => (
    <label className="flex items-center gap-1.5 text-soft">
      {label}
      <input
        type="number"
        min={min}
        className="field w-20"
        placeholder={usual}
        value={value ?? ""}
        onChange={(e) => set(e.target.value === "" ? null : Math.max(min, Math.round(Number(e.target.value))))}
      />
    </label>
  );
  return (
    <div className="flex flex-wrap items-center gap-2">
      <input
        className="field w-32"
        aria-label="Name of the ring"
        value={ring.name}
        maxLength={60}
        onChange={(e) => onChange({ name: e.target.value })}
      />
      <select
        className="field"
        aria-label="Devices of the ring"
        value={ring.kind}
        onChange={(e) => {
          const kind = e.target.value as RingDraft["kind"];
          // a share of all is no share of a group
          onChange(kind === "group" ? { kind, share_pct: null } : { kind });
        }}
      >
        <option value="group">a group</option>
        <option value="share">a share</option>
        <option value="number">a number</option>
        <option value="rest">all the rest</option>
      </select>
      {ring.kind === "group" && (
        <select
          className="field max-w-44"
          aria-label="Group of the ring"
          value={ring.group_id ?? ""}
          onChange={(e) => onChange({ group_id: Number(e.target.value) || null })}
        >
          <option value="">which?</option>
          {groups.map((g) => (
            <option key={g.id} value={g.id}>
              {g.name}
            </option>
          ))}
        </select>
      )}
      {ring.kind === "group" && optional("% of it", "all", ring.share_pct, (n) => onChange({ share_pct: n }), 1)}
      {ring.kind === "share" && number("%", ring.share_pct, (n) => onChange({ share_pct: n }), 0.01)}
      {ring.kind === "number" && number("devices", ring.number, (n) => onChange({ number: Math.round(n) }), 1)}
      {!last && (
        <>
          {number("confirmed %", ring.confirmed_pct, (n) => onChange({ confirmed_pct: n }), 1)}
          {number("soak, min", ring.soak_minutes, (n) => onChange({ soak_minutes: Math.round(n) }))}
          {optional("tried, at least", "half", ring.min_tried, (n) => onChange({ min_tried: n }), 1)}
          {optional("not tried, at most", "any", ring.max_unreached, (n) => onChange({ max_unreached: n }), 0)}
          <label className="flex items-center gap-1.5 text-soft">
            <input
              type="checkbox"
              className="accent-[var(--verdigris)]"
              checked={ring.needs_approval ?? false}
              onChange={(e) => onChange({ needs_approval: e.target.checked })}
            />
            somebody else approves
          </label>
        </>
      )}
    </div>
  );
}
