/** Groups without a choice: the fleet by folder, what changed today, and what needs a look. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { folders as foldersQuery } from "@/api/queries";
import { count, counted } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { written } from "@/parts/clauses";
import { Bar, Card } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { groupsOverview } from "./queries";

type Overview = Schemas["GroupsOverviewAnswer"];
const SHOWN = 12;

export function GroupsOverview() {
  usePageTitle("Groups");
  const overview = useQuery(groupsOverview);
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-1 text-2xl">Groups</h1>
      <p className="mb-4 max-w-[75ch] text-soft">
        A group is a set of devices: picked by hand, or all that a rule matches. Choose one at the left, or create one.
      </p>
      <Loaded
        of={overview}
        what="The overview of the groups"
        rows={10}
        className="grid grid-cols-2 items-start gap-4 max-lg:grid-cols-1"
      >
        {(told) => (
          <>
            <ByFolder devices={told.devices} />
            <div className="space-y-4">
              <Changed rows={told.changed} />
              <NeedsALook told={told} />
            </div>
          </>
        )}
      </Loaded>
    </div>
  );
}

function ByFolder({ devices }: { devices: number }) {
  const folders = useQuery(foldersQuery);
  return (
    <Card title="The fleet by folder" aside={counted(devices, "device")}>
      <Loaded of={folders} what="The folders" rows={6} empty={<p className="text-soft">No folder yet.</p>}>
        {(rows) => (
          <ul>
            {rows
              .filter((f) => f.parent === null)
              .map((f) => (
                <li key={f.id} className="border-rule border-t border-dashed py-1.5 first:border-0">
                  <span className="flex justify-between gap-3">
                    <strong className="truncate font-semibold">{f.name}</strong>
                    <span className="whitespace-nowrap">{count(f.device_count)}</span>
                  </span>
                  <Bar
                    thin
                    share={devices ? f.device_count / devices : 0}
                    label={`${f.name}: ${f.device_count} of ${devices} devices`}
                  />
                </li>
              ))}
          </ul>
        )}
      </Loaded>
      <p className="mt-2 text-soft">Devices in the groups of each folder; one may be in several folders.</p>
    </Card>
  );
}

function Changed({ rows }: { rows: Overview["changed"] }) {
  return (
    <Card title="Changed in the last 24 h" aside={rows.length > 0 ? counted(rows.length, "group") : undefined}>
      {rows.length === 0 && <p className="text-soft">No device joined or left a group.</p>}
      <ul>
        {rows.slice(0, SHOWN).map((r) => (
          <li key={r.group.id} className="flex min-h-[26px] items-baseline gap-3">
            <GroupLink group={r.group} />
            <span className="ml-auto whitespace-nowrap text-verdigris">{r.joined > 0 && `+${count(r.joined)}`}</span>
            <span className="w-14 whitespace-nowrap text-right text-brick">{r.left > 0 && `−${count(r.left)}`}</span>
          </li>
        ))}
      </ul>
      {rows.length > SHOWN && <p className="text-soft">and {count(rows.length - SHOWN)} more</p>}
    </Card>
  );
}

function NeedsALook({ told }: { told: Overview }) {
  const items: [string, ReactNode][] = [];
  if (told.in_no_group > 0)
    items.push([
      "outside",
      <>
        {told.in_no_group_rule ? (
          <Link to="/fleet" search={{ rule: told.in_no_group_rule }} className="slot">
            {counted(told.in_no_group, "device")}
          </Link>
        ) : (
          <strong>{counted(told.in_no_group, "device")}</strong>
        )}{" "}
        in no group
      </>,
    ]);
  for (const g of told.empty)
    items.push([
      `empty${g.id}`,
      <>
        <GroupLink group={g} /> has no member
      </>,
    ]);
  for (const same of told.equal)
    items.push([
      `equal${same[0]?.id}`,
      <>
        {same.map((g, i) => (
          <span key={g.id}>
            {i > 0 && (i === same.length - 1 ? " and " : ", ")}
            <GroupLink group={g} />
          </span>
        ))}{" "}
        have the same members
      </>,
    ]);
  for (const t of told.tags_once)
    items.push([
      `tag${t.tag}`,
      <>
        the tag{" "}
        <Link to="/fleet" search={{ rule: `tag = ${written(t.tag)}` }} className="slot font-mono">
          {t.tag}
        </Link>{" "}
        is used once, by {t.device}
      </>,
    ]);
  return (
    <Card title="Needs a look">
      {items.length === 0 && (
        <p className="text-soft">
          {told.devices
            ? "Nothing: every device is in a group, and no two are alike."
            : "No device yet, so there is nothing to look at."}
        </p>
      )}
      <ul className="space-y-1">
        {items.map(([key, words]) => (
          <li key={key}>{words}</li>
        ))}
      </ul>
    </Card>
  );
}

function GroupLink({ group }: { group: Schemas["NamedThing"] }) {
  return (
    <Link to="/groups/$id" params={{ id: String(group.id) }} search={{}} className="font-semibold hover:underline">
      {group.name}
    </Link>
  );
}
