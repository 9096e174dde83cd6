/** What will reach a device: open rollouts that have something for it, and schedules that fire at it. */
import { useQuery } from "@tanstack/react-query";
import { byName, upcoming } from "@/api/queries";
import { Card, Problem } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";

export function Upcoming({ device }: { device: string }) {
  const { data, error } = useQuery(upcoming([byName(device)]));
  return (
    <Card title="Upcoming">
      <Problem error={error} />
      {!data && !error && <div className="h-8 animate-pulse rounded-md bg-side" aria-hidden />}
      {data?.length === 0 && <p className="text-soft">No rollout and no command has anything for it.</p>}
      <ul className="space-y-2">
        {data?.map((row) => (
          <li key={row.kind + row.id}>
            <ObjectLink kind={row.kind} id={row.id} className="font-semibold hover:underline">
              {row.name}
            </ObjectLink>
          </li>
        ))}
      </ul>
    </Card>
  );
}
