/** How long things are kept: what goes and what stays of it, what it takes, and setting it. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, fullInstant, megabytes, relative, within } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { kept as keptQuery } from "./queries";
import { SetKept } from "./set-kept";

type Row = Schemas["KeptRow"];

export function Kept() {
  usePageTitle("How long things are kept");
  const asked = useQuery(keptQuery);
  const may = useMay("administer");
  const [setting, setSetting] = useState<Row | null>(null);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: for those who set nothing, nothing in it takes the focus
    <section aria-label="How long things are kept" tabIndex={0} className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="text-2xl">How long things are kept</h1>
        <Link to="/record" search={{}} className="text-verdigris hover:underline">
          Record
        </Link>
        <p className="w-full text-soft">
          What is older is deleted a little at a time, once a day. Rollouts, groups and devices stay until somebody
          removes them.
          {!may && " An administrator sets how long things are kept."}
        </p>
      </div>
      <Loaded of={asked} what="How long things are kept" rows={8}>
        {(rows) => (
          <>
            <NothingGoes rows={rows} />
            <table className="w-full rounded-md border border-rule bg-card" aria-label="What is kept, and how long">
              <thead className="text-left text-soft">
                <tr>
                  {["What", "Kept", "Oldest", "On disk", "Deleted so far"].map((h) => (
                    <th key={h} className="px-3 py-1.5 font-normal">
                      {h}
                    </th>
                  ))}
                  {may && (
                    <th>
                      <span className="sr-only">change</span>
                    </th>
                  )}
                </tr>
              </thead>
              <tbody>
                {rows.map((row) => (
                  <Kind key={row.key} row={row} onSet={may ? () => setSetting(row) : null} />
                ))}
              </tbody>
            </table>
          </>
        )}
      </Loaded>
      {setting && <SetKept row={setting} onClose={() => setSetting(null)} />}
    </section>
  );
}

/** Said where all is kept for ever, as it is after an upgrade: the disk will fill one day, and nobody was asked. */
function NothingGoes({ rows }: { rows: Row[] }) {
  if (rows.some((row) => row.days !== null)) return null;
  return (
    <p className="mb-3 rounded-md border border-rule bg-card px-4 py-2">
      Nothing is deleted yet, and the database grows for ever. Say for how long each is kept; what would go is counted
      before.
    </p>
  );
}

function Kind({ row, onSet }: { row: Row; onSet: (() => void) | null }) {
  const { now, zone } = useClock();
  return (
    <tr className="border-rule border-t align-top">
      <td className="max-w-[30rem] px-3 py-1.5">
        <span className="font-semibold">{row.name}</span>
        <p className="text-soft">
          {row.goes}. <span className="text-ink">Stays:</span> {within(row.stays)}.
        </p>
        {row.problem && (
          <p role="alert" className="text-brick">
            Deleting stopped: {row.problem}
          </p>
        )}
      </td>
      <td className="whitespace-nowrap px-3 py-1.5">
        {howLong(row.days)}
        {row.archives && row.days !== null && <p className="text-soft">then in files</p>}
        {row.changed_by && row.changed_at && (
          <p className="text-soft" title={fullInstant(row.changed_at, zone)}>
            by {row.changed_by}
          </p>
        )}
      </td>
      <td className="whitespace-nowrap px-3 py-1.5">
        {row.oldest ? (
          <time dateTime={row.oldest} title={fullInstant(row.oldest, zone)}>
            {relative(row.oldest, now)}
          </time>
        ) : (
          <span className="text-soft">none</span>
        )}
      </td>
      <td className="whitespace-nowrap px-3 py-1.5 text-right font-mono">{megabytes(row.bytes)}</td>
      <td className="whitespace-nowrap px-3 py-1.5">
        {row.deleted || <span className="text-soft">nothing</span>}
        {row.deleted_before && (
          <p className="text-soft">of before {fullInstant(row.deleted_before, "UTC").split(",")[0]}</p>
        )}
      </td>
      {onSet && (
        <td className="px-3 py-1.5 text-right">
          <Button aria-label={`Change how long to keep: ${row.name}`} onClick={onSet}>
            Change…
          </Button>
        </td>
      )}
    </tr>
  );
}

function howLong(days: number | null): string {
  return days === null ? "for ever" : counted(days, "day");
}
