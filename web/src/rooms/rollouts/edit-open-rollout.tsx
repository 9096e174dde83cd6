/** Changing what is still ahead of an open rollout, with the differences shown before they are saved. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { Days } from "@/parts/days";
import { MomentField, TimeField } from "@/parts/time-fields";
import { SuggestHours } from "./suggest-hours";

type Body = Schemas["EditOpenBodyRequest"];
type Ring = Schemas["RemainingRingRequest"];

const NUMBERS: [keyof Body & keyof Schemas["RolloutDetail"], string, boolean][] = [
  ["failure_limit_pct", "Failure rate, %", false],
  ["failure_count_limit", "Or so many failures", true],
  ["max_concurrent", "At once", false],
  ["max_concurrent_per_site", "At once per site", true],
  ["max_starts_per_hour", "Started per hour", true],
  ["spread_minutes", "Starts spread over, min", false],
];

const TIMES = [
  ["window_start", "Opens (device time)"],
  ["window_end", "Closes (device time)"],
  ["prefetch_start", "Files from (device time)"],
  ["prefetch_end", "Files until (device time)"],
] as const;

const staging = (wanted: boolean): Body =>
  wanted ? { prefetch: true } : { prefetch: false, prefetch_start: null, prefetch_end: null };

export function EditOpenRollout({ rollout, onClose }: { rollout: Schemas["RolloutDetail"]; onClose: () => void }) {
  const client = useQueryClient();
  const { zone } = useClock();
  const [change, setChange] = useState<Body>({});
  const asked = useDebounced(change, 300);
  const path = { params: { path: { rollout_id: rollout.id } } };
  const told = useQuery({
    queryKey: ["preview", "ahead", rollout.id, JSON.stringify(asked)],
    queryFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/changes/preview", { ...path, body: asked })),
    enabled: Object.keys(asked).length > 0,
    retry: false,
  });
  const save = useMutation({
    mutationFn: () => body(api.POST("/api/v1/rollouts/{rollout_id}/changes", { ...path, body: change })),
    onSuccess: () => {
      changed(client, "rollout");
      toast("Changed what is ahead");
      onClose();
    },
  });
  const ringsAhead = rollout.rings.slice(0, -1).filter((r) => !r.gate_met_at);
  const setRing = (position: number, fields: Partial<Ring>) => {
    const others = (change.rings ?? []).filter((r) => r.position !== position);
    const mine = change.rings?.find((r) => r.position === position);
    setChange({ ...change, rings: [...others, { ...mine, position, ...fields }] });
  };
  return (
    <Modal open onClose={onClose} title="Change what is still ahead" wide>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <SuggestHours
          rollout={rollout.id}
          onTake={({ window_start, window_end, spread_minutes, goes_first }) =>
            setChange({ ...change, window_start, window_end, spread_minutes, goes_first: goes_first || undefined })
          }
        />
        <div className="grid grid-cols-5 gap-4 max-lg:grid-cols-3">
          {TIMES.map(([field, label]) => (
            <Labelled key={field} label={label}>
              <TimeField
                value={(change[field] === undefined ? rollout[field] : change[field]) ?? null}
                onChange={(time) => setChange({ ...change, [field]: time })}
              />
            </Labelled>
          ))}
          {NUMBERS.map(([field, label, optional]) => (
            <Labelled key={field} label={label} hint={optional ? "empty for none" : undefined}>
              <input
                type="number"
                step="any"
                className="field"
                value={String((change[field] === undefined ? rollout[field] : change[field]) ?? "")}
                onChange={(e) => {
                  const value = e.target.value === "" ? null : Number(e.target.value);
                  if (value !== null || optional) setChange({ ...change, [field]: value });
                }}
              />
            </Labelled>
          ))}
        </div>
        <div className="flex flex-wrap items-end gap-5">
          <Days
            chosen={change.window_days ?? rollout.window_days}
            onChange={(window_days) => setChange({ ...change, window_days })}
          />
          <MomentField
            label="Ends (your clock)"
            value={change.ends_at === undefined ? rollout.ends_at : change.ends_at}
            zone={zone}
            onChange={(ends_at) => setChange({ ...change, ends_at })}
          />
        </div>
        <label className="flex min-h-[30px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={change.goes_first ?? false}
            onChange={(e) => setChange({ ...change, goes_first: e.target.checked || undefined })}
          />
          Go before the other open rollouts, which wait with the devices that both want
        </label>
        <label className="flex min-h-[30px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={change.prefetch ?? rollout.prefetch}
            onChange={(e) => setChange({ ...change, ...staging(e.target.checked) })}
          />
          Fetch files ahead of the window
        </label>
        <Labelled label="Go on in freezes, because" hint="empty: freezes hold it; a reason is recorded with your name">
          <input
            className="field"
            maxLength={300}
            value={change.freeze_override_reason ?? rollout.freeze_override_reason}
            onChange={(e) => setChange({ ...change, freeze_override_reason: e.target.value })}
          />
        </Labelled>
        {ringsAhead.map((r) => (
          <RingFields key={r.id} ring={r} change={change.rings?.find((x) => x.position === r.position)} set={setRing} />
        ))}
        {told.data && told.data.length > 0 && (
          <ul aria-label="What changes" aria-live="polite" className="border-rule border-t pt-2">
            {told.data.map((d) => (
              <li key={`${d.ring}${d.what}`}>
                {d.ring && `ring ${d.ring}: `}
                {d.what} <span className="text-soft line-through">{d.before}</span> <strong>{d.after}</strong>
              </li>
            ))}
          </ul>
        )}
        <Problem error={told.error ?? save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!told.data?.length || save.isPending}>
            Change it
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function RingFields({
  ring,
  change,
  set,
}: {
  ring: Schemas["RingView"];
  change: Ring | undefined;
  set: (position: number, fields: Partial<Ring>) => void;
}) {
  return (
    <fieldset className="flex flex-wrap items-end gap-4">
      <legend className="font-semibold text-soft">
        Gate after ring {ring.position}, {ring.name}
      </legend>
      <Labelled label="Confirmed, %">
        <input
          type="number"
          className="field w-24"
          min={1}
          max={100}
          value={change?.confirmed_pct ?? ring.confirmed_pct}
          onChange={(e) => set(ring.position, { confirmed_pct: Number(e.target.value) })}
        />
      </Labelled>
      <Labelled label="Soak, minutes">
        <input
          type="number"
          className="field w-24"
          min={0}
          value={change?.soak_minutes ?? ring.soak_minutes}
          onChange={(e) => set(ring.position, { soak_minutes: Number(e.target.value) })}
        />
      </Labelled>
      <label className="flex min-h-[30px] items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-[var(--verdigris)]"
          checked={change?.needs_approval ?? ring.needs_approval}
          onChange={(e) => set(ring.position, { needs_approval: e.target.checked })}
        />
        somebody else approves
      </label>
    </fieldset>
  );
}
