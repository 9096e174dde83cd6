/** The fleet over time: how much of it runs an approved version, when the rest will, and what each family ran. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import { scaleLinear, scaleTime } from "d3-scale";
import { area, curveStepAfter, line } from "d3-shape";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, fullInstant, instant, percent } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { written } from "@/parts/clauses";
import { Card } from "@/parts/controls";
import { Choice } from "@/parts/list-parts";
import { NoDevices } from "@/parts/no-devices";
import { Loaded } from "@/parts/views";
import { FailedDays } from "./failed-days";
import { fleetOverTime } from "./queries";
import { standingWords } from "./standing-words";

const route = getRouteApi("/fleet-over-time");
type Answer = Schemas["FleetOverTime"];
type Family = Schemas["FamilyOverTime"];

export function FleetOverTime() {
  usePageTitle("The fleet over time");
  const { days } = route.useSearch();
  const navigate = route.useNavigate();
  const asked = useQuery(fleetOverTime(days ?? 30));
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl">The fleet over time</h1>
        <Link to="/record/firmware" className="mr-auto text-verdigris hover:underline">
          By model and site
        </Link>
        <Choice
          label="How far back"
          options={[
            [7, "a week"],
            [undefined, "30 days"],
            [90, "90 days"],
            [365, "a year"],
          ].map(([d, words]) => [d === undefined ? undefined : String(d), String(words)] as const)}
          chosen={days === undefined ? undefined : String(days)}
          onChoose={(d) => navigate({ search: { days: d ? Number(d) : undefined }, replace: true })}
        />
      </div>
      <Loaded
        of={asked}
        what="The fleet over time"
        rows={8}
        isEmpty={(all) => all.standing.devices === 0}
        empty={<NoDevices />}
      >
        {(all) => (
          <>
            <Card className="mb-4">
              <Share all={all} />
            </Card>
            <FailedDays failed={all.failed} days={days ?? 30} />
            <div className="grid grid-cols-2 gap-4 max-lg:grid-cols-1">
              {all.families.map((f) => (
                <FamilyCard key={f.family} family={f} points={all.points} />
              ))}
            </div>
          </>
        )}
      </Loaded>
    </div>
  );
}

const W = 900;
const H = 190;
const PAD = { left: 44, right: 12, top: 10, bottom: 22 };

function Share({ all }: { all: Answer }) {
  const { now, zone } = useClock();
  const { points, expected, standing } = all;
  const share = points.map((p) => ({ at: new Date(p.at), share: p.devices ? p.approved / p.devices : 0 }));
  const onTime = points.map((p) => ({ at: new Date(p.at), share: p.devices ? p.on_time / p.devices : 0 }));
  const ahead = [
    { at: now, share: standing.approved / standing.devices },
    ...expected.map((e) => ({
      at: new Date(e.at),
      share: (standing.approved + e.approved) / standing.devices,
    })),
  ];
  const first = share[0]?.at ?? now;
  const last = ahead.at(-1)?.at ?? now;
  const x = scaleTime([first, last], [PAD.left, W - PAD.right]);
  const y = scaleLinear([0, 1], [H - PAD.bottom, PAD.top]);
  const path = line<{ at: Date; share: number }>(
    (p) => x(p.at),
    (p) => y(p.share),
  ).curve(curveStepAfter);
  return (
    <>
      <p className="mb-2 text-lg" title={standing.expected_at ? fullInstant(standing.expected_at, zone) : undefined}>
        {standingWords(standing, (at) => instant(at, zone, now))}
      </p>
      <svg viewBox={`0 0 ${W} ${H}`} className="w-full" role="img" aria-label="Share on an approved version over time">
        {[0, 0.5, 1].map((s) => (
          <g key={s}>
            <line x1={PAD.left} x2={W - PAD.right} y1={y(s)} y2={y(s)} stroke="var(--rule)" />
            <text x={PAD.left - 6} y={y(s) + 4} textAnchor="end" fontSize="12" fill="var(--soft)">
              {percent(s, 0)}
            </text>
          </g>
        ))}
        <path d={path(onTime) ?? ""} fill="none" stroke="var(--soft)" strokeWidth="1.5" />
        <path d={path(share) ?? ""} fill="none" stroke="var(--verdigris)" strokeWidth="2.5" />
        {ahead.length > 1 && (
          <path d={path(ahead) ?? ""} fill="none" stroke="var(--verdigris)" strokeWidth="2" strokeDasharray="3 4" />
        )}
        <line x1={x(now)} x2={x(now)} y1={PAD.top} y2={H - PAD.bottom} stroke="var(--saffron)" />
        <text x={PAD.left} y={H - 6} fontSize="12" fill="var(--soft)">
          {instant(first.toISOString(), zone, now)}
        </text>
        <text x={W - PAD.right} y={H - 6} textAnchor="end" fontSize="12" fill="var(--soft)">
          {ahead.length > 1 ? `expected ${instant(last.toISOString(), zone, now)}` : "now"}
        </text>
      </svg>
      <ul className="flex flex-wrap gap-x-5 text-soft text-xs">
        <li>
          <span aria-hidden className="mr-1.5 inline-block h-[3px] w-5 bg-verdigris align-middle" />
          on an approved version
        </li>
        <li>
          <span aria-hidden className="mr-1.5 inline-block h-px w-5 bg-soft align-middle" />
          called on time, now {percent(onTime.at(-1)?.share ?? 0)}
        </li>
      </ul>
      {points.length < 2 && <p className="text-soft">It is sampled each hour; the line begins with the next sample.</p>}
    </>
  );
}

/** the target's own, and those of all others */
const TARGET = "var(--verdigris)";
const COLOURS = [
  "var(--soft)",
  "var(--saffron)",
  "var(--plum)",
  "var(--rule)",
  "color-mix(in srgb, var(--plum) 45%, var(--card))",
  "var(--ink)",
];
const FW = 420;
const FH = 110;

function FamilyCard({ family: f, points }: { family: Family; points: Answer["points"] }) {
  const first = points[0];
  const last = points.at(-1);
  if (!first || !last) return null;
  const x = scaleTime([new Date(first.at), new Date(last.at)], [0, FW]);
  const sums = points.map((_, n) => f.bands.reduce((all, b) => all + (b.devices[n] ?? 0), 0));
  const y = scaleLinear([0, Math.max(1, ...sums)], [FH - 2, 2]);
  let below = points.map(() => 0);
  const drawn = f.bands.map((band, n) => {
    const base = below;
    below = below.map((b, i) => b + (band.devices[i] ?? 0));
    const top = below;
    const shape = area<number>()
      .x((i) => x(new Date(points[i]?.at ?? first.at)))
      .y0((i) => y(base[i] ?? 0))
      .y1((i) => y(top[i] ?? 0))
      .curve(curveStepAfter);
    const colour =
      band.version === f.target ? TARGET : COLOURS[(f.bands[0]?.version === f.target ? n - 1 : n) % COLOURS.length];
    return { band, path: shape(points.map((_, i) => i)) ?? "", colour };
  });
  return (
    <Card
      title={f.family}
      aside={
        f.target
          ? `${percent(f.devices ? f.approved / f.devices : 0, 0)} on an approved version; the newest is ${f.target}`
          : "no version is approved"
      }
    >
      {points.length > 1 && (
        <svg
          viewBox={`0 0 ${FW} ${FH}`}
          className="mb-2 w-full"
          role="img"
          aria-label={`Versions of ${f.family} over time`}
          preserveAspectRatio="none"
        >
          {drawn.map((d) => (
            <path key={d.band.version} d={d.path} fill={d.colour} opacity={d.band.approved ? 0.85 : 0.5} />
          ))}
        </svg>
      )}
      <ul>
        {drawn.map(({ band, colour }) => (
          <li key={band.version} className="flex items-center gap-2">
            <span
              aria-hidden
              className="h-3 w-3 shrink-0 rounded-sm"
              style={{ background: colour, opacity: band.approved ? 0.85 : 0.5 }}
            />
            <VersionLink family={f.family} version={band.version} />
            {band.version === f.target ? (
              <span className="text-verdigris">the newest approved</span>
            ) : band.approved ? (
              <span className="text-soft">approved</span>
            ) : null}
            <span className="ml-auto">{count(band.devices.at(-1) ?? 0)}</span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function VersionLink({ family, version }: { family: string; version: string }) {
  if (version === "others") return <span>other versions</span>;
  const of = `family = ${written(family)} and firmware`;
  return (
    <Link
      to="/fleet"
      search={{ rule: version ? `${of} = ${written(version)}` : `${of} is missing` }}
      className="hover:underline"
    >
      {version || "no version reported"}
    </Link>
  );
}
