/** Members over 30 days, and what saving would make of them. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { scaleLinear, scaleTime } from "d3-scale";
import { curveStepAfter, line } from "d3-shape";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, instant } from "@/lib/format";
import { Failed, Skeleton } from "@/parts/views";
import { groupHistory } from "./queries";

const W = 250;
const H = 78;

export function MembersCurve({ groupId, would }: { groupId: number; would?: number }) {
  const asked = useQuery(groupHistory(groupId));
  const { data } = asked;
  const { now, zone } = useClock();
  const first = data?.curve[0];
  const last = data?.curve.at(-1);
  if (!data) return asked.error ? <Failed what="The members over 30 days" of={asked} /> : <Skeleton rows={3} />;
  if (!first || !last) return null;
  const from = new Date(first.at);
  const to = new Date(last.at);
  const most = Math.max(1, would ?? 0, ...data.curve.map((p) => p.count));
  const x = scaleTime([from, to], [0, W - 14]);
  const y = scaleLinear([0, most], [H - 4, 14]);
  const path = line<Schemas["CurvePoint"]>(
    (p) => x(new Date(p.at)),
    (p) => y(p.count),
  ).curve(curveStepAfter)(data.curve);
  const changes = data.changes.slice(0, 5);
  return (
    <section>
      <h2 className="mb-1 text-[1.05rem]">Members, 30 days</h2>
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className="w-full"
        role="img"
        aria-label={`${first.count} members at first, ${last.count} now`}
      >
        <line x1="0" x2={W} y1={H - 4} y2={H - 4} stroke="var(--rule)" />
        <path d={path ?? ""} fill="none" stroke="var(--verdigris)" strokeWidth="2" />
        <text x="0" y={y(first.count) - 4} fontSize="11" fill="var(--soft)">
          {count(first.count)}
        </text>
        {would !== undefined && would !== last.count && (
          <>
            <line
              x1={W - 10}
              x2={W - 10}
              y1={y(last.count)}
              y2={y(would)}
              stroke="var(--saffron)"
              strokeDasharray="2 2"
              strokeWidth="2"
            />
            <text x={W - 16} y={y(would) + 4} fontSize="11" textAnchor="end" fill="var(--saffron-ink)">
              {count(would)}
            </text>
          </>
        )}
      </svg>
      <p className="flex justify-between text-soft text-xs">
        <span>{instant(first.at, zone, now)}</span>
        <Link to="/groups/$id/days" params={{ id: String(groupId) }} search={{}} className="slot">
          Membership history
        </Link>
        <span>now {count(last.count)}</span>
      </p>
      {changes.length > 0 && (
        <ul className="mt-2 space-y-1 text-xs">
          {changes.map((c) => (
            <li key={c.at + c.device + c.joined} className="text-soft">
              {instant(c.at, zone, now)} <strong className="font-semibold text-ink">{c.device}</strong>{" "}
              {c.joined ? "joined" : "left"}: {c.cause}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
