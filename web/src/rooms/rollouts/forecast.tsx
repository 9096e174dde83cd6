/** When a rollout will be through, what holds it back, and a draft rehearsed with made-up failures. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { city, counted, instant, percent, span } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Card, Labelled } from "@/parts/controls";
import { Loaded, Skeleton } from "@/parts/views";
import { DayByDay } from "./day-by-day";
import { rolloutForecast } from "./queries";

type Told = Schemas["ForecastView"];

/** For a draft: the forecast as if it were launched now, and what-if of its failures. */
export function Rehearsal({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const [typed, setTyped] = useState("");
  const rate = useDebounced(typed, 500);
  const asked = useQuery(rolloutForecast(rollout.id, rate === "" ? undefined : Number(rate)));
  return (
    <section aria-label="Forecast">
      <h2 className="text-[1.1rem]">If launched now</h2>
      <Loaded of={asked} what="The forecast" skeleton={<Forecasting />}>
        {(data) => (
          <>
            {(typed !== rate || asked.isPlaceholderData) && (
              <p role="status">Forecasting with the new rate; this is the one before…</p>
            )}
            <Words told={data} />
            <ol className="mt-2 space-y-0.5">
              {data.rings.map((r) => (
                <li key={r.position} className="flex justify-between gap-3">
                  <span className="truncate">
                    <span className="text-soft">{r.position}</span> {r.name}
                  </span>
                  <span className="whitespace-nowrap text-soft">
                    <Moment band={r.opens} otherwise="may not open" />
                  </span>
                </li>
              ))}
            </ol>
            <DayByDay told={data} />
          </>
        )}
      </Loaded>
      <div className="mt-3">
        <Labelled label="Rehearse with failing attempts of, %" hint="empty: as images fail by experience">
          <input
            className="field w-24"
            type="number"
            min={0}
            max={100}
            step="any"
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
          />
        </Labelled>
      </div>
    </section>
  );
}

/** For an open rollout. */
export function ForecastCard({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const asked = useQuery({ ...rolloutForecast(rollout.id), enabled: rollout.state === "running" });
  if (rollout.state !== "running") return null;
  return (
    <Card title="Forecast" aside="200 simulated futures">
      <Loaded of={asked} what="The forecast" skeleton={<Forecasting />}>
        {(data) => <Words told={data} />}
      </Loaded>
    </Card>
  );
}

function Forecasting() {
  return (
    <>
      <p className="text-soft">Forecasting…</p>
      <Skeleton rows={2} />
    </>
  );
}

function Words({ told }: { told: Told }) {
  const { now, zone } = useClock();
  const limit = told.limits[0];
  return (
    <div className="space-y-1">
      <p>
        {told.end.median && told.silent > 0 && Date.parse(told.end.median) - now.getTime() < 120_000 ? (
          "Every device that is heard of is through."
        ) : told.end.median ? (
          <>
            Through by <strong>{instant(told.end.median, zone, now)}</strong> ({city(zone)}),{" "}
            {told.end.low && told.end.high
              ? `between ${instant(told.end.low, zone, now)} and ${instant(told.end.high, zone, now)} in 8 of 10 futures.`
              : "but in some futures not at all by itself."}
          </>
        ) : (
          <span className="text-brick">In most futures it does not get through by itself before it gives up.</span>
        )}
      </p>
      {told.halts > 0.005 && <p className="text-brick">It halts itself in {percent(told.halts, 0)} of the futures.</p>}
      {limit && (
        <p className="text-soft">
          What holds it back most: {limit.words} (without, {span(limit.seconds)} sooner).
        </p>
      )}
      {told.freeze && (
        <p className={told.freeze.meets < 0.5 ? "text-brick" : "text-soft"}>
          Through before “{told.freeze.name}” ({instant(told.freeze.starts_at, zone, now)}):{" "}
          {percent(told.freeze.meets, 0)} likely.
        </p>
      )}
      {told.silent > 0 && (
        <p className="text-soft">{counted(told.silent, "silent device is", "silent devices are")} not waited for.</p>
      )}
    </div>
  );
}

function Moment({ band, otherwise }: { band: Schemas["MomentBand"]; otherwise: string }) {
  const { now, zone } = useClock();
  return band.median ? instant(band.median, zone, now) : <span className="text-brick">{otherwise}</span>;
}
