/** One site: its devices, what its uplink has to carry, and what comes for it within a day and a week. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { written } from "@/parts/clauses";
import { ComingWeek } from "@/parts/coming-list";
import { Card } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { Pairs } from "@/parts/pairs";
import { Loaded, WholePage } from "@/parts/views";
import { Grid } from "./grid";
import { siteComing, site as siteQuery, siteUplink } from "./queries";
import { narrowed } from "./rule-joins";

const siteRoute = getRouteApi("/sites/$id");

export function SitePage() {
  const id = Number(siteRoute.useParams().id);
  const asked = useQuery(siteQuery(id));
  usePageTitle(asked.data?.name);
  return (
    <WholePage of={asked} what="The site">
      {(site) => <Shown key={site.id} site={site} />}
    </WholePage>
  );
}

function Shown({ site }: { site: Schemas["SiteRow"] }) {
  const { now } = useClock();
  const navigate = useNavigate();
  const coming = useQuery(siteComing(site.id));
  const there = DateTime.fromJSDate(now, { zone: site.time_zone });
  const rule = `site = ${written(site.name)}`;
  const [[row, column], setAxes] = useState<[string, string]>(["model", "presence"]);
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="flex items-start justify-between">
        <h1 className="text-2xl">{site.name}</h1>
        <Link to="/fleet" search={{ rule }} className="slot font-semibold">
          {counted(site.devices, "device")} in Fleet
        </Link>
      </div>
      <p className="mb-4 text-soft">
        {site.region && `${site.region} · `}
        {city(site.time_zone)}, there it is <strong className="text-ink">{there.toFormat("ccc HH:mm")}</strong>
      </p>
      <div className="grid grid-cols-2 items-start gap-4 max-lg:grid-cols-1">
        <div className="space-y-4">
          {site.devices > 0 && (
            <Grid
              row={row}
              column={column}
              among={{ rule }}
              isWhole
              onFields={(r, c) => setAxes([r, c])}
              onPick={({ row: r, column: c }) => {
                const ofRow = r === undefined ? rule : narrowed(rule, row, r);
                navigate({ to: "/fleet", search: { rule: c === undefined ? ofRow : narrowed(ofRow, column, c) } });
              }}
            />
          )}
          <Uplink id={site.id} />
          <Card title="Named by the rules of">
            {site.groups.length === 0 ? (
              <p className="text-soft">No group’s rule names it.</p>
            ) : (
              <ul>
                {site.groups.map((g) => (
                  <li key={g.id}>
                    <ObjectLink kind="group" id={g.id} className="hover:underline">
                      {g.name}
                    </ObjectLink>
                  </li>
                ))}
              </ul>
            )}
          </Card>
        </div>
        <Card title="What comes for it">
          <Loaded of={coming} what="What comes within a week" rows={4}>
            {(items) => <ComingWeek items={items} most={10} />}
          </Loaded>
        </Card>
      </div>
    </div>
  );
}

/** How much its uplink carries, has under way, and is expected to have, by the hour. */
function Uplink({ id }: { id: number }) {
  const asked = useQuery(siteUplink(id));
  return (
    <Card title="Its uplink">
      <Loaded of={asked} what="What its uplink has to carry" rows={3}>
        {(uplink) => (
          <>
            <Pairs
              rows={[
                ["Carries", `${counted(uplink.at_once, "file")} at once`],
                ["Under way now", count(uplink.under_way)],
                ["Waiting for a file", counted(uplink.waiting, "device")],
              ]}
            />
            <Expected uplink={uplink} />
          </>
        )}
      </Loaded>
    </Card>
  );
}

function Expected({ uplink }: { uplink: Schemas["UplinkView"] }) {
  const { now, zone } = useClock();
  const busy = uplink.hours.filter((h) => h.at_once >= 0.05);
  const [first] = busy;
  if (!first) return <p className="mt-2 text-soft">No forecast expects a file here within a week.</p>;
  const most = Math.max(uplink.at_once, ...busy.map((h) => h.at_once));
  const top = busy.reduce((a, b) => (b.at_once > a.at_once ? b : a));
  const words = (h: Schemas["UplinkHour"]) =>
    `${h.at_once.toLocaleString("en", { maximumFractionDigits: 1 })} at once, ${instant(h.at, zone, now)}`;
  return (
    <figure className="mt-2" aria-label={`Files expected within a week: at most ${words(top)}`}>
      <div className="relative flex h-12 items-end border-rule border-b">
        <span
          aria-hidden
          className="absolute inset-x-0 border-soft/60 border-t border-dashed"
          style={{ bottom: `${(uplink.at_once / most) * 100}%` }}
        />
        {uplink.hours.map((h) => (
          <span
            key={h.at}
            className={`flex-1 ${h.at_once > uplink.at_once ? "bg-saffron" : "bg-verdigris"}`}
            style={{ height: `${(h.at_once / most) * 100}%` }}
            title={h.at_once >= 0.05 ? words(h) : undefined}
          />
        ))}
      </div>
      <figcaption className="text-soft text-xs">
        Expected within a week: at most {words(top)}. The line is what it carries.
      </figcaption>
    </figure>
  );
}
