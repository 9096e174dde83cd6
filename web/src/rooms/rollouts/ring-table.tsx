/** The rings in the order in which they open: who is in each, and the gate after it. */
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "@/api/client";
import { count, percent } from "@/lib/format";
import { gateWords, whom } from "@/lib/ring-words";
import { Bar, Button, Card } from "@/parts/controls";
import type { Answer } from "@/parts/views";
import { preflight } from "./consequences";
import type { Draft, RingDraft } from "./draft";
import { RingEditor } from "./ring-editor";
import { Plans, TakenFrom } from "./ring-plan-slot";

interface Props {
  draft: Draft;
  onChange: (draft: Draft) => void;
  groups: Answer<Schemas["GroupRow"][]>;
  rollout: Schemas["RolloutDetail"] | null;
  editing: boolean;
  onEdit: () => void;
}

export function RingTable({ draft, onChange, groups, rollout, editing, onEdit }: Props) {
  const { data } = useQuery({ ...preflight(rollout?.id ?? 0), enabled: rollout !== null });
  const most = Math.max(1, ...(data?.rings.map((r) => r.devices) ?? []));
  const reached = (data?.rings ?? []).reduce((sum, r) => sum + r.devices, 0);
  const set = (i: number, change: Partial<RingDraft>) =>
    onChange({ ...draft, rings: draft.rings.map((r, j) => (j === i ? { ...r, ...change } : r)) });
  return (
    <Card
      title="Rings, in the order they open"
      aside={
        <span className="flex items-center gap-3">
          every device lands in exactly one, the first that takes it
          <Button onClick={onEdit} aria-expanded={editing}>
            {editing ? "Done" : "Edit rings"}
          </Button>
        </span>
      }
    >
      <ol>
        {draft.rings.map((ring, i) => {
          const found = data?.rings[i];
          return (
            <li
              // biome-ignore lint/suspicious/noArrayIndexKey: a ring is known by its place
              key={i}
              className="grid grid-cols-[1.6rem_1fr_18.5rem_4.5rem] items-center gap-3 border-rule border-t border-dashed py-2.5"
            >
              <span className="font-bold font-display text-lg text-saffron-ink">{i + 1}</span>
              {editing ? (
                <RingEditor
                  ring={ring}
                  groups={groups.data ?? []}
                  last={i === draft.rings.length - 1}
                  onChange={(c) => set(i, c)}
                />
              ) : (
                <div className="min-w-0">
                  <strong>{ring.name}</strong>{" "}
                  <span className="text-soft">
                    {groups.data || ring.kind !== "group" ? whom(ring, groups.data ?? []) : "…"}
                  </span>
                  {found && (
                    <div className="mt-1.5 max-w-md">
                      <Bar share={found.devices / most} label={`${found.devices} devices`} />
                    </div>
                  )}
                  {found?.devices === 0 && i < draft.rings.length - 1 && reached > 0 && (
                    <p className="mt-1 text-brick">
                      No device: nothing is tried here, so a person must open ring {i + 2}.
                    </p>
                  )}
                </div>
              )}
              <div className="text-soft">
                {i === 0 ? "opens at launch" : `opens when ring ${i} is through`}
                <br />
                {i < draft.rings.length - 1 && gateWords(ring)}
              </div>
              <div className="text-right">
                {editing ? (
                  <Button
                    kind="quiet"
                    aria-label={`Remove ring ${i + 1}`}
                    disabled={draft.rings.length === 1}
                    onClick={() => onChange({ ...draft, rings: draft.rings.filter((_, j) => j !== i) })}
                  >
                    Remove
                  </Button>
                ) : (
                  <strong>{found ? count(found.devices) : <span className="font-normal text-soft">…</span>}</strong>
                )}
              </div>
            </li>
          );
        })}
      </ol>
      <TakenFrom draft={draft} />
      {editing && <Plans draft={draft} onChange={onChange} />}
      {editing && (
        <Button
          className="mt-2"
          onClick={() =>
            onChange({
              ...draft,
              rings: [
                ...draft.rings,
                { name: `Ring ${draft.rings.length + 1}`, kind: "rest", confirmed_pct: 95, soak_minutes: 60 },
              ],
            })
          }
        >
          Add a ring
        </Button>
      )}
      {data && <Likeness data={data} limit={draft.failure_limit_pct ?? 2} />}
    </Card>
  );
}

/** Does the first drawn ring look like the rest, and would it show a fault? */
function Likeness({ data, limit }: { data: Schemas["PreflightView"]; limit: number }) {
  const ring = data.rings.find((r) => r.shares.length > 0);
  if (!ring || ring.devices === 0) return null;
  const fields = [...new Set(ring.shares.map((s) => s.field))];
  return (
    <div className="mt-3 border-rule border-t pt-3">
      <h3 className="mb-2">Does “{ring.name}” look like the rest?</h3>
      <div className="grid grid-cols-4 gap-5 max-xl:grid-cols-2">
        {fields.map((field) => (
          <div key={field}>
            <h4 className="mb-1 font-sans font-semibold text-soft first-letter:uppercase">{field}</h4>
            {ring.shares
              .filter((s) => s.field === field)
              .slice(0, 3)
              .map((s) => (
                <div key={s.value} className="mb-1.5">
                  <div className="flex justify-between gap-2">
                    <span className="truncate">{s.value}</span>
                    <span className="text-soft" title={`of all: ${percent(s.in_all, 0)}`}>
                      {percent(s.in_ring, 0)}
                    </span>
                  </div>
                  <Bar
                    share={s.in_ring}
                    needed={s.in_all}
                    label={`${percent(s.in_ring, 0)} of the ring, ${percent(s.in_all, 0)} of all`}
                  />
                </div>
              ))}
          </div>
        ))}
      </div>
      <p className="mt-1 text-soft">
        The dark mark is the share among all devices; the largest difference is{" "}
        <strong className="text-ink">{percent(ring.largest_difference, 1)}</strong> (total variation{" "}
        {ring.variation.toFixed(2)}). {count(ring.devices)} devices show a {limit}% fault with{" "}
        <strong className="text-ink">{percent(ring.detects, 0)}</strong> likelihood; to be 95% sure, take{" "}
        <strong className="text-ink">{count(data.devices_for_95)}</strong>.
      </p>
    </div>
  );
}
