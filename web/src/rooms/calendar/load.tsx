/** Below the rows, by the same hours: how many devices are expected to be out of service, and what narrow uplinks carry. */
import { DateTime } from "luxon";
import { useClock } from "@/lib/clock";
import { count, counted } from "@/lib/format";
import { ObjectLink } from "@/parts/object-link";
import { type Answer, type Days, stretch, uplinkWords } from "./model";

const HEIGHT = 44;
/** A site's strip is full at this height; what is wanted beyond is drawn up to half as much again. */
const FULL = 14;
const STRIP = FULL * 1.5;
/** Less than this at once is nothing to see; more than this share of what it carries is as good as full. */
const LEAST_SHOWN = 0.05;
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

/** What the uplinks of the narrowest sites are expected to carry, each against what it can: a line marks that. */
export function SiteLoads({ answer, days }: { answer: Answer; days: Days }) {
  const { zone } = useClock();
  const sites = answer.sites.filter((s) => s.load.some((n) => n >= LEAST_SHOWN));
  if (sites.length === 0) return null;
  return (
    <section aria-label="Files that sites are expected to fetch" className="mt-2">
      {sites.map((site) => {
        const most = Math.max(...site.load);
        const at = answer.load[site.load.indexOf(most)]?.at;
        const when = at ? DateTime.fromISO(at, { zone }).toFormat("ccc d LLL HH:mm") : "";
        return (
          <figure
            key={site.id}
            className="flex items-end"
            aria-label={`${site.name}: ${uplinkWords(site, most)}, ${when}`}
          >
            <figcaption className="w-48 shrink-0 px-3 pt-1 text-xs max-md:w-24">
              <strong className="block truncate" title={site.name}>
                {site.name}
              </strong>
              <span className="text-soft">
                {uplinkWords(site, most)}, {when}
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
                if (!begins || n < LEAST_SHOWN) return null;
                const ends = DateTime.fromISO(begins).plus({ hours: answer.bar_hours });
                const at = stretch(begins, ends.toISO() ?? begins, days);
                const share = Math.min(n / site.at_once, STRIP / FULL);
                return (
                  at && (
                    <span
                      key={begins}
                      className={`absolute bottom-0 ${n > site.at_once * NEARLY ? "bg-saffron" : "bg-verdigris"}`}
                      style={{ ...at, height: Math.max(1, share * FULL) }}
                      title={`${DateTime.fromISO(begins, { zone }).toFormat("ccc d LLL HH:mm")}: ${uplinkWords(site, n)}`}
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
