/** The report of a rollout: who, what, when, rings, failures by cause, how long it took. Made to be printed. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import type { ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { someRollouts } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { city, count, counted, percent, span } from "@/lib/format";
import { statusWords } from "@/lib/status";
import { usePageTitle } from "@/lib/title";
import { Button } from "@/parts/controls";
import { PHASES } from "@/parts/phases";
import { WholePage } from "@/parts/views";
import { rolloutReport } from "./queries";

const reportRoute = getRouteApi("/rollouts/$id/report");

type Report = Schemas["ReportView"];
const MOST_FAILED = 60;

export function ReportPage() {
  const id = Number(reportRoute.useParams().id);
  const asked = useQuery(rolloutReport(id));
  usePageTitle(asked.data && `Report of rollout ${id}`);
  return (
    <WholePage of={asked} what={`The report of rollout ${id}`}>
      {(data) => (
        <div className="h-full overflow-auto px-5 py-4">
          <Whole report={data} />
        </div>
      )}
    </WholePage>
  );
}

function Whole({ report }: { report: Report }) {
  const { now, zone } = useClock();
  const rollout = report.rollout;
  const at = (moment: string | null) =>
    moment ? DateTime.fromISO(moment, { zone }).toFormat("d LLL yyyy HH:mm") : "–";
  const table = `/api/v1/rollouts/${rollout.id}/report/table`;
  return (
    <article className="mx-auto max-w-[62rem] space-y-5 pb-8">
      <div className="flex flex-wrap items-center gap-2 print:hidden">
        <Link to="/rollouts/$id" params={{ id: String(rollout.id) }} className="slot mr-auto">
          Rollout {rollout.id}
        </Link>
        <CompareWith id={rollout.id} />
        <a className="rounded-sm border border-ink px-3 py-1 font-semibold" href={table} download>
          Devices as CSV
        </a>
        <a className="rounded-sm border border-ink px-3 py-1 font-semibold" href={`${table}?format=xlsx`} download>
          Workbook
        </a>
        <Button kind="main" onClick={() => window.print()}>
          Print
        </Button>
      </div>
      <header>
        <h1 className="text-[1.55rem]">{report.sentence}</h1>
        <p className="mt-1 text-soft">
          Report of rollout {rollout.id} · {statusWords(rollout.status, zone, now)} · created {at(report.made_at)}, all
          times by the clock of {city(zone)}
        </p>
      </header>
      <div className="grid grid-cols-2 gap-x-8 gap-y-5 max-lg:grid-cols-1">
        <Part title="Who and when">
          <Pairs
            pairs={[
              ["Launched", `${at(rollout.launched_at)} by ${rollout.launched_by ?? "a script"}`],
              ["Ended", rollout.ended_at ? at(rollout.ended_at) : "not yet"],
              ...report.milestones.map((m): [string, string] => [
                m.share === 1 ? "The last one confirmed" : `${percent(m.share, 0)} of the installs confirmed`,
                m.at && m.seconds !== null ? `${at(m.at)}, ${span(m.seconds)} after the launch` : "–",
              ]),
              ["A fetch took", told(report.fetches)],
              ["An install took", told(report.installs)],
              ...(rollout.reason ? [["Reason", rollout.reason] as [string, string]] : []),
            ]}
          />
        </Part>
        <Part title={`${counted(rollout.total, "device")}, by how it ended`}>
          <Pairs
            pairs={[
              ...PHASES.filter((p) => rollout.phases[p]).map((p): [string, string] => [
                p,
                `${count(rollout.phases[p] ?? 0)} · ${percent((rollout.phases[p] ?? 0) / rollout.total)}`,
              ]),
              ...report.left_out.map((l): [string, string] => [l.words, `${count(l.devices)}, not counted above`]),
            ]}
          />
        </Part>
      </div>
      <Part title="Rings">
        <Rows
          head={[
            "",
            "Ring",
            "Devices",
            "Tried",
            "Confirmed",
            "Failed",
            "Opened",
            "First confirmed",
            "Last",
            "Gate met",
          ]}
          rows={report.rings.map((r) => [
            r.position,
            r.name,
            count(r.devices),
            count(r.tried),
            count(r.confirmed),
            r.tried ? `${count(r.failed)} · ${percent(r.failed / r.tried)}` : count(r.failed),
            at(r.opened_at),
            at(r.first_at),
            at(r.last_at),
            r.gate_met_at ? `${at(r.gate_met_at)}${r.approved_by ? `, approved by ${r.approved_by}` : ""}` : "–",
          ])}
        />
      </Part>
      <Part title="Failures by cause">
        {report.failures.length === 0 ? (
          <p className="text-soft">No attempt failed.</p>
        ) : (
          <Rows
            head={["Cause", "Attempts that ended for it", "Devices that it was the last word for"]}
            rows={report.failures.map((f) => [
              f.cause,
              count(f.attempts),
              count(rollout.errors.find((e) => e.error === f.cause)?.count ?? 0),
            ])}
          />
        )}
        {report.shared.map((s) => (
          <p key={s.rule}>
            <code className="font-mono text-xs">{s.rule}</code>: {count(s.failed)} of {count(s.tried)} tried failed.
          </p>
        ))}
      </Part>
      {report.failed_devices.length > 0 && (
        <Part title="Devices that failed for good">
          <Rows
            head={["Device", "Model", "Site", "Version before", "Error", "In words"]}
            rows={report.failed_devices
              .slice(0, MOST_FAILED)
              .map((d) => [d.device, d.model, d.site, d.from_version, d.error, d.text])}
          />
          {report.failed_devices.length > MOST_FAILED && (
            <p className="text-soft">
              The first {MOST_FAILED} of {count(rollout.phases.failed ?? 0)}; the workbook has them all.
            </p>
          )}
        </Part>
      )}
      <Part title="What people and the system did">
        <Rows
          head={["When", "Who", "What"]}
          rows={report.acts.map((a) => [at(a.at), a.who || <span className="text-soft">system</span>, a.what])}
        />
      </Part>
    </article>
  );
}

function told(lengths: Schemas["LengthsView"]): string {
  if (lengths.count === 0) return "–";
  return `${span(lengths.median)} (median of ${count(lengths.count)}), nine of ten within ${span(lengths.nine_of_ten)}`;
}

function CompareWith({ id }: { id: number }) {
  const { data } = useQuery(someRollouts());
  const navigate = useNavigate();
  const others = (data ?? []).filter((r) => r.launched_at !== null && r.id !== id);
  if (others.length === 0) return null;
  return (
    <select
      className="field"
      aria-label="Compare with"
      value=""
      onChange={(e) => navigate({ to: "/rollouts/compare", search: { a: id, b: Number(e.target.value) } })}
    >
      <option value="">Compare with…</option>
      {others.map((r) => (
        <option key={r.id} value={r.id}>
          {r.id}: {r.target} on {r.audience}
        </option>
      ))}
    </select>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="break-inside-avoid-page">
      <h2 className="mb-1 border-ink border-b pb-1 text-[1.05rem]">{title}</h2>
      {children}
    </section>
  );
}

function Pairs({ pairs }: { pairs: [string, string][] }) {
  return (
    <dl>
      {pairs.map(([name, value]) => (
        <div key={name} className="flex gap-4 border-rule border-b border-dashed py-1 last:border-0">
          <dt className="w-44 shrink-0 text-soft">{name}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}

function Rows({ head, rows }: { head: string[]; rows: ReactNode[][] }) {
  return (
    <table className="w-full">
      <thead>
        <tr className="text-soft">
          {head.map((h) => (
            <th key={h} className="py-1 pr-4 text-left align-bottom font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a report is read once and never reordered
          <tr key={i} className="break-inside-avoid border-rule border-t border-dashed">
            {row.map((cell, j) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: as above
              <td key={j} className="py-1 pr-4 align-top">
                {cell}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
