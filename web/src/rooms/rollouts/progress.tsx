/** Confirmed devices over time, with the hours in which the window is open for the operator's zone drawn in. */
import { scaleLinear, scaleTime } from "d3-scale";
import { area, curveStepAfter, line } from "d3-shape";
import { timeDay } from "d3-time";
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import { city } from "@/lib/format";

interface Props {
  points: Schemas["ProgressPoint"][];
  total: number;
  now: Date;
  zone: string;
  window: { start: string; end: string } | null;
  ended: string | null;
  /** what the forecast says of the time to come */
  ahead?: Schemas["ForecastPoint"][];
  freezes?: Schemas["FreezeOfRollout"][];
}

const W = 1200;
const TALL = 132;
const LOW = 66;
const PAD = { left: 44, right: 12, top: 8, bottom: 20 };

/** The openings of a daily window between two moments, by a zone's clock. */
export function openings(window: { start: string; end: string }, zone: string, from: Date, to: Date): [Date, Date][] {
  const at = (day: DateTime, text: string) => {
    const [hour, minute] = text.split(":").map(Number);
    return day.set({ hour, minute });
  };
  const found: [Date, Date][] = [];
  let day = DateTime.fromJSDate(from, { zone }).startOf("day").minus({ days: 1 });
  while (day.toJSDate() < to) {
    const start = at(day, window.start);
    const end = at(window.end > window.start ? day : day.plus({ days: 1 }), window.end);
    if (end.toJSDate() > from && start.toJSDate() < to) found.push([start.toJSDate(), end.toJSDate()]);
    day = day.plus({ days: 1 });
  }
  return found;
}

/** Whether nothing was confirmed in the last half of the time: then the curve has little to say, and is drawn low. */
export function isFlat(points: { at: string; confirmed: number }[], until: Date, ended: boolean): boolean {
  const first = points[0];
  const last = points.at(-1);
  if (!first || !last) return true;
  const rise = points.findLast((p) => p.confirmed < last.confirmed);
  const since = rise ? Date.parse(last.at) : Date.parse(first.at);
  return ended || until.getTime() - since > (until.getTime() - Date.parse(first.at)) / 2;
}

export function Progress({ points, total, now, zone, window, ended, ahead, freezes }: Props) {
  const first = points[0];
  if (!first || !total) return <p className="text-soft">Nothing was confirmed yet.</p>;
  const from = new Date(first.at);
  const until = ended ? new Date(ended) : now;
  const told = ahead?.at(-1)?.at;
  const to = new Date(Math.max(until.getTime(), from.getTime() + 30 * 60_000, told ? Date.parse(told) : 0));
  const H = isFlat(points, until, ended !== null) ? LOW : TALL;
  const x = scaleTime([from, to], [PAD.left, W - PAD.right]);
  const y = scaleLinear([0, total], [H - PAD.bottom, PAD.top]);
  const last = points.at(-1)?.confirmed ?? 0;
  const all = [...points, { at: until.toISOString(), confirmed: last }];
  const path = line<Schemas["ProgressPoint"]>(
    (p) => x(new Date(p.at)),
    (p) => y(p.confirmed),
  ).curve(curveStepAfter)(all);
  const days = to.getTime() - from.getTime() > 36 * 3600_000;
  const ticks = days ? x.ticks(timeDay) : x.ticks(8);
  return (
    <>
      <svg viewBox={`0 0 ${W} ${H}`} className="w-full" role="img" aria-label={`${last} of ${total} devices confirmed`}>
        <defs>
          <pattern id="freeze" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <line x1="0" y1="0" x2="0" y2="7" stroke="var(--plum)" strokeWidth="1.2" opacity="0.45" />
          </pattern>
        </defs>
        {window &&
          openings(window, zone, from, to).map(([a, b]) => (
            <rect
              key={a.getTime()}
              x={Math.max(PAD.left, x(a))}
              y={PAD.top}
              width={Math.max(0, Math.min(x(b), W - PAD.right) - Math.max(PAD.left, x(a)))}
              height={H - PAD.top - PAD.bottom}
              fill="var(--rule)"
              opacity="0.65"
            >
              <title>{`window, by the clock of ${city(zone)}`}</title>
            </rect>
          ))}
        {freezes
          ?.filter((f) => new Date(f.ends_at) > from && new Date(f.starts_at) < to)
          .map((f) => {
            const left = Math.max(PAD.left, x(new Date(f.starts_at)));
            const right = Math.min(W - PAD.right, x(new Date(f.ends_at)));
            return (
              <g key={f.id}>
                <rect
                  x={left}
                  y={PAD.top}
                  width={Math.max(1, right - left)}
                  height={H - PAD.top - PAD.bottom}
                  fill="url(#freeze)"
                  stroke="var(--plum)"
                  strokeWidth="0.6"
                >
                  <title>{`freeze “${f.name}”, ${f.devices} devices held`}</title>
                </rect>
                <text x={left + 4} y={PAD.top + 11} fontSize="11" fill="var(--plum)">
                  {right - left > 70 ? f.name.slice(0, Math.floor((right - left) / 6.5)) : ""}
                </text>
              </g>
            );
          })}
        {[0, 0.5, 1].map((s) => (
          <g key={s}>
            <line x1={PAD.left} x2={W - PAD.right} y1={y(total * s)} y2={y(total * s)} stroke="var(--rule)" />
            <text
              x={PAD.left - 8}
              y={y(total * s) + 4}
              textAnchor="end"
              fontSize="11"
              fill="var(--soft)"
            >{`${s * 100}%`}</text>
          </g>
        ))}
        {ticks.map((t) => (
          <text
            key={t.getTime()}
            x={Math.min(x(t), W - PAD.right)}
            y={H - 4}
            textAnchor={x(t) > W - 50 ? "end" : "middle"}
            fontSize="11"
            fill="var(--soft)"
          >
            {DateTime.fromJSDate(t, { zone }).toFormat(days ? "ccc d LLL" : "HH:mm")}
          </text>
        ))}
        {ahead && ahead.length > 1 && (
          <g aria-hidden>
            <path
              d={
                area<Schemas["ForecastPoint"]>(
                  (p) => x(new Date(p.at)),
                  (p) => y(Math.min(total, p.low)),
                  (p) => y(Math.min(total, p.high)),
                )(ahead) ?? ""
              }
              fill="var(--verdigris)"
              opacity="0.16"
            />
            <path
              d={
                line<Schemas["ForecastPoint"]>(
                  (p) => x(new Date(p.at)),
                  (p) => y(Math.min(total, p.median)),
                )(ahead) ?? ""
              }
              fill="none"
              stroke="var(--verdigris)"
              strokeWidth="1.4"
              strokeDasharray="5 4"
            />
          </g>
        )}
        <path d={path ?? ""} fill="none" stroke="var(--verdigris)" strokeWidth="2.2" />
        <line x1={x(until)} x2={x(until)} y1={PAD.top - 4} y2={H - PAD.bottom} stroke="var(--ink)" strokeWidth="1.4" />
      </svg>
      <details className="text-soft text-xs">
        <summary className="cursor-pointer">As a table</summary>
        <table className="mt-1">
          <thead>
            <tr>
              <th className="pr-6 text-left font-normal">When, {city(zone)}</th>
              <th className="text-right font-normal">Confirmed</th>
            </tr>
          </thead>
          <tbody>
            {points
              .filter((_, i) => i % Math.max(1, Math.ceil(points.length / 20)) === 0 || i === points.length - 1)
              .map((p) => (
                <tr key={`${p.at}${p.confirmed}`}>
                  <td className="pr-6">{DateTime.fromISO(p.at, { zone }).toFormat("d LLL HH:mm")}</td>
                  <td className="text-right">{p.confirmed}</td>
                </tr>
              ))}
          </tbody>
        </table>
      </details>
    </>
  );
}
