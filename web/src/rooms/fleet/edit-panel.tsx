/** Editing the chosen devices, or all that match: what it would do is counted before it is done. */
import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import type { Schemas } from "@/api/client";
import { fields as fieldsQuery, values as valuesQuery } from "@/api/queries";
import { count, counted } from "@/lib/format";
import { Bar, Button, Labelled, Problem } from "@/parts/controls";
import { Effects } from "@/parts/effects";
import { ACTS, type Act, editBody } from "./edit-body";
import { edit as editQuery } from "./queries";
import { useEdit } from "./use-edit";

/** From this many devices on, the number is to be typed. */
const TYPE_FROM = 500;
const FIELD_OF: Partial<Record<Act, string>> = {
  add_tags: "tag",
  remove_tags: "tag",
  site: "site",
  custodian: "custodian",
  zone: "time_zone",
};
const LABELS: Partial<Record<Act, string>> = {
  add_tags: "Tags",
  remove_tags: "Tags",
  zone: "Time zone",
  interval: "Seconds between check-ins",
};
const HINTS: Partial<Record<Act, string>> = {
  add_tags: "Several between commas; a new one is made.",
  zone: "A name like Europe/Madrid; empty takes the zone of each device's site.",
  interval: "900 is every 15 minutes. A device is late after two, silent after ten and at least 24 hours.",
};

export function EditPanel({ target, onDone }: { target: Schemas["EditTargetRequest"]; onDone: () => void }) {
  const [act, setAct] = useState<Act>("add_tags");
  const [key, setKey] = useState("");
  const [value, setValue] = useState("");
  const [typed, setTyped] = useState("");
  const [running, setRunning] = useState<number | null>(null);
  const { told, refusal, apply } = useEdit(editBody(act, key, value, target), (edit) => {
    if (edit.state === "running") setRunning(edit.id);
    else onDone();
  });
  const must = told && told.changing >= TYPE_FROM ? String(told.changing) : "";
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        apply.mutate();
      }}
    >
      <Labelled label="What to change">
        <select
          className="field"
          value={act}
          onChange={(e) => {
            setAct(e.target.value as Act);
            setValue("");
          }}
        >
          {Object.entries(ACTS).map(([k, words]) => (
            <option key={k} value={k}>
              {words}
            </option>
          ))}
        </select>
      </Labelled>
      {(act === "set" || act === "clear") && <AttributeChoice value={key} onChange={setKey} />}
      {act !== "clear" && act !== "retire" && act !== "admit" && (
        <ValueInput field={act === "set" ? key : (FIELD_OF[act] ?? "")} value={value} onChange={setValue} act={act} />
      )}
      <Problem error={refusal} />
      {told && <Told told={told} />}
      {must && (
        <Labelled label={`Type ${must} to go on`}>
          <input className="field" inputMode="numeric" value={typed} onChange={(e) => setTyped(e.target.value)} />
        </Labelled>
      )}
      <Problem error={apply.error} />
      {running !== null && <Progress id={running} />}
      <div className="flex gap-2">
        <Button
          kind={act === "retire" ? "danger" : "main"}
          type="submit"
          disabled={!told?.changing || apply.isPending || (must !== "" && typed !== must)}
        >
          {told ? `Change ${counted(told.changing, "device")}` : "Change"}
        </Button>
        <Button kind="quiet" onClick={onDone}>
          Close
        </Button>
      </div>
    </form>
  );
}

function AttributeChoice({ value, onChange }: { value: string; onChange: (key: string) => void }) {
  const { data } = useQuery(fieldsQuery);
  return (
    <Labelled label="Attribute">
      <select className="field" value={value} onChange={(e) => onChange(e.target.value)}>
        <option value="">choose…</option>
        {data
          ?.filter((f) => f.source === "attribute")
          .map((f) => (
            <option key={f.key} value={f.key}>
              {f.label}
            </option>
          ))}
      </select>
    </Labelled>
  );
}

function ValueInput({
  field,
  value,
  onChange,
  act,
}: {
  field: string;
  value: string;
  onChange: (value: string) => void;
  act: Act;
}) {
  const id = useId();
  const { data } = useQuery({ ...valuesQuery(field), enabled: field !== "" });
  return (
    <Labelled label={LABELS[act] ?? "Value"} hint={HINTS[act]}>
      <input className="field" list={id} value={value} onChange={(e) => onChange(e.target.value)} />
      <datalist id={id}>
        {data?.map((v) => (
          <option key={v.value} value={v.value}>{`${v.count} devices`}</option>
        ))}
      </datalist>
    </Labelled>
  );
}

function Told({ told }: { told: Schemas["EditPreview"] }) {
  return (
    <div className="space-y-1.5" aria-live="polite">
      <p>
        <strong>{count(told.changing)}</strong> of {counted(told.targeted, "device")} change
        {told.changing < told.targeted && "; the others are so already"}.
      </p>
      {told.changing > 0 && <Effects groups={told.groups} />}
    </div>
  );
}

function Progress({ id }: { id: number }) {
  const { data } = useQuery({
    ...editQuery(id),
    refetchInterval: (q) => (q.state.data?.state === "running" ? 700 : false),
  });
  if (!data) return null;
  return (
    <div aria-live="polite">
      <Bar
        share={data.device_count ? data.done_count / data.device_count : 0}
        label={`${data.done_count} of ${data.device_count} written`}
      />
      <p className="text-soft">
        {data.state === "failed" ? data.reason : `${count(data.done_count)} of ${count(data.device_count)} written`}
      </p>
    </div>
  );
}
