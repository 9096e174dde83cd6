/** Two rollouts side by side: how fast each got through from its launch, and what came of its devices. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { scaleLinear } from "d3-scale";
import { curveStepAfter, line } from "d3-shape";
import type { ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { someRollouts } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { count, percent, span } from "@/lib/format";
import { statusWords } from "@/lib/status";
import { usePageTitle } from "@/lib/title";
import { Card } from "@/parts/controls";
import { type Answer, Failed, Loaded, Skeleton } from "@/parts/views";
import { progress as progressQuery, rolloutReport } from "./queries";

const compareRoute = getRouteApi("/rollouts/compare");

type Report = Schemas["ReportView"];
const INKS = ["var(--verdigris)", "var(--plum)"] as const;
const DASHES = [undefined, "7 4"] as const;

export function Compare() {
  const { a = 0, b = 0 } = compareRoute.useSearch();
  usePageTitle("Compare rollouts");
  const all = useQuery(someRollouts());
  const first = useQuery(rolloutReport(a));
  const second = useQuery(rolloutReport(b));
  const reports = [first.data, second.data];
  return (
    <div className="h-full space-y-3 overflow-auto px-5 py-4">
      <h1 className="text-2xl">Two rollouts compared</h1>
      <div className="grid grid-cols-2 gap-3">
        <Which side="a" at={a} all={all} report={first} />
        <Which side="b" at={b} all={all} report={second} />
      </div>
      {reports[0] && reports[1] && <Both reports={[reports[0], reports[1]]} />}
    </div>
  );
}

function Which({
  side,
  at,
  all,
  report,
}: {
  side: "a" | "b";
  at: number;
  all: Answer<Schemas["RolloutRow"][]>;
  report: Answer<Report>;
}) {
  const { now, zone } = useClock();
  const navigate = useNavigate({ from: "/rollouts/compare" });
  const index = side === "a" ? 0 : 1;
  return (
    <Card>
      <div className="flex items-center gap-3">
        <svg width="34" height="8" aria-hidden>
          <line x1="0" x2="34" y1="4" y2="4" stroke={INKS[index]} strokeWidth="3" strokeDasharray={DASHES[index]} />
        </svg>
        <select
          className="field min-w-0 flex-1"
          aria-label={side === "a" ? "The first rollout" : "The second rollout"}
          value={at || ""}
          onChange={(e) => navigate({ search: (s) => ({ ...s, [side]: Number(e.target.value) || undefined }) })}
        >
          <option value="">{all.data ? "which one?" : all.error ? "rollouts not loaded" : "…"}</option>
          {all.data
            ?.filter((r) => r.launched_at !== null)
            .map((r) => (
              <option key={r.id} value={r.id}>
                {r.id}: {r.target} on {r.audience}
              </option>
            ))}
        </select>
      </div>
      {at > 0 && (
        <Loaded of={report} what={`The report of rollout ${at}`} rows={2}>
          {({ rollout, sentence }) => (
            <p className="mt-2">
              <Link to="/rollouts/$id" params={{ id: String(rollout.id) }} className="font-semibold hover:underline">
                {sentence}
              </Link>
              <br />
              <span className="text-soft">{statusWords(rollout.status, zone, now)}</span>
            </p>
          )}
        </Loaded>
      )}
    </Card>
  );
}

/** Rows of figures; `better` says which of two numbers is the better one, where one is. */
function Both({ reports }: { reports: [Report, Report] }) {
  const ofTried = (r: Report, phase: string) => {
    const n = r.rollout.phases[phase] ?? 0;
    return r.rollout.tried ? `${count(n)} · ${percent(n / r.rollout.tried)} of those tried` : count(n);
  };
  const after = (r: Report, at: number) => r.milestones.find((m) => m.share === at)?.seconds ?? null;
  const inTime = (seconds: number | null) => (seconds === null ? "–" : span(seconds));
  const causes = [...new Set(reports.flatMap((r) => r.failures.map((f) => f.cause)))];
  const rows: [string, (r: Report) => ReactNode][] = [
    ["Devices", (r) => count(r.rollout.total)],
    ["Tried", (r) => count(r.rollout.tried)],
    ["Confirmed", (r) => ofTried(r, "confirmed")],
    ["Failed", (r) => ofTried(r, "failed")],
    ["Rings", (r) => count(r.rings.length)],
    ["Half of the installs confirmed after", (r) => inTime(after(r, 0.5))],
    ["Nine tenths after", (r) => inTime(after(r, 0.9))],
    ["The last after", (r) => inTime(after(r, 1))],
    ["A fetch, median", (r) => (r.fetches.count ? span(r.fetches.median) : "–")],
    ["An install, median", (r) => (r.installs.count ? span(r.installs.median) : "–")],
    ["Failure limit", (r) => `${r.rollout.failure_limit_pct}%`],
    ["At once", (r) => count(r.rollout.max_concurrent)],
    ...causes.map((cause): [string, (r: Report) => ReactNode] => [
      `Attempts ended by ${cause}`,
      (r) => count(r.failures.find((f) => f.cause === cause)?.attempts ?? 0),
    ]),
  ];
  return (
    <>
      <Card title="Confirmed since the launch">
        <Curves reports={reports} />
      </Card>
      <Card title="Side by side">
        <table className="w-full">
          <thead>
            <tr className="text-soft">
              <td />
              {reports.map((r) => (
                <th key={r.rollout.id} className="w-1/3 py-1 text-left font-normal">
                  Rollout {r.rollout.id}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map(([name, value]) => (
              <tr key={name} className="border-rule border-t border-dashed">
                <th scope="row" className="py-1 pr-4 text-left font-normal text-soft">
                  {name}
                </th>
                {reports.map((r) => (
                  <td key={r.rollout.id} className="py-1">
                    {value(r)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Card>
    </>
  );
}

const W = 1200;
const H = 190;
const PAD = { left: 44, right: 12, top: 8, bottom: 22 };

function Curves({ reports }: { reports: [Report, Report] }) {
  const first = useQuery(progressQuery(reports[0].rollout.id));
  const second = useQuery(progressQuery(reports[1].rollout.id));
  const failed = [first, second].find((q) => q.error && !q.data);
  if (failed) return <Failed what="The course of a rollout" of={failed} />;
  if (!first.data || !second.data) return <Skeleton rows={5} />;
  const curves = [first.data, second.data].map((points, i) => sinceLaunch(points, reports[i]?.rollout.total ?? 0));
  const longest = Math.max(3600, ...curves.flatMap((c) => c.map((p) => p.seconds)));
  const x = scaleLinear([0, longest], [PAD.left, W - PAD.right]);
  const y = scaleLinear([0, 1], [H - PAD.bottom, PAD.top]);
  const said = reports.map((r, i) => `rollout ${r.rollout.id}: ${percent(curves[i]?.at(-1)?.share ?? 0)} confirmed`);
  return (
    <svg viewBox={`0 0 ${W} ${H}`} className="w-full" role="img" aria-label={said.join("; ")}>
      {[0, 0.5, 1].map((s) => (
        <g key={s}>
          <line x1={PAD.left} x2={W - PAD.right} y1={y(s)} y2={y(s)} stroke="var(--rule)" />
          <text x={PAD.left - 8} y={y(s) + 4} textAnchor="end" fontSize="11" fill="var(--soft)">{`${s * 100}%`}</text>
        </g>
      ))}
      {evenTicks(longest).map((t) => (
        <text key={t} x={x(t)} y={H - 5} textAnchor="middle" fontSize="11" fill="var(--soft)">
          {t === 0 ? "launch" : span(t)}
        </text>
      ))}
      {curves.map((curve, i) => (
        <path
          key={reports[i]?.rollout.id}
          d={
            line<Share>(
              (p) => x(p.seconds),
              (p) => y(p.share),
            ).curve(curveStepAfter)(curve) ?? ""
          }
          fill="none"
          stroke={INKS[i]}
          strokeWidth="2.2"
          strokeDasharray={DASHES[i]}
        />
      ))}
    </svg>
  );
}

const STEPS = [600, 1800, 3600, 3 * 3600, 6 * 3600, 12 * 3600, 86400, 2 * 86400, 7 * 86400, 28 * 86400];

/** At most nine moments from 0 on, in whole hours or days as people count them. */
export function evenTicks(longest: number): number[] {
  const step = STEPS.find((s) => longest / s <= 8) ?? Math.ceil(longest / 8);
  return Array.from({ length: Math.floor(longest / step) + 1 }, (_, i) => i * step);
}

interface Share {
  seconds: number;
  share: number;
}

/** Points of a progress as shares of the devices, by the seconds since the first. */
export function sinceLaunch(points: { at: string; confirmed: number }[], total: number): Share[] {
  const begun = points[0] ? Date.parse(points[0].at) : 0;
  return points.map((p) => ({
    seconds: (Date.parse(p.at) - begun) / 1000,
    share: total ? p.confirmed / total : 0,
  }));
}
