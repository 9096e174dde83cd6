/** Below the rows, by the same hours: how many devices are expected to be out of service, and which sites are narrow. */
import { DateTime } from "luxon";
import { useClock } from "@/lib/clock";
import { count, counted } from "@/lib/format";
import { type Answer, type Days, stretch } from "./model";

const HEIGHT = 44;

export function LoadChart({ answer, days }: { answer: Answer; days: Days }) {
  const { zone } = useClock();
  const bars = answer.load.filter((b) => b.installs + b.commands >= 0.5);
  const most = Math.max(1, ...bars.map((b) => b.installs + b.commands));
  const top = bars.find((b) => b.installs + b.commands === most);
  const length = answer.bar_hours === 1 ? "an hour" : `${answer.bar_hours} hours`;
  const peak = top
    ? `Expected: at most ${counted(Math.round(most), "device")} in ${length}, ${DateTime.fromISO(top.at, { zone }).toFormat("ccc d LLL HH:mm")}`
    : "No device is expected to be";
  return (
    <figure className="mt-3 flex" aria-label={`Devices out of service for a while: ${peak}`}>
      <figcaption className="w-48 shrink-0 px-3 text-xs max-md:w-24">
        <strong className="block">Out of service</strong>
        <span className="text-soft">{peak}</span>
      </figcaption>
      <div className="relative flex-1 border-rule border-b" style={{ height: HEIGHT }}>
        {bars.map((b) => {
          const at = stretch(b.at, DateTime.fromISO(b.at).plus({ hours: answer.bar_hours }).toISO() ?? b.at, days);
          const words = `${DateTime.fromISO(b.at, { zone }).toFormat("ccc d LLL HH:mm")}: ${counted(Math.round(b.installs), "install")}, ${counted(Math.round(b.commands), "device")} by commands`;
          return (
            at && (
              <span
                key={b.at}
                className="absolute bottom-0 flex flex-col justify-end"
                style={{ ...at, height: HEIGHT }}
                title={words}
              >
                <span className="bg-ink/70" style={{ height: (b.commands / most) * HEIGHT }} />
                <span className="bg-verdigris" style={{ height: (b.installs / most) * HEIGHT }} />
              </span>
            )
          );
        })}
      </div>
    </figure>
  );
}

export function NarrowSites({ answer }: { answer: Answer }) {
  return (
    <section aria-labelledby="narrow">
      <h2 id="narrow" className="mb-1 text-[1.05rem]">
        Files to come
      </h2>
      {answer.sites.length === 0 ? (
        <p className="text-soft">No site waits for a file.</p>
      ) : (
        <ul>
          {answer.sites.map((s) => (
            <li key={s.id} className="flex justify-between gap-3">
              <span className="truncate">{s.name}</span>
              <span className="whitespace-nowrap text-soft">
                {count(s.waiting)} wait, {count(s.under_way)} of {count(s.at_once)} at once
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
