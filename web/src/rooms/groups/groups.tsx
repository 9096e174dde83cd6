/** Groups: the tree at the left, the chosen group beside it. */
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useMatchRoute } from "@tanstack/react-router";
import clsx from "clsx";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { folders as foldersQuery, groups as groupsQuery } from "@/api/queries";
import { Empty, Problem } from "@/parts/controls";
import { count } from "@/parts/format";

export function Groups() {
  const { data: groups, error } = useQuery(groupsQuery);
  const { data: folders } = useQuery(foldersQuery);
  const match = useMatchRoute();
  const atRoot = match({ to: "/groups" });
  return (
    <div className="grid h-full grid-cols-[236px_1fr]">
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
        <nav aria-label="Groups by folder" className="min-h-0 flex-1 overflow-auto pb-4">
          {folders?.map((f) => (
            <FolderBranch key={f.id} folder={f} groups={groups?.filter((g) => g.folder_id === f.id) ?? []} />
          ))}
          {groups
            ?.filter((g) => g.folder_id === null)
            .map((g) => (
              <GroupLeaf key={g.id} group={g} />
            ))}
        </nav>
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

function FolderBranch({ folder, groups }: { folder: Schemas["FolderRow"]; groups: Schemas["GroupRow"][] }) {
  const [open, setOpen] = useState(true);
  return (
    <section>
      <h3 className="font-sans">
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="flex min-h-[28px] w-full items-center gap-1.5 px-3 text-left font-semibold hover:bg-side"
        >
          <span aria-hidden className="w-3 text-faint">
            {open ? "▾" : "▸"}
          </span>
          {folder.name}
          <span className="ml-auto font-normal text-soft" title="distinct devices">
            {count(folder.device_count)}
          </span>
        </button>
      </h3>
      {open && groups.map((g) => <GroupLeaf key={g.id} group={g} />)}
    </section>
  );
}

function GroupLeaf({ group }: { group: Schemas["GroupRow"] }) {
  return (
    <Link
      to="/groups/$id"
      params={{ id: String(group.id) }}
      search={{}}
      className="flex min-h-[28px] items-center gap-1.5 border-transparent border-l-[3px] pr-3 pl-7 hover:bg-side"
      activeProps={{ className: "border-saffron! bg-card" }}
    >
      <span className="truncate">{group.name}</span>
      {group.kind === "rule" && (
        <span className="text-faint" title="by rule">
          ≈
        </span>
      )}
      <span className={clsx("ml-auto text-soft", group.member_count === 0 && "text-brick")}>
        {count(group.member_count)}
      </span>
    </Link>
  );
}
