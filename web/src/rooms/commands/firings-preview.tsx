/** What a command that is composed would do: how many devices, what else wants them, and its next firings zone by zone. */
import { Link } from "@tanstack/react-router";
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { city, counted } from "@/lib/format";
import { Conflicts } from "@/parts/conflicts";
import { ZoneRows } from "@/parts/zone-rows";
import type { Draft } from "./draft";

type Preview = Schemas["SchedulePreview"];
type Firing = Schemas["FiringView"];

export function FiringsPreview({
  data,
  draft,
  onExclude,
}: {
  data: Preview;
  draft: Draft;
  onExclude: (localTime: string) => void;
}) {
  const { now, zone } = useClock();
  const fires = draft.when !== "now";
  const soon = data.zones.some((z) => z.firings[0] && Date.parse(z.firings[0].at) - now.getTime() < 24 * 3600_000);
  return (
    <>
      <p className="text-soft" aria-live="polite">
        {fires
          ? `${counted(data.devices, "device")} now; the audience is looked up anew at each firing.`
          : `${counted(data.devices, "device")} can do it${data.reached_now < data.devices ? `, ${counted(data.reached_now, "device")} of them now` : ""}.`}
      </p>
      {data.frozen > 0 && (
        <p>
          <span aria-hidden className="text-plum">
            ◐{" "}
          </span>
          {counted(data.frozen, "device is", "devices are")} in a freeze now:{" "}
          {draft.freezes === "drop"
            ? "left out of a firing at this moment."
            : "each waits for its end, or until it gives up."}
        </p>
      )}
      {data.conflicts.length > 0 && (
        <section className="mt-2">
          <h3 className="font-sans font-semibold">Conflicts</h3>
          <Conflicts rows={data.conflicts} />
        </section>
      )}
      {data.unsupported_count > 0 && (
        <p>
          <span aria-hidden className="text-saffron">
            ◆{" "}
          </span>
          <Link to="/fleet" search={{ rule: data.unable_rule }} className="slot">
            {counted(data.unsupported_count, "device")}
          </Link>{" "}
          left out: their firmware cannot do it.
        </p>
      )}
      {fires && soon && (
        <div className="my-2">
          <ZoneRows
            zones={data.zones.map((z) => z.zone)}
            from={now}
            hours={24}
            zone={zone}
            width={340}
            marks={data.zones.flatMap((z) => z.firings.map((f) => ({ zone: z.zone, at: f.at, text: f.at })))}
          />
          <p className="text-soft text-xs">Hours by your clock, {city(zone)}; local nights shaded.</p>
        </div>
      )}
      {fires &&
        data.zones.map((z) => (
          <section key={z.zone} className="mt-3">
            <h3 className="flex justify-between font-sans font-semibold">
              {city(z.zone)} <span className="font-normal text-soft">{counted(z.devices, "device")}</span>
            </h3>
            {z.firings.length === 0 && <p className="text-soft">No further firing there.</p>}
            <ul className="text-xs tabular-nums">
              {z.firings.map((f) => (
                <Line key={f.at} firing={f} zone={z.zone} yours={zone} onExclude={onExclude} draft={draft} />
              ))}
            </ul>
            {z.shifted && !z.firings.some((f) => f.at === z.shifted?.at) && (
              <p className="text-saffron-ink text-xs">
                {DateTime.fromISO(z.shifted.local_time).toFormat("d LLL yyyy HH:mm")}: {shiftWords(z.shifted)}
              </p>
            )}
          </section>
        ))}
    </>
  );
}

function Line({
  firing: f,
  zone,
  yours,
  draft,
  onExclude,
}: {
  firing: Firing;
  zone: string;
  yours: string;
  draft: Draft;
  onExclude: (localTime: string) => void;
}) {
  const there = DateTime.fromISO(f.at, { zone });
  const here = there.setZone(yours);
  const isSameDay = here.hasSame(there, "day") || here.toFormat("d") === there.toFormat("d");
  return (
    <li className="group flex items-baseline gap-1.5">
      <span>
        {there.toFormat("ccc d LLL HH:mm")}
        {zone !== yours && (
          <span className="text-soft"> there, {here.toFormat(isSameDay ? "HH:mm" : "ccc HH:mm")} yours</span>
        )}
        {f.shift && <span className="block text-saffron-ink">{shiftWords(f)}</span>}
      </span>
      {draft.when === "repeat" && (
        <button
          type="button"
          className="ml-auto px-1 text-soft hover:text-brick"
          aria-label={`leave out ${f.local_time.replace("T", " ")}`}
          title="Leave this one out, in every zone"
          onClick={() => onExclude(f.local_time)}
        >
          leave out
        </button>
      )}
    </li>
  );
}

/** What a clock change does to a firing. */
export function shiftWords(firing: Firing): string {
  const time = firing.local_time.slice(11);
  return firing.shift === "skipped"
    ? `the clock jumps over ${time}: it runs at the first moment after`
    : `${time} happens twice: it runs the first time only`;
}
