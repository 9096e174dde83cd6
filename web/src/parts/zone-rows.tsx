/** Rows of zones over a stretch of time, with the local night shaded and marks on it. */
import { scaleTime } from "d3-scale";
import { DateTime } from "luxon";
import { city } from "@/lib/format";

export interface ZoneMark {
  zone: string;
  at: string;
  text: string;
  /** what it is: a firing is a dot, a window that opens a box; anything else has a list of its own */
  kind?: string;
}

const ROW = 22;
const LEFT = 74;
const NIGHT = { from: 21, to: 6 };

/** The local nights of a zone that touch [from, to). */
export function nights(zone: string, from: Date, to: Date): [Date, Date][] {
  const found: [Date, Date][] = [];
  let day = DateTime.fromJSDate(from, { zone }).startOf("day").minus({ days: 1 });
  while (day.toJSDate() < to) {
    const start = day.set({ hour: NIGHT.from });
    const end = day.plus({ days: 1 }).set({ hour: NIGHT.to });
    if (end.toJSDate() > from && start.toJSDate() < to) found.push([start.toJSDate(), end.toJSDate()]);
    day = day.plus({ days: 1 });
  }
  return found;
}

export function ZoneRows({
  zones,
  from,
  hours,
  zone,
  marks,
  width = 268,
}: {
  zones: string[];
  from: Date;
  hours: number;
  zone: string;
  marks: ZoneMark[];
  width?: number;
}) {
  const to = new Date(from.getTime() + hours * 3600_000);
  const x = scaleTime([from, to], [LEFT, width]);
  const height = zones.length * ROW + 20;
  const first = DateTime.fromJSDate(from, { zone }).startOf("hour").plus({ hours: 1 });
  const ticks = Array.from({ length: hours }, (_, i) => first.plus({ hours: i })).filter((t) => t.hour % 6 === 0);
  const inside = marks.filter((m) => new Date(m.at) >= from && new Date(m.at) < to);
  const clamp = (date: Date) => Math.max(LEFT, Math.min(width, x(date)));
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      className="w-full"
      role="img"
      aria-label={`The next ${hours} hours in ${zones.map(city).join(", ")}: ${inside.length} marks`}
    >
      {zones.map((name, i) => (
        <g key={name} transform={`translate(0 ${i * ROW})`}>
          <text x="0" y="15" fontSize="11.5" fill="var(--ink)">
            {city(name)}
          </text>
          <rect x={LEFT} y="3" width={width - LEFT} height={ROW - 6} fill="var(--card)" />
          {nights(name, from, to).map(([start, end]) => (
            <rect
              key={start.getTime()}
              x={clamp(start)}
              y="3"
              width={Math.max(0, clamp(end) - clamp(start))}
              height={ROW - 6}
              fill="var(--plum)"
              opacity="0.2"
            />
          ))}
          {inside
            .filter((m) => m.zone === name)
            .map((m) => (
              <g key={m.at + m.text}>
                <title>{m.text}</title>
                {m.kind === "window" ? (
                  <rect
                    x={x(new Date(m.at))}
                    y={ROW / 2 - 4}
                    width="10"
                    height="8"
                    rx="2"
                    fill="var(--card)"
                    stroke="var(--verdigris)"
                    strokeWidth="1.5"
                  />
                ) : (
                  <circle cx={x(new Date(m.at))} cy={ROW / 2} r="4.5" fill="var(--ink)" />
                )}
              </g>
            ))}
        </g>
      ))}
      {ticks.map((t) => (
        <g key={t.toMillis()}>
          <line x1={x(t.toJSDate())} x2={x(t.toJSDate())} y1="0" y2={height - 16} stroke="var(--rule)" />
          <text x={x(t.toJSDate())} y={height - 4} fontSize="10.5" textAnchor="middle" fill="var(--soft)">
            {t.toFormat("HH:mm")}
          </text>
        </g>
      ))}
    </svg>
  );
}
