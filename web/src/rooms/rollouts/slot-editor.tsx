/** The editor of one slot of the sentence, in place beneath it. */
import type { FieldProblem, Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count } from "@/lib/format";
import { Button, Card, Labelled, Picker } from "@/parts/controls";
import { Days } from "@/parts/days";
import { NamedDevices } from "@/parts/named-devices";
import { ObjectLink } from "@/parts/object-link";
import { RuleEditor } from "@/parts/rule-editor";
import { MomentField, TimeField } from "@/parts/time-fields";
import { type Answer, Loaded } from "@/parts/views";
import { ChangeSlot } from "./change-slot";
import { atAnyHour, type Draft, withHours } from "./draft";
import { SuggestHours } from "./suggest-hours";

interface Props {
  slot: string;
  draft: Draft;
  rollout: Schemas["RolloutDetail"] | null;
  onChange: (draft: Draft) => void;
  images: Answer<Schemas["ImageRow"][]>;
  groups: Answer<Schemas["GroupRow"][]>;
  /** what is wrong with the rule of the audience */
  problems: FieldProblem[];
  /** whose hours the draft has, where nobody chose any yet */
  usual: Schemas["UsualHoursView"] | undefined;
  onClose: () => void;
}

const TITLES: Record<string, string> = {
  change: "Which version, for which devices?",
  audience: "On which devices?",
  exclude: "Which devices are excluded?",
  window: "In which hours, by each device's own clock?",
  limit: "When does it stop itself, and how hard does it try?",
};

export function SlotEditor(props: Props) {
  return (
    <Card title={TITLES[props.slot]} aside={<Button onClick={props.onClose}>Done</Button>}>
      {props.slot === "change" && <ChangeSlot {...props} />}
      {(props.slot === "audience" || props.slot === "exclude") && <GroupsSlot {...props} />}
      {props.slot === "window" && <WindowSlot {...props} />}
      {props.slot === "limit" && <LimitSlot {...props} />}
    </Card>
  );
}

function GroupsSlot({ slot, draft, onChange, groups, problems }: Props) {
  const field = slot === "audience" ? "include" : "exclude";
  return (
    <>
      <Loaded of={groups} what="The groups" rows={5}>
        {(all) => (
          <Picker
            label={slot === "audience" ? "Groups in the audience" : "Groups left out, whatever else they are in"}
            options={all.map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))}
            chosen={draft[field] ?? []}
            onChange={(ids) => onChange({ ...draft, [field]: ids })}
          />
        )}
      </Loaded>
      {slot === "audience" && (
        <NamedDevices
          devices={draft.include_devices ?? []}
          onChange={(devices) => onChange({ ...draft, include_devices: devices })}
        />
      )}
      {slot === "audience" && (
        <div className="mt-3">
          <p className="mb-1 font-semibold text-soft">Of these only those that also match</p>
          <RuleEditor
            label="Rule of the audience"
            value={draft.rule_filter ?? ""}
            onChange={(rule) => onChange({ ...draft, rule_filter: rule })}
            problems={problems}
            hint="empty: all of them. For example: uplink != satellite and battery > 30"
          />
        </div>
      )}
      {slot === "audience" && (
        <label className="mt-3 flex min-h-[30px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={draft.follows_audience ?? false}
            onChange={(e) => onChange({ ...draft, follows_audience: e.target.checked })}
          />
          Follows its audience: devices that join these groups later take part, those that leave are withdrawn if they
          have not begun
        </label>
      )}
      {slot === "audience" && draft.follows_audience && (
        <div className="mt-2 max-w-md">
          <Labelled
            label="Joining later within 24 hours, at most"
            hint="the others wait until somebody lets them in; empty: a twentieth of the audience, and 10 at least"
          >
            <input
              type="number"
              className="field w-28"
              min={0}
              value={draft.late_limit ?? ""}
              onChange={(e) =>
                onChange({ ...draft, late_limit: e.target.value === "" ? null : Math.trunc(Number(e.target.value)) })
              }
            />
          </Labelled>
        </div>
      )}
    </>
  );
}

function WindowSlot({ draft, rollout, onChange, usual }: Props) {
  const { zone } = useClock();
  const any = draft.window_start === null && draft.window_end === null;
  return (
    <div className="flex flex-wrap items-end gap-5">
      <label className="flex min-h-[30px] items-center gap-2">
        <input
          type="checkbox"
          className="accent-[var(--verdigris)]"
          checked={any}
          onChange={(e) =>
            onChange(e.target.checked ? atAnyHour(draft) : { ...draft, window_start: "01:00", window_end: "05:00" })
          }
        />
        At any hour
      </label>
      {usual && (
        <p className="w-full text-soft">
          {usual.rollout_id ? (
            <>
              The hours last used for these models, in{" "}
              <ObjectLink kind="rollout" id={usual.rollout_id} className="slot">
                rollout {usual.rollout_id}
              </ObjectLink>
              {usual.rollout && `, ${usual.rollout}`}.
            </>
          ) : (
            "The usual hours: nothing went to these models in hours of its own yet."
          )}
        </p>
      )}
      {!any && (
        <>
          <Labelled label="Opens (device time)">
            <TimeField
              value={draft.window_start ?? null}
              onChange={(time) => onChange({ ...draft, window_start: time })}
            />
          </Labelled>
          <Labelled label="Closes (device time)">
            <TimeField value={draft.window_end ?? null} onChange={(time) => onChange({ ...draft, window_end: time })} />
          </Labelled>
        </>
      )}
      <MomentField
        label="Not before (your clock)"
        value={draft.starts_at}
        zone={zone}
        onChange={(starts_at) => onChange({ ...draft, starts_at })}
      />
      <MomentField
        label="Ends (your clock)"
        value={draft.ends_at}
        zone={zone}
        onChange={(ends_at) => onChange({ ...draft, ends_at })}
      />
      {rollout && <SuggestHours rollout={rollout.id} onTake={(hours) => onChange(withHours(draft, hours))} />}
      {!any && (
        <Days chosen={draft.window_days ?? []} onChange={(window_days) => onChange({ ...draft, window_days })} />
      )}
      {!any && <Staging draft={draft} onChange={onChange} />}
      <p className="max-w-[60ch] text-soft">
        An install is only offered while the window has the image's expected minutes left, and none in a freeze. A
        window may cross midnight.
      </p>
      <Labelled
        label="Go on in freezes, because"
        hint="empty: freezes hold it; a reason is put on record with your name"
      >
        <input
          className="field w-96"
          maxLength={300}
          value={draft.freeze_override_reason ?? ""}
          onChange={(e) => onChange({ ...draft, freeze_override_reason: e.target.value })}
        />
      </Labelled>
    </div>
  );
}

/** Whether files come ahead of the window, and in which hours. */
function Staging({ draft, onChange }: Pick<Props, "draft" | "onChange">) {
  const times = [
    ["prefetch_start", "Files from (device time)"],
    ["prefetch_end", "Files until (device time)"],
  ] as const;
  return (
    <div className="flex w-full flex-wrap items-end gap-5">
      <label className="flex min-h-[30px] items-center gap-2">
        <input
          type="checkbox"
          className="accent-[var(--verdigris)]"
          checked={draft.prefetch ?? false}
          onChange={(e) => onChange({ ...draft, prefetch: e.target.checked, prefetch_start: null, prefetch_end: null })}
        />
        Fetch files ahead of the window
      </label>
      {draft.prefetch &&
        times.map(([field, label]) => (
          <Labelled key={field} label={label}>
            <TimeField value={draft[field] ?? null} onChange={(time) => onChange({ ...draft, [field]: time })} />
          </Labelled>
        ))}
      {draft.prefetch && (
        <p className="max-w-[60ch] text-soft">
          Devices of open rings fetch and check the file while the window is shut, and install once it opens. With no
          hours given, at any hour.
        </p>
      )}
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
      {number("failure_limit_pct", "Failure rate, %", "halts when it is 90% sure to be above", 0.01)}
      {number("failure_count_limit", "Or so many failures", "empty for no such limit", 1, true)}
      {number("max_concurrent", "At once", "devices offered it or working on it", 1)}
      {number("max_concurrent_per_site", "At once per site", "empty for no such cap", 1, true)}
      {number("max_starts_per_hour", "Started per hour", "empty for no such cap", 1, true)}
      {number(
        "spread_minutes",
        "Starts spread over, min",
        "of each window, or from when the ring opens; 0: all at once",
        0,
      )}
      {number("max_attempts", "Attempts a device", "before it counts as failed", 1)}
      {draft.ends_at
        ? null
        : number("expires_after_hours", "Expires after, hours", "devices not reached by then expire", 1)}
    </div>
  );
}
