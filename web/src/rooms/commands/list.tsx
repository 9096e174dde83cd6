/** Scheduled commands as strips: what fires next, and how the latest firings went. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import type { ScheduleState } from "@/api/queries";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Empty } from "@/parts/controls";
import { harmOf } from "@/parts/harm";
import { Choice, More, SearchField, useTypedWords } from "@/parts/list-parts";
import { summary } from "@/parts/phases";
import { sentenceText } from "@/parts/sentence";
import { Loaded } from "@/parts/views";
import { Fill, when } from "./firing-strip";
import { schedules as schedulesQuery } from "./queries";
import { type Column, columnsOf, sharesOf, totals } from "./strip";

const commandsRoute = getRouteApi("/commands");
const STATES: [ScheduleState | undefined, string][] = [
  [undefined, "all"],
  ["active", "active"],
  ["proposed", "to approve"],
  ["paused", "paused"],
  ["ended", "ended"],
];

export function Commands() {
  usePageTitle("Commands");
  const mayOperate = useMay("operate");
  const { q: words = "", state } = commandsRoute.useSearch();
  const navigate = useNavigate({ from: "/commands" });
  const [typed, setTyped] = useTypedWords(words, (found) =>
    navigate({ search: (s) => ({ ...s, q: found }), replace: true }),
  );
  const found = useInfiniteQuery(schedulesQuery({ q: words || undefined, state }, 50));
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-4 flex flex-wrap items-center gap-4">
        <h1 className="text-2xl">Commands</h1>
        <SearchField
          label="Search commands"
          placeholder="Search: command, group, ticket, person…"
          value={typed}
          onChange={setTyped}
        />
        <Choice
          label="State"
          options={STATES}
          chosen={state}
          onChoose={(value) => navigate({ search: (s) => ({ ...s, state: value }), replace: true })}
        />
        {mayOperate && (
          <Link
            to="/commands/new"
            className="ml-auto rounded-sm border border-ink bg-ink px-3 py-1 font-semibold text-paper"
          >
            New command
          </Link>
        )}
      </div>
      <Loaded
        of={found}
        what="The list of commands"
        rows={6}
        isEmpty={(all) => all.pages[0]?.count === 0}
        empty={
          words || state ? (
            <p className="text-soft">No command matches these filters.</p>
          ) : (
            <Empty title="No command yet">
              A command makes the devices of a group do something: now, at a time, or again and again by their own
              clocks.{" "}
              {mayOperate && (
                <Link to="/commands/new" className="slot">
                  Write the first one.
                </Link>
              )}
            </Empty>
          )
        }
      >
        {(all) => {
          const rows = all.pages.flatMap((p) => p.schedules);
          return (
            <div className="rounded-md border border-rule bg-card">
              <ul>
                {rows.map((s) => (
                  <Strip key={s.id} schedule={s} />
                ))}
              </ul>
              <More of={found} shown={rows.length} all={all.pages[0]?.count ?? 0} what="commands" />
            </div>
          );
        }}
      </Loaded>
    </div>
  );
}

const LATEST = 14;

function Strip({ schedule: s }: { schedule: Schemas["ScheduleRow"] }) {
  const { now, zone } = useClock();
  const columns = columnsOf(s.occurrences).slice(-LATEST);
  const last = columns.at(-1);
  return (
    <li className="border-rule border-b border-dashed last:border-0">
      <Link
        to="/commands/$id"
        params={{ id: String(s.id) }}
        search={{}}
        className="grid grid-cols-[1fr_12rem_16rem] items-center gap-5 px-4 py-3 hover:bg-side max-md:grid-cols-1 max-md:gap-1"
      >
        <div className="min-w-0">
          <div className="font-semibold">
            <span aria-hidden className={harmOf(s.template.harm).tone} title={s.template.harm}>
              {harmOf(s.template.harm).mark}
            </span>{" "}
            {s.name && `${s.name}: `}
            {sentenceText(s.sentence)}
          </div>
          <div className="text-soft">
            {s.id} · {s.status.words} · since {instant(s.created_at, zone, now)}
            {s.created_by && ` by ${s.created_by}`}
            {s.ticket && ` · ${s.ticket}`}
          </div>
        </div>
        <div className="text-soft">{nextWords(s, zone, now)}</div>
        <div className="text-soft">
          {last ? (
            <>
              <span className="mb-1 flex h-4 gap-[2px]" aria-hidden>
                {columns.map((c) => (
                  <MiniCell key={c.key} column={c} />
                ))}
              </span>
              last {when(last, zone)}: {summary(totals(last.occurrences).phases)}
            </>
          ) : (
            "has not fired yet"
          )}
        </div>
      </Link>
    </li>
  );
}

function nextWords(s: Schemas["ScheduleRow"], zone: string, now: Date) {
  if (s.next_firing)
    return (
      <>
        next: {city(s.next_zone ?? "")} {instant(s.next_firing, zone, now)}{" "}
        <span className="text-xs">(your clock)</span>
      </>
    );
  const words = { ended: "ended", paused: "paused", proposed: "waits for approval", active: "no further firing" };
  return words[s.state];
}

/** A firing of all zones together, as small as it may be. */
function MiniCell({ column }: { column: Column }) {
  const { audience, phases } = totals(column.occurrences);
  return (
    <span className="flex h-full w-3 flex-col-reverse overflow-hidden rounded-[2px] border border-rule">
      <Fill shares={sharesOf(phases, audience)} />
    </span>
  );
}
