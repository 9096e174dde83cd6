/** What people call a command, why it is there, and where that is written down. */
import { Labelled } from "@/parts/controls";
import type { Draft } from "./draft";

export function About({
  draft,
  onChange,
  needsReason,
}: {
  draft: Draft;
  onChange: (draft: Draft) => void;
  needsReason: boolean;
}) {
  return (
    <div className="mt-5 flex flex-wrap gap-5">
      <Labelled label="Name, if any">
        <input
          className="field w-56"
          maxLength={80}
          value={draft.name}
          onChange={(e) => onChange({ ...draft, name: e.target.value })}
        />
      </Labelled>
      <Labelled label={needsReason ? "Reason" : "Reason, if any"}>
        <input
          className="field w-80 max-w-full"
          maxLength={300}
          aria-invalid={(needsReason && !(draft.reason ?? "").trim()) || undefined}
          value={draft.reason}
          onChange={(e) => onChange({ ...draft, reason: e.target.value })}
        />
      </Labelled>
      <Labelled label="Ticket, number or link">
        <input
          className="field w-56"
          maxLength={200}
          value={draft.ticket}
          onChange={(e) => onChange({ ...draft, ticket: e.target.value })}
        />
      </Labelled>
    </div>
  );
}
