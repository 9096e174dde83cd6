/** Below the rows, by the same hours: how many devices are expected to be out of service, and what narrow uplinks carry. */
import { DateTime } from "luxon";
import { useClock } from "@/lib/clock";
import { count, counted, percent } from "@/lib/format";
import { ObjectLink } from "@/parts/object-link";
import { type Answer, type Days, stretch, uplinkWords } from "./model";

const HEIGHT = 44;
/** A site's strip is full at this height; what is wanted beyond is drawn up to half as much again. */
const FULL = 14;
const STRIP = FULL * 1.5;
/** An uplink is drawn where this share of what it carries is expected; from the second on it is as good as full. */
const MUCH = 0.25;
const NEARLY = 0.95;

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

/** What uplinks are expected to carry, each against what it can, where that is much; else how much is the most. */
export function SiteLoads({ answer, days }: { answer: Answer; days: Days }) {
  const { zone } = useClock();
  const told = answer.sites.map((site) => ({ site, most: Math.max(0, ...site.load) })).filter((s) => s.most > 0);
  const narrow = told.filter((s) => s.most >= s.site.at_once * MUCH);
  const when = (place: number) => {
    const at = answer.load[place]?.at;
    return at ? DateTime.fromISO(at, { zone }).toFormat("ccc d LLL HH:mm") : "";
  };
  const [fullest] = [...told].sort((a, b) => b.most / b.site.at_once - a.most / a.site.at_once);
  if (!fullest) return null;
  if (narrow.length === 0)
    return (
      <p className="mt-1 px-3 text-xs">
        <strong>Uplinks</strong>{" "}
        <span className="text-soft">
          None is expected to be more than {percent(Math.ceil((100 * fullest.most) / fullest.site.at_once) / 100, 0)}{" "}
          full. That is {fullest.site.name}, {when(fullest.site.load.indexOf(fullest.most))}.
        </span>
      </p>
    );
  return (
    <section aria-label="Files that sites are expected to fetch" className="mt-2">
      <h3 className="px-3 font-sans font-semibold text-xs">Uplinks</h3>
      {narrow.map(({ site, most }) => {
        const words = `${uplinkWords(site, most)}, ${when(site.load.indexOf(most))}`;
        return (
          <figure key={site.id} className="flex items-end" aria-label={`${site.name}: ${words}`}>
            <figcaption className="w-48 shrink-0 px-3 pt-1 text-xs leading-tight max-md:w-24">
              <ObjectLink kind="site" id={site.id} className="block truncate hover:underline">
                {site.name}
              </ObjectLink>
              <span className="block truncate text-soft" title={words}>
                {uplinkWords(site, most)}
              </span>
            </figcaption>
            <div className="relative flex-1 border-rule border-b" style={{ height: STRIP }}>
              <span
                aria-hidden
                className="absolute inset-x-0 border-soft/60 border-t border-dashed"
                style={{ bottom: FULL }}
              />
              {site.load.map((n, place) => {
                const begins = answer.load[place]?.at;
                if (!begins || n === 0) return null;
                const ends = DateTime.fromISO(begins).plus({ hours: answer.bar_hours });
                const at = stretch(begins, ends.toISO() ?? begins, days);
                const share = Math.min(n / site.at_once, STRIP / FULL);
                return (
                  at && (
                    <span
                      key={begins}
                      className={`absolute bottom-0 ${n > site.at_once * NEARLY ? "bg-saffron" : "bg-verdigris"}`}
                      style={{ ...at, height: Math.max(1, share * FULL) }}
                      title={`${when(place)}: ${uplinkWords(site, n)}`}
                    />
                  )
                );
              })}
            </div>
          </figure>
        );
      })}
    </section>
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
              <ObjectLink kind="site" id={s.id} className="truncate hover:underline">
                {s.name}
              </ObjectLink>
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
