/** Who was in a group at one moment and at another: only then, both, only later. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, fullInstant, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Problem } from "@/parts/controls";
import { MomentField } from "@/parts/time-fields";
import { Failed, Loaded } from "@/parts/views";
import { groupHistory, group as groupQuery, membershipDiff } from "./queries";

const daysRoute = getRouteApi("/groups/$id/days");

export function CompareMoments() {
  const { id } = daysRoute.useParams();
  const { from, until } = daysRoute.useSearch();
  const navigate = useNavigate();
  const { now, zone } = useClock();
  const group = useQuery(groupQuery(Number(id)));
  usePageTitle(group.data && `Membership history of ${group.data.name}`);
  const history = useQuery(groupHistory(Number(id)));
  const here = DateTime.fromJSDate(now, { zone });
  const first = from ?? here.minus({ days: 7 }).startOf("day").toUTC().toISO() ?? "";
  const days = useQuery(membershipDiff(Number(id), first, until));
  const go = (change: { from?: string; until?: string }) =>
    navigate({ to: "/groups/$id/days", params: { id }, search: { from: first, until, ...change }, replace: true });
  const words = { first: instant(first, zone, now), second: until ? instant(until, zone, now) : "now" };
  return (
    <div className="flex min-h-0 flex-col gap-3 overflow-auto px-5 py-3">
      <div>
        <h1 className="text-[1.45rem]">Membership history{group.data && ` of “${group.data.name}”`}</h1>
        <Link to="/groups/$id" params={{ id }} search={{}} className="slot">
          Back to the group
        </Link>
      </div>
      <div className="flex flex-wrap items-end gap-4">
        <MomentField label="At" value={first} zone={zone} max={here} onChange={(at) => at && go({ from: at })} />
        <MomentField
          label="and at"
          value={until ?? here.toISO()}
          zone={zone}
          max={here}
          onChange={(at) => go({ until: at ?? undefined })}
        />
        {until && (
          <button type="button" className="slot mb-1.5" onClick={() => go({ until: undefined })}>
            now
          </button>
        )}
        <p className="mb-1.5 text-soft">by your clock, {zone}</p>
      </div>
      <Problem error={group.error} />
      <Loaded of={days} what="The members at both times" rows={6}>
        {(told) => (
          <div className="grid min-h-0 grid-cols-3 gap-4 max-lg:grid-cols-1" aria-live="polite">
            <Part
              title={`Only ${words.first}`}
              tone="text-brick"
              devices={told.only_first}
              all={told.only_first_count}
            />
            <Part title="Both times" tone="" devices={told.both} all={told.both_count} />
            <Part
              title={`Only ${words.second}`}
              tone="text-verdigris"
              devices={told.only_second}
              all={told.only_second_count}
            />
          </div>
        )}
      </Loaded>
      {history.error && <Failed what="Who joined and left" of={history} />}
      {history.data && history.data.changes.length > 0 && (
        <section>
          <h2 className="mb-1 text-[1.05rem]">Who joined and left, and why</h2>
          <ul className="space-y-0.5">
            {history.data.changes.map((c) => (
              <li key={c.at + c.device + c.joined}>
                <span className="text-soft" title={fullInstant(c.at, zone)}>
                  {instant(c.at, zone, now)}
                </span>{" "}
                <strong className="font-semibold">{c.device}</strong> {c.joined ? "joined" : "left"}: {c.cause}
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function Part({
  title,
  tone,
  devices,
  all,
}: {
  title: string;
  tone: string;
  devices: Schemas["DeviceRow"][];
  all: number;
}) {
  return (
    <section className="min-h-0 rounded-md border border-rule bg-card p-3">
      <h2 className="mb-1 flex items-baseline justify-between text-[1.05rem]">
        {title} <span className={tone}>{count(all)}</span>
      </h2>
      <ul className="max-h-72 overflow-auto">
        {devices.map((d) => (
          <li key={d.id} className="flex min-h-[26px] items-baseline gap-2">
            <Link to="/devices/$name" params={{ name: d.name }} className="font-semibold hover:underline">
              {d.name}
            </Link>
            <span className="truncate text-soft">
              {d.model} · {d.site}
            </span>
          </li>
        ))}
        {devices.length === 0 && <li className="text-soft">No device.</li>}
      </ul>
      {all > devices.length && <p className="text-soft">The first {devices.length}, by name.</p>}
    </section>
  );
}
