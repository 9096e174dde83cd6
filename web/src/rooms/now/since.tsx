/** What happened since one was here last: in a line of numbers, and the latest acts of others and of the system. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, fullInstant, instant, relative } from "@/lib/format";
import { ObjectLink } from "@/parts/object-link";
import { Inline } from "@/parts/views";
import { since as sinceQuery } from "./queries";
import { sinceWords } from "./since-words";

/** Nothing for whoever is here for the first time, or without a break. */
export function SinceLastVisit() {
  const asked = useQuery(sinceQuery);
  if (asked.data?.told === null) return null;
  return (
    <section aria-label="Since you were here last" className="mt-5">
      <Inline of={asked}>{({ told }) => told && <Told told={told} />}</Inline>
    </section>
  );
}

function Told({ told }: { told: Schemas["SinceView"] }) {
  const { now, zone } = useClock();
  return (
    <>
      <div className="mb-1.5 flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-[1.05rem]">Since you were here last</h2>
        <time className="text-soft" dateTime={told.since} title={fullInstant(told.since, zone)}>
          {instant(told.since, zone, now)}, {relative(told.since, now)}
        </time>
        {told.all_acts > told.acts.length && (
          <Link to="/record" search={{ since: told.since }} className="ml-auto text-verdigris hover:underline">
            All {count(told.all_acts)} in the record
          </Link>
        )}
      </div>
      <div className="rounded-md border border-rule bg-card">
        <p className="px-4 py-2">{sinceWords(told)}</p>
        {told.acts.length > 0 && (
          <ol className="border-rule border-t border-dashed max-md:hidden">
            {told.acts.map((a) => (
              <li key={a.id} className="grid grid-cols-[6.5rem_7rem_1fr] gap-3 px-4 py-1">
                <time className="font-mono text-soft" dateTime={a.at} title={fullInstant(a.at, zone)}>
                  {instant(a.at, zone, now)}
                </time>
                <span className={a.actor ? "truncate" : "truncate text-soft"}>{a.actor ?? "system"}</span>
                <ObjectLink kind={a.kind} id={a.object_id} className="hover:underline">
                  <span className="line-clamp-2">
                    {a.object_id > 0 && (
                      <span className="text-soft">
                        {a.kind} {a.object_id}:{" "}
                      </span>
                    )}
                    {a.sentence}
                  </span>
                </ObjectLink>
              </li>
            ))}
          </ol>
        )}
      </div>
    </>
  );
}
