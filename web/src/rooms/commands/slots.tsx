/** The editors of a command's sentence, one for each slot. */
import { useQuery } from "@tanstack/react-query";
import { groups as groupsQuery } from "@/api/queries";
import { count } from "@/lib/format";
import { Button, Card, Labelled, Picker } from "@/parts/controls";
import { NamedDevices } from "@/parts/named-devices";
import { Loaded } from "@/parts/views";
import type { Draft, Template } from "./draft";
import { ParametersSlot, TemplateSlot } from "./template-slot";
import { WhenSlot } from "./when-slot";

const TITLES: Record<string, string> = {
  template: "What does it do?",
  parameters: "With which parameters?",
  audience: "On which devices?",
  exclude: "Which devices are excluded?",
  when: "When?",
  spread: "Spread over how long, and how many at once?",
  give_up: "When does it give up?",
  late: "What about devices that are not back by then?",
  freezes: "What about devices in a freeze?",
  overlap: "What about devices that are still at the firing before?",
};

export function SlotEditor({
  slot,
  draft,
  onChange,
  onClose,
  template,
  error,
  today,
  mayRunNow,
}: {
  slot: string;
  draft: Draft;
  onChange: (draft: Draft) => void;
  onClose: () => void;
  template: Template | undefined;
  error: unknown;
  today: string;
  mayRunNow: boolean;
}) {
  const groups = useQuery(groupsQuery);
  const pick = (label: string, chosen: number[], to: (ids: number[]) => void) => (
    <Loaded of={groups} what="The groups" rows={5}>
      {(all) => (
        <Picker
          label={label}
          chosen={chosen}
          onChange={to}
          options={all.map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))}
        />
      )}
    </Loaded>
  );
  const minutes = (label: string, key: "spread_minutes" | "expires_after_minutes", least: number, hint: string) => (
    <Labelled label={label} hint={hint}>
      <input
        type="number"
        min={least}
        className="field w-28"
        value={draft[key]}
        onChange={(e) => onChange({ ...draft, [key]: Number(e.target.value) })}
      />
    </Labelled>
  );
  return (
    <Card className="mt-4" title={TITLES[slot]} aside={<Button onClick={onClose}>Done</Button>}>
      {slot === "template" && <TemplateSlot draft={draft} onChange={onChange} />}
      {slot === "parameters" && <ParametersSlot template={template} draft={draft} onChange={onChange} error={error} />}
      {slot === "audience" && (
        <>
          {pick("Groups", draft.include, (include) => onChange({ ...draft, include }))}
          <NamedDevices
            devices={draft.include_devices}
            onChange={(include_devices) => onChange({ ...draft, include_devices })}
          />
        </>
      )}
      {slot === "exclude" && pick("Groups left out", draft.exclude, (exclude) => onChange({ ...draft, exclude }))}
      {slot === "when" && <WhenSlot draft={draft} onChange={onChange} today={today} mayRunNow={mayRunNow} />}
      {slot === "spread" && (
        <div className="flex flex-wrap gap-6">
          {minutes(
            "Minutes",
            "spread_minutes",
            0,
            "Each device keeps its own minute within the spread, day after day.",
          )}
          <Cap
            label="At once at a site, at most"
            value={draft.at_once_per_site ?? null}
            onChange={(at_once_per_site) => onChange({ ...draft, at_once_per_site })}
          />
          <Labelled label="At once in all, at most">
            <input
              type="number"
              min={1}
              className="field w-28"
              value={draft.max_concurrent}
              onChange={(e) => onChange({ ...draft, max_concurrent: Math.max(1, Number(e.target.value)) })}
            />
          </Labelled>
        </div>
      )}
      {slot === "give_up" &&
        minutes("Minutes after the firing", "expires_after_minutes", 1, "What is not begun by then is late.")}
      {slot === "late" && (
        <Choice
          label="A device that was not reached in time"
          hint="At most 30 days later, and only the latest firing: the next one takes its place."
          value={draft.late ?? "drop"}
          options={[
            ["drop", "has missed this firing"],
            ["run", "runs it when it is back"],
          ]}
          onChange={(late) => onChange({ ...draft, late })}
        />
      )}
      {slot === "freezes" && (
        <Choice
          label="As it fires"
          hint="A freeze that begins before the command is over counts too. Gentle commands pass."
          value={draft.freezes ?? "wait"}
          options={[
            ["wait", "they wait for its end"],
            ["drop", "they are left out"],
          ]}
          onChange={(freezes) => onChange({ ...draft, freezes })}
        />
      )}
      {slot === "overlap" && (
        <Choice
          label="A device that has begun the firing before and not ended it"
          hint="One that has not begun it does the new one only."
          value={draft.overlap ?? "wait"}
          options={[
            ["wait", "does this one after it"],
            ["skip", "is left out of this one"],
          ]}
          onChange={(overlap) => onChange({ ...draft, overlap })}
        />
      )}
    </Card>
  );
}

function Choice<T extends string>({
  label,
  hint,
  value,
  options,
  onChange,
}: {
  label: string;
  hint: string;
  value: T;
  options: [T, string][];
  onChange: (value: T) => void;
}) {
  return (
    <Labelled label={label} hint={hint}>
      <select className="field w-72" value={value} onChange={(e) => onChange(e.target.value as T)}>
        {options.map(([key, words]) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    </Labelled>
  );
}

function Cap({
  label,
  value,
  onChange,
}: {
  label: string;
  value: number | null;
  onChange: (value: number | null) => void;
}) {
  return (
    <Labelled label={label} hint="Empty is no such limit.">
      <input
        type="number"
        min={1}
        className="field w-28"
        placeholder="no limit"
        value={value ?? ""}
        onChange={(e) => onChange(e.target.value ? Math.max(1, Number(e.target.value)) : null)}
      />
    </Labelled>
  );
}
