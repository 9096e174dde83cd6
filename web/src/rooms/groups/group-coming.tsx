/** What will reach the members of a group within a day and a week. */
import { useQuery } from "@tanstack/react-query";
import { ComingWeek } from "@/parts/coming-list";
import { Loaded } from "@/parts/views";
import { groupComing } from "./queries";

export function GroupComing({ group }: { group: number }) {
  const asked = useQuery(groupComing(group));
  return (
    <section aria-label="What comes for its members">
      <h2 className="mb-1 text-[1.05rem]">What comes for its members</h2>
      <Loaded of={asked} what="What comes for its members" rows={2}>
        {(items) => <ComingWeek items={items} most={5} />}
      </Loaded>
    </section>
  );
}
