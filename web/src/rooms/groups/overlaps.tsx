/** Overlaps: the sizes of all intersections of chosen groups; a press lists the devices or makes a group of them. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { groups as groupsQuery } from "@/api/queries";
import { count, counted } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Card, Empty, Picker } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { overlaps as overlapsQuery } from "./queries";

const overlapsRoute = getRouteApi("/overlaps");

const MOST = 8;

export function Overlaps() {
  const { groups: inAddress } = overlapsRoute.useSearch();
  const navigate = useNavigate();
  const chosen = (inAddress ?? "").split(",").map(Number).filter(Boolean);
  usePageTitle("Overlaps");
  const groups = useQuery(groupsQuery);
  const found = useQuery(overlapsQuery(chosen));
  return (
    <div className="grid h-full grid-cols-[320px_1fr] gap-5 overflow-auto px-5 py-4 max-lg:grid-cols-1">
      <section>
        <h1 className="mb-2 text-2xl">Overlaps</h1>
        <Loaded of={groups} what="The groups" rows={10}>
          {(all) => (
            <Picker
              label={`Groups, two to ${MOST}`}
              options={all.map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))}
              chosen={chosen}
              columns={1}
              onChange={(ids) =>
                navigate({
                  to: "/overlaps",
                  search: { groups: ids.slice(0, MOST).join(",") || undefined },
                  replace: true,
                })
              }
            />
          )}
        </Loaded>
      </section>
      <section aria-live="polite">
        {chosen.length < 2 ? (
          <Empty title="Choose two groups or more">
            Each row will be the devices that are in exactly those groups and in none of the others chosen.
          </Empty>
        ) : (
          <Loaded of={found} what="The overlaps" rows={8}>
            {(rows) => (
              <Loaded of={groups} what="The groups" rows={8}>
                {(all) => <Picture groups={chosen.flatMap((id) => all.find((g) => g.id === id) ?? [])} rows={rows} />}
              </Loaded>
            )}
          </Loaded>
        )}
      </section>
    </div>
  );
}

function Picture({ groups, rows }: { groups: Schemas["GroupRow"][]; rows: Schemas["OverlapRow"][] }) {
  const most = Math.max(1, ...rows.map((r) => r.count));
  const total = rows.reduce((n, r) => n + r.count, 0);
  return (
    <Card
      title={`${counted(total, "device")} in ${groups.length} groups`}
      aside="each row: exactly these, none of the others"
    >
      <table className="w-full">
        <thead>
          <tr className="align-bottom">
            {groups.map((g) => (
              <th key={g.id} className="h-40 w-9 p-0 text-left font-normal">
                <span className="inline-block max-h-40 truncate [writing-mode:vertical-rl] rotate-180">{g.name}</span>
              </th>
            ))}
            <th className="w-[42%]">
              <span className="sr-only">as bars</span>
            </th>
            <th className="text-right font-normal text-soft">devices</th>
            <th>
              <span className="sr-only">actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.rule} className="border-rule border-t">
              {groups.map((g) => (
                <td key={g.id} className="py-1 pl-1">
                  <span
                    aria-hidden
                    className={`block h-3 w-3 rounded-full border ${r.groups.includes(g.id) ? "border-verdigris bg-verdigris" : "border-rule"}`}
                  />
                  <span className="sr-only">{r.groups.includes(g.id) ? `in ${g.name}` : `not in ${g.name}`}</span>
                </td>
              ))}
              <td className="px-3">
                <div className="h-3 bg-verdigris" style={{ width: `${(r.count / most) * 100}%` }} />
              </td>
              <td className="text-right font-semibold">
                <Link to="/fleet" search={{ rule: r.rule }} className="slot">
                  {count(r.count)}
                </Link>
              </td>
              <td className="whitespace-nowrap pl-3 text-right">
                <Link to="/groups/$id" params={{ id: "new" }} search={{ rule: r.rule }} className="slot">
                  New group from these
                </Link>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
