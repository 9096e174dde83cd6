/** What people call a rollout or a command, why it is there, and where that is written down. */
import { Labelled } from "@/parts/controls";

export interface About {
  name?: string;
  reason?: string;
  ticket?: string;
}

export function AboutFields({
  about,
  onChange,
  needsReason = false,
}: {
  about: About;
  onChange: (change: About) => void;
  needsReason?: boolean;
}) {
  return (
    <div className="flex flex-wrap gap-5">
      <Labelled label="Name, if any">
        <input
          className="field w-56"
          maxLength={80}
          value={about.name}
          onChange={(e) => onChange({ name: e.target.value })}
        />
      </Labelled>
      <Labelled label={needsReason ? "Reason" : "Reason, if any"}>
        <input
          className="field w-80 max-w-full"
          maxLength={300}
          aria-invalid={(needsReason && !(about.reason ?? "").trim()) || undefined}
          value={about.reason}
          onChange={(e) => onChange({ reason: e.target.value })}
        />
      </Labelled>
      <Labelled label="Ticket, number or link">
        <input
          className="field w-56"
          maxLength={200}
          value={about.ticket}
          onChange={(e) => onChange({ ticket: e.target.value })}
        />
      </Labelled>
    </div>
  );
}

/** The reason and the ticket in a line; a ticket that is an address is a link. */
export function AboutLine({ reason, ticket }: { reason: string; ticket: string }) {
  if (!reason && !ticket) return null;
  return (
    <p className="text-soft">
      {reason}
      {reason && ticket && " · "}
      {/^https?:\/\//.test(ticket) ? (
        <a className="slot" href={ticket} target="_blank" rel="noreferrer">
          {ticket}
        </a>
      ) : (
        ticket
      )}
    </p>
  );
}
