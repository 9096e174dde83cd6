/** Groups: the tree at the left, the chosen group beside it. */
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useMatchRoute } from "@tanstack/react-router";
import clsx from "clsx";
import { folders as foldersQuery, groups as groupsQuery } from "@/api/queries";
import { useMay } from "@/api/use-may";
import { Loaded } from "@/parts/views";
import { GroupsOverview } from "./overview";
import { Tree } from "./tree";

export function Groups() {
  const groups = useQuery(groupsQuery);
  const folders = useQuery(foldersQuery);
  const mayOperate = useMay("operate-all");
  const match = useMatchRoute();
  const atRoot = match({ to: "/groups" });
  return (
    <div className="grid h-full grid-cols-[264px_minmax(0,1fr)] max-xl:grid-cols-[200px_minmax(0,1fr)] max-md:block max-md:overflow-auto">
      {/* on a phone a chosen group has the page, and the tree is a step back */}
      {!atRoot && (
        <Link to="/groups" className="slot m-4 mb-0 inline-block md:hidden">
          All groups
        </Link>
      )}
      <aside
        className={clsx("flex min-h-0 flex-col border-rule border-r", !atRoot && "max-md:hidden")}
        aria-label="Groups"
      >
        <div className="flex items-center justify-between px-4 py-3">
          <h2 className="text-[1.1rem]">Groups</h2>
          {mayOperate && (
            <Link
              to="/groups/$id"
              params={{ id: "new" }}
              search={{}}
              className="rounded-sm border border-ink px-3 py-1 font-semibold hover:bg-side"
            >
              New group
            </Link>
          )}
        </div>
        <Loaded of={groups} what="The groups" rows={12} className="flex min-h-0 flex-1 flex-col">
          {(known) => (
            <Loaded of={folders} what="The folders" rows={12} className="flex min-h-0 flex-1 flex-col">
              {(tree) => <Tree folders={tree} groups={known} />}
            </Loaded>
          )}
        </Loaded>
        <p className="flex justify-between border-rule border-t px-4 py-2 text-soft text-xs">
          ≈ by rule · counts as of now
          <Link to="/overlaps" search={{}} className="slot">
            Overlaps
          </Link>
        </p>
      </aside>
      {atRoot ? <GroupsOverview /> : <Outlet />}
    </div>
  );
}
