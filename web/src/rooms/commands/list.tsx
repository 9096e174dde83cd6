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
import { Choice, More, SearchField, useTypedWords } from "@/parts/list-parts";
import { summary } from "@/parts/phases";
import { sentenceText } from "@/parts/sentence";
import { Loaded } from "@/parts/views";
import { schedules as schedulesQuery } from "./queries";

const commandsRoute = getRouteApi("/commands");
const STATES: [ScheduleState | undefined, string][] = [
  [undefined, "all"],
  ["active", "active"],
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
          placeholder="Search: command, group, number, person…"
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
              A command makes the devices of a group do something, now or every day by their own clocks.{" "}
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

function Strip({ schedule: s }: { schedule: Schemas["ScheduleRow"] }) {
  const { now, zone } = useClock();
  const last = s.occurrences[0];
  return (
    <li className="border-rule border-b border-dashed last:border-0">
      <Link
        to="/commands/$id"
        params={{ id: String(s.id) }}
        search={{}}
        className="grid grid-cols-[1fr_16rem_15rem] items-center gap-5 px-4 py-3 hover:bg-side max-md:grid-cols-1 max-md:gap-1"
      >
        <div className="min-w-0">
          <div className="font-semibold">{sentenceText(s.sentence)}</div>
          <div className="text-soft">
            {s.id} · {s.status.words} · since {instant(s.created_at, zone, now)}
            {s.created_by && ` by ${s.created_by}`}
          </div>
        </div>
        <div className="text-soft">
          {s.next_firing ? (
            <>
              next: {city(s.next_zone ?? "")} {instant(s.next_firing, zone, now)}{" "}
              <span className="text-xs">(your clock)</span>
            </>
          ) : s.state === "ended" ? (
            "ended"
          ) : s.state === "paused" ? (
            "paused"
          ) : (
            "no further firing"
          )}
        </div>
        <div className="text-right text-soft max-md:text-left">
          {last ? (
            <>
              {summary(s.phases)}
              <br />
              last: {city(last.zone)} {instant(last.fires_at, zone, now)}
            </>
          ) : (
            "has not fired yet"
          )}
        </div>
      </Link>
    </li>
  );
}
