/** Groups: the tree at the left, the chosen group beside it. */
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useMatchRoute } from "@tanstack/react-router";
import { folders as foldersQuery, groups as groupsQuery } from "@/api/queries";
import { Empty, Problem } from "@/parts/controls";
import { Tree } from "./tree";

export function Groups() {
  const { data: groups, error } = useQuery(groupsQuery);
  const { data: folders } = useQuery(foldersQuery);
  const match = useMatchRoute();
  const atRoot = match({ to: "/groups" });
  return (
    <div className="grid h-full grid-cols-[264px_1fr]">
      <aside className="flex min-h-0 flex-col border-rule border-r" aria-label="Groups">
        <div className="flex items-center justify-between px-4 py-3">
          <h2 className="text-[1.1rem]">Groups</h2>
          <Link
            to="/groups/$id"
            params={{ id: "new" }}
            search={{}}
            className="rounded-sm border border-ink px-3 py-1 font-semibold hover:bg-side"
          >
            New group
          </Link>
        </div>
        <Problem error={error} />
        {folders && groups && <Tree folders={folders} groups={groups} />}
        <p className="flex justify-between border-rule border-t px-4 py-2 text-soft text-xs">
          ≈ by rule · counts as of now
          <Link to="/overlaps" search={{}} className="slot">
            Overlaps
          </Link>
        </p>
      </aside>
      {atRoot ? (
        <Empty title="Choose a group, or make one">
          A group is a set of devices: picked by hand, or all that a rule matches. Membership follows the devices within
          a second.
        </Empty>
      ) : (
        <Outlet />
      )}
    </div>
  );
}
