/** Where a rollout stands, by site, model and the like: each count opens its devices. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import type { Place } from "@/api/queries";
import { count } from "@/lib/format";
import { PhaseBar } from "@/parts/phase-bar";
import { IN_MOTION, OFFERED, OUT, sum } from "@/parts/phases";
import { Loaded } from "@/parts/views";
import { rolloutBreakdown } from "./queries";

const rolloutRoute = getRouteApi("/rollouts/$id");

export const PLACES: [Place, string, string][] = [
  ["site", "Site", "no site"],
  ["model", "Model", "no model"],
  ["hardware", "Hardware", "not known"],
  ["from_version", "Version before", "none"],
  ["last_error", "Last error", "no error"],
];
const COLUMNS: [string, string[], string][] = [
  ["waiting", ["waiting"], ""],
  ["in motion", IN_MOTION, "text-verdigris"],
  ["offered", OFFERED, "text-soft"],
  ["confirmed", ["confirmed"], "text-verdigris"],
  ["failed", ["failed"], "text-brick"],
  ["out", OUT, "text-soft"],
];
const MOST = 12;

export function StatusBreakdown({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const search = rolloutRoute.useSearch();
  const navigate = useNavigate({ from: "/rollouts/$id" });
  const [by, title, none] = PLACES.find((p) => p[0] === search.by) ?? (PLACES[0] as [Place, string, string]);
  const asked = useQuery(rolloutBreakdown(rollout.id, by));
  return (
    <section className="mt-3 rounded-md border border-rule bg-card px-4 py-3">
      <div className="mb-1 flex items-center gap-3">
        <h2 className="text-[1.05rem]">Status</h2>
        <select
          className="field"
          aria-label="Status by"
          value={by}
          onChange={(e) => navigate({ search: (s) => ({ ...s, by: e.target.value as Place }), replace: true })}
        >
          {PLACES.map(([value, word]) => (
            <option key={value} value={value}>
              by {word.toLowerCase()}
            </option>
          ))}
        </select>
      </div>
      <Loaded of={asked} what="The status of its devices" rows={6}>
        {(rows) => <Breakdown rows={rows} by={by} title={title} none={none} rollout={rollout.id} />}
      </Loaded>
    </section>
  );
}

function Breakdown({
  rows,
  by,
  title,
  none,
  rollout,
}: {
  rows: Schemas["BreakdownRow"][];
  by: Place;
  title: string;
  none: string;
  rollout: number;
}) {
  const used = COLUMNS.filter(([, phases]) => rows.some((r) => sum(r.phases, phases)));
  return (
    <>
      <table className="w-full">
        <thead>
          <tr className="text-soft">
            <th className="py-1 text-left font-normal">{title}</th>
            {used.map(([word]) => (
              <th key={word} className="w-24 text-right font-normal">
                {word}
              </th>
            ))}
            <th className="w-24 text-right font-normal">of all</th>
            <td className="w-[38%]" />
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, MOST).map((row) => (
            <tr key={row.value} className="border-rule border-t border-dashed">
              <th scope="row" className="py-1 text-left font-semibold">
                {row.value || <span className="font-normal text-soft">{none}</span>}
              </th>
              {used.map(([word, phases, tone]) => {
                const n = sum(row.phases, phases);
                return (
                  <td key={word} className="text-right">
                    {n > 0 ? (
                      <Link
                        to="/rollouts/$id"
                        params={{ id: String(rollout) }}
                        search={(s) => ({
                          ...s,
                          phase: phases.join(","),
                          [by === "last_error" ? "error" : by]: row.value,
                        })}
                        hash="devices"
                        className={`hover:underline ${tone}`}
                        aria-label={`${count(n)} ${word}`}
                      >
                        {count(n)}
                      </Link>
                    ) : (
                      <span className="text-faint">–</span>
                    )}
                  </td>
                );
              })}
              <td className="text-right text-soft">{count(row.total)}</td>
              <td className="pl-6">
                <PhaseBar phases={row.phases} size={row.total} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > MOST && (
        <p className="text-soft">
          and {count(rows.length - MOST)} more with {count(rows.slice(MOST).reduce((n, r) => n + r.total, 0))} devices
        </p>
      )}
    </>
  );
}
