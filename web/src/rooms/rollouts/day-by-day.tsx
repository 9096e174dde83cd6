/** The calendar of a rehearsal: a line a day, its hours shaded by how many are confirmed in them. */
import clsx from "clsx";
import { useMemo } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { city, count } from "@/lib/format";
import { type Day, forecastDays } from "./days";

export function DayByDay({ told }: { told: Schemas["ForecastView"] }) {
  const { now, zone } = useClock();
  const hour = Math.floor(now.getTime() / 3600_000) * 3600_000; // computed again once an hour, not each second
  const days = useMemo(() => forecastDays(told, zone, new Date(hour)), [told, zone, hour]);
  if (days.length === 0) return null;
  const busiest = Math.max(...days.flatMap((d) => d.hours.map((h) => h.confirmed)), 1e-9);
  return (
    <section aria-label="Day by day" className="mt-3">
      <h3 className="font-semibold text-soft">Day by day, by the clock of {city(zone)}</h3>
      <div aria-hidden className="mt-1 grid grid-cols-4 text-soft text-xs">
        {["00", "06", "12", "18"].map((hour) => (
          <span key={hour}>{hour}</span>
        ))}
      </div>
      <ol className="space-y-1.5">
        {days.map((d) => (
          <li key={d.date}>
            <div className="flex justify-between">
              <span>{d.label}</span>
              <strong title="confirmed on this day in the median future">{count(d.confirmed)}</strong>
            </div>
            <Hours day={d} busiest={busiest} />
            {(d.opens.length > 0 || d.freezes.length > 0) && (
              <p className="text-soft text-xs">
                {[
                  ...d.opens.map((r) => `${r.position} opens ${r.at}`),
                  ...d.freezes.map((name) => `freeze “${name}”`),
                ].join(" · ")}
              </p>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}

function Hours({ day, busiest }: { day: Day; busiest: number }) {
  return (
    <div aria-hidden className="mt-0.5 grid grid-cols-[repeat(24,1fr)] gap-px">
      {day.hours.map((h, hour) => (
        <span
          // biome-ignore lint/suspicious/noArrayIndexKey: the hours of a day stay where they are
          key={hour}
          className={clsx(
            "relative h-3.5 overflow-hidden bg-rule",
            h.isFrozen && "outline outline-plum -outline-offset-1",
          )}
          title={`${String(hour).padStart(2, "0")}:00: ${count(h.confirmed)} confirmed${h.isFrozen ? ", frozen" : ""}`}
        >
          <span
            className="absolute inset-0 bg-verdigris"
            style={{ opacity: h.confirmed > 0.05 ? 0.2 + 0.8 * (h.confirmed / busiest) : 0 }}
          />
          {h.opens.length > 0 && <span className="absolute inset-y-0 left-0 w-0.5 bg-ink" />}
        </span>
      ))}
    </div>
  );
}
