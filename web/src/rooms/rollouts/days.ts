/** What the days of a forecast look like: in each hour how many are confirmed in the median future, which rings open,
 * which freezes lie in it. */
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";

export interface Day {
  date: string;
  label: string;
  confirmed: number;
  /** for each hour of the day by the zone's clock */
  hours: { confirmed: number; isFrozen: boolean; opens: number[] }[];
  opens: { position: number; name: string; at: string }[];
  freezes: string[];
}

const MOST_DAYS = 14;
const HOUR = 3600_000;

/** How many are confirmed at a moment, between the points of the curve. */
function confirmedAt(curve: Schemas["ForecastPoint"][], at: number): number {
  const next = curve.findIndex((p) => Date.parse(p.at) >= at);
  if (next < 0) return curve.at(-1)?.median ?? 0;
  const [a, b] = [curve[next - 1], curve[next]];
  if (!b) return 0;
  if (!a) return b.median;
  const part = (at - Date.parse(a.at)) / (Date.parse(b.at) - Date.parse(a.at));
  return a.median + part * (b.median - a.median);
}

/** The days from now until the forecast is through, by a zone's clock; at most fourteen. */
export function forecastDays(
  told: Pick<Schemas["ForecastView"], "curve" | "rings" | "freezes">,
  zone: string,
  now: Date,
): Day[] {
  const days: Day[] = [];
  const end = told.curve.at(-1)?.at;
  if (!end) return days;
  let day = DateTime.fromJSDate(now, { zone }).startOf("day");
  while (days.length < MOST_DAYS && day.toMillis() < Date.parse(end)) {
    const next = day.plus({ days: 1 });
    const hours: Day["hours"] = Array.from({ length: 24 }, () => ({ confirmed: 0, isFrozen: false, opens: [] }));
    // a day in which clocks change has an hour twice, or lacks one
    for (let at = day.toMillis(); at < next.toMillis(); at += HOUR) {
      const hour = hours[DateTime.fromMillis(at, { zone }).hour];
      if (!hour) continue;
      hour.confirmed += confirmedAt(told.curve, at + HOUR) - confirmedAt(told.curve, at);
      hour.isFrozen ||= told.freezes.some((f) => Date.parse(f.starts_at) < at + HOUR && Date.parse(f.ends_at) > at);
      for (const r of told.rings) {
        const opens = r.opens.median ? Date.parse(r.opens.median) : Number.NaN;
        if (opens >= at && opens < at + HOUR) hour.opens.push(r.position);
      }
    }
    days.push({
      date: day.toISODate() ?? "",
      label: day.toFormat("ccc d LLL"),
      confirmed: hours.reduce((sum, h) => sum + h.confirmed, 0),
      hours,
      opens: told.rings.flatMap((r) => {
        const at = r.opens.median ? DateTime.fromISO(r.opens.median, { zone }) : null;
        return at && at >= day && at < next ? [{ position: r.position, name: r.name, at: at.toFormat("HH:mm") }] : [];
      }),
      freezes: told.freezes
        .filter((f) => Date.parse(f.starts_at) < next.toMillis() && Date.parse(f.ends_at) > day.toMillis())
        .map((f) => f.name),
    });
    day = next;
  }
  return days;
}
