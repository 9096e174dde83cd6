/** What will reach a device: open rollouts that have something for it, and schedules that fire at it. */
import { useQuery } from "@tanstack/react-query";
import { ComingWeek } from "@/parts/coming-list";
import { Card } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { Loaded } from "@/parts/views";
import { byName, deviceComing, upcoming } from "./queries";

export function Upcoming({ device }: { device: string }) {
  const asked = useQuery(upcoming([byName(device)]));
  const coming = useQuery(deviceComing(device));
  return (
    <Card title="Upcoming">
      <Loaded
        of={asked}
        what="What is ahead of it"
        rows={1}
        empty={<p className="text-soft">No rollout and no command has anything for it.</p>}
      >
        {(data) => (
          <ul className="space-y-2">
            {data.map((row) => (
              <li key={row.kind + row.id}>
                <ObjectLink kind={row.kind} id={row.id} className="font-semibold hover:underline">
                  {row.name}
                </ObjectLink>
              </li>
            ))}
          </ul>
        )}
      </Loaded>
      <div className="mt-3 border-rule border-t pt-2">
        <Loaded of={coming} what="What comes within a week" rows={2}>
          {(items) => <ComingWeek items={items} most={6} isOfOne />}
        </Loaded>
      </div>
    </Card>
  );
}
