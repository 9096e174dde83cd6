/** The groups that a device is in, since when, and why: each line of the rule with the device's own value. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { compared } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { instant } from "@/lib/format";
import { Card } from "@/parts/controls";
import { Loaded } from "@/parts/views";

type Membership = Schemas["GroupOfDevice"];

export function Why({ device }: { device: Schemas["DeviceDetail"] }) {
  return (
    <Card title="Groups, and why">
      <ul className="space-y-1.5">
        {device.groups.map((g) => (
          <InGroup key={g.id} group={g} device={device.name} />
        ))}
        {device.groups.length === 0 && <li className="text-soft">It is in no group.</li>}
      </ul>
    </Card>
  );
}

function InGroup({ group, device }: { group: Membership; device: string }) {
  const { now, zone } = useClock();
  const [open, setOpen] = useState(false);
  const why = useQuery({ ...compared(group.rule, [device]), enabled: open && group.rule !== "" });
  return (
    <li>
      <div className="flex items-baseline gap-2">
        <Link to="/groups/$id" params={{ id: String(group.id) }} search={{}} className="font-semibold hover:underline">
          {group.name}
        </Link>
        {group.rule && (
          <button type="button" aria-expanded={open} className="slot text-xs" onClick={() => setOpen(!open)}>
            why
          </button>
        )}
        <span className="ml-auto shrink-0 text-right text-soft text-xs" title={group.cause}>
          since {instant(group.since, zone, now)}
        </span>
      </div>
      {!group.rule && <p className="text-soft text-xs">{group.cause}</p>}
      {open && (
        <Loaded of={why} what="The reasons" rows={2}>
          {(told) => (
            <ul className="mt-0.5 border-rule border-l-2 pl-2 text-xs">
              {(told.devices[0]?.clauses ?? []).map((line) => (
                <li key={line.text} className="flex items-baseline gap-2">
                  <span aria-hidden className={line.true ? "text-verdigris" : "text-brick"}>
                    {line.true ? "✓" : "✕"}
                  </span>
                  <code className="font-mono">{line.text}</code>
                  <span className="ml-auto text-right text-soft">{line.value}</span>
                </li>
              ))}
              <li className="text-soft">{group.cause}</li>
            </ul>
          )}
        </Loaded>
      )}
    </li>
  );
}
