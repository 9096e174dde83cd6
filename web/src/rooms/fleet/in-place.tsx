/** A value of a device that is changed in place; which groups that moves is said before it is saved. */
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useId, useState } from "react";
import type { Schemas } from "@/api/client";
import { values as valuesQuery } from "@/api/queries";
import { Button, Problem } from "@/parts/controls";
import { Effects } from "@/parts/effects";
import { useEdit } from "./use-edit";

export function InPlace({
  label,
  field,
  value,
  shown,
  choices,
  request,
}: {
  label: string;
  /** whose values are offered while typing */
  field: string;
  value: string;
  shown: ReactNode;
  /** nothing else can be chosen */
  choices?: string[];
  request: (value: string) => Schemas["EditRequestRequest"] | null;
}) {
  const [open, setOpen] = useState(false);
  return open ? (
    <Editing
      label={label}
      field={field}
      value={value}
      choices={choices}
      request={request}
      onClose={() => setOpen(false)}
    />
  ) : (
    <button
      type="button"
      className="-mr-[5px] rounded-sm border border-transparent px-1 text-right hover:border-rule"
      onClick={() => setOpen(true)}
    >
      <span className="sr-only">Change {label}: </span>
      {shown}
    </button>
  );
}

function Editing({
  label,
  field,
  value,
  choices,
  request,
  onClose,
}: {
  label: string;
  field: string;
  value: string;
  choices?: string[];
  request: (value: string) => Schemas["EditRequestRequest"] | null;
  onClose: () => void;
}) {
  const id = useId();
  const [typed, setTyped] = useState(value);
  const known = useQuery({ ...valuesQuery(field), enabled: !choices && field !== "" });
  const wanted = typed.trim() === value ? null : request(typed.trim());
  const { told, refusal, apply } = useEdit(wanted, onClose);
  const common = {
    className: "field w-full",
    "aria-label": label,
    autoFocus: true,
    value: typed,
  };
  return (
    <form
      className="w-full space-y-1 py-1 text-left"
      onSubmit={(e) => {
        e.preventDefault();
        if (told?.changing) apply.mutate();
      }}
      onKeyDown={(e) => e.key === "Escape" && onClose()}
    >
      {choices ? (
        <select {...common} onChange={(e) => setTyped(e.target.value)}>
          <option value="">none</option>
          {choices.map((c) => (
            <option key={c}>{c}</option>
          ))}
        </select>
      ) : (
        <input {...common} list={id} onChange={(e) => setTyped(e.target.value)} />
      )}
      <datalist id={id}>
        {known.data?.map((v) => (
          <option key={v.value} value={v.value}>{`${v.count} devices`}</option>
        ))}
      </datalist>
      <Problem error={refusal ?? apply.error} />
      {told && told.changing > 0 && (
        <div aria-live="polite">
          <Effects groups={told.groups} />
        </div>
      )}
      <div className="flex gap-2">
        <Button type="submit" disabled={!told?.changing || apply.isPending}>
          Save
        </Button>
        <Button kind="quiet" onClick={onClose}>
          Cancel
        </Button>
      </div>
    </form>
  );
}
