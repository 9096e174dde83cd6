/** Record: who did what, the latest first; filtered by person, object, words and time, and exported as it is shown. */
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import type { RecordFilter } from "@/api/queries";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, count, fullInstant, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Empty } from "@/parts/controls";
import { Exports, More, SearchField, useTypedWords } from "@/parts/list-parts";
import { ObjectLink } from "@/parts/object-link";
import { MomentField } from "@/parts/time-fields";
import { Inline, Loaded } from "@/parts/views";
import { changedKeys } from "./changed-keys";
import { recordChoices, record as recordQuery } from "./queries";

const recordRoute = getRouteApi("/record");

export function RecordRoom() {
  usePageTitle("Record");
  const filter = recordRoute.useSearch();
  const found = useInfiniteQuery(recordQuery(filter));
  const limits = useLimits();
  const isFiltered = Object.values(filter).some((v) => v !== undefined);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: nothing in it takes the focus, and it must scroll by keyboard
    <section aria-label="Record" tabIndex={0} className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-2xl">Record</h1>
        <p className="text-soft">
          <Inline of={found}>{(all) => `${count(all.pages[0]?.count ?? 0)} entries`}</Inline>, which stay as they were
          written.
        </p>
        <Link to="/record/firmware" className="ml-auto text-verdigris hover:underline">
          Firmware by model and site
        </Link>
        <Link to="/record/mails" className="text-verdigris hover:underline">
          Reports by mail
        </Link>
        {limits === null && (
          <Link to="/record/kept" className="text-verdigris hover:underline">
            How long things are kept
          </Link>
        )}
        <Exports address={(as) => exportAddress(filter, as)} />
      </div>
      <Filters key={JSON.stringify(Object.keys(filter))} filter={filter} />
      <Loaded
        of={found}
        what="The record"
        rows={12}
        isEmpty={(all) => all.pages[0]?.count === 0}
        empty={
          <Empty title={isFiltered ? "No entry matches these filters" : "The record is empty"}>
            {isFiltered ? "Remove one of them to see more." : "What people and the system do is written down here."}
          </Empty>
        }
      >
        {(all) => {
          const rows = all.pages.flatMap((p) => p.entries);
          return (
            <div className="rounded-md border border-rule bg-card">
              <ol>
                {rows.map((e) => (
                  <Entry key={e.id} entry={e} />
                ))}
              </ol>
              <More of={found} shown={rows.length} all={all.pages[0]?.count ?? 0} what="entries" />
            </div>
          );
        }}
      </Loaded>
    </section>
  );
}

function Entry({ entry: e }: { entry: Schemas["RecordRow"] }) {
  const { now, zone } = useClock();
  return (
    <li className="grid grid-cols-[7.8rem_9rem_9rem_1fr] gap-3 border-rule border-b px-4 py-1.5 last:border-0 max-md:grid-cols-[7.8rem_1fr]">
      <time className="font-mono text-soft" dateTime={e.at} title={fullInstant(e.at, zone)}>
        {instant(e.at, zone, now)}
      </time>
      <span className={e.actor ? "" : "text-soft"}>
        {e.actor ?? "system"}
        {e.token && <span className="block text-soft">by the token “{e.token}”</span>}
      </span>
      <ObjectLink kind={e.kind} id={e.object_id} className="text-soft hover:underline">
        {e.kind} {e.object_id || ""}
      </ObjectLink>
      <span>
        {e.sentence}
        <Change entry={e} />
      </span>
    </li>
  );
}

/** What an act changed, key by key: what was, and what is. */
function Change({ entry }: { entry: Schemas["RecordRow"] }) {
  const rows = changedKeys(entry.before, entry.after);
  if (rows.length === 0) return null;
  return (
    <details className="mt-0.5">
      <summary className="cursor-pointer text-soft">What changed</summary>
      <table className="mt-1">
        <thead className="text-left text-soft text-xs">
          <tr>
            <th className="pr-5 font-normal">
              <span className="sr-only">What</span>
            </th>
            <th className="pr-5 font-normal">before</th>
            <th className="font-normal">after</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([key, was, is]) => (
            <tr key={key} className="align-top">
              <th className="pr-5 text-left font-normal text-soft">{key.replaceAll("_", " ")}</th>
              <td className="max-w-[22rem] break-words pr-5">{was}</td>
              <td className="max-w-[22rem] break-words">{is}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}

function Filters({ filter }: { filter: RecordFilter }) {
  const navigate = useNavigate({ from: "/record" });
  const { now, zone } = useClock();
  const choices = useQuery(recordChoices);
  const set = (change: Partial<RecordFilter>) => navigate({ search: (s) => ({ ...s, ...change }), replace: true });
  const [words, setWords] = useTypedWords(filter.q ?? "", (found) => set({ q: found }));
  const here = DateTime.fromJSDate(now, { zone });
  return (
    <div className="mb-3 flex flex-wrap items-center gap-3">
      <SearchField
        label="Words in the record"
        placeholder="Launched, halted, Sill 5.2…"
        value={words}
        onChange={setWords}
      />
      <select
        className="field"
        aria-label="Person"
        value={filter.person ?? ""}
        onChange={(e) => set({ person: e.target.value || undefined })}
      >
        <option value="">{choices.data ? "anybody" : choices.error ? "people not loaded" : "…"}</option>
        <option value="system">system</option>
        {choices.data?.people.map((p) => (
          <option key={p.id} value={p.id}>
            {p.name}
          </option>
        ))}
      </select>
      <select
        className="field"
        aria-label="About"
        value={filter.kind ?? ""}
        onChange={(e) => set({ kind: (e.target.value || undefined) as RecordFilter["kind"], object: undefined })}
      >
        <option value="">{choices.data ? "about anything" : choices.error ? "kinds not loaded" : "…"}</option>
        {choices.data?.kinds.map((k) => (
          <option key={k.kind} value={k.kind}>
            {k.words}
          </option>
        ))}
      </select>
      <MomentField
        label="from"
        inline
        max={here}
        value={filter.since}
        zone={zone}
        onChange={(at) => set({ since: at ?? undefined })}
      />
      <MomentField
        label="until"
        inline
        value={filter.until}
        zone={zone}
        onChange={(at) => set({ until: at ?? undefined })}
      />
      <span className="text-soft">{city(zone)}</span>
      {Object.values(filter).some((v) => v !== undefined) && (
        <Button
          kind="quiet"
          onClick={() => {
            setWords("");
            navigate({ search: {}, replace: true });
          }}
        >
          Clear filters
        </Button>
      )}
    </div>
  );
}

function exportAddress(filter: RecordFilter, format: string): string {
  const asked = new URLSearchParams({ format });
  for (const [name, value] of Object.entries(filter)) if (value !== undefined) asked.set(name, String(value));
  return `/api/v1/record/export?${asked}`;
}
