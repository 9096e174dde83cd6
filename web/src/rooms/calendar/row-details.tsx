/** All that stands in a row, as a list: to be read, followed, and moved without a pointer. */
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant } from "@/lib/format";
import { Button, Modal } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { summary } from "@/parts/phases";
import {
  type Answer,
  canMove,
  devicesIn,
  freezesIn,
  type Movable,
  marksIn,
  nameOf,
  type RowKind,
  ringsIn,
  rolloutsIn,
  throngsIn,
  windowsIn,
} from "./model";
import { ringWords } from "./rollout-lane";

const MOST_FIRINGS = 12;

export function RowDetails({
  answer,
  row,
  rows,
  onMove,
  onClose,
}: {
  answer: Answer;
  row: Answer["rows"][0];
  rows: RowKind;
  onMove: (what: Movable) => void;
  onClose: () => void;
}) {
  const { now, zone } = useClock();
  const at = (moment: string) => instant(moment, zone, now);
  const rollouts = rolloutsIn(answer, row.key);
  const freezes = freezesIn(answer, row.key);
  const marks = marksIn(answer, row.key);
  const throngs = throngsIn(answer, row.key);
  const ahead = marks.filter((m) => !m.isPast);
  const past = marks.filter((m) => m.isPast).reverse();
  const title = row.name === row.zone ? city(row.name) : row.name || "No site";
  return (
    <Modal open onClose={onClose} title={`${title}, ${counted(row.devices, "device")}`}>
      <div className="space-y-4">
        <p className="text-soft">
          Times of {city(zone)}. Most of its devices live by the clock of {city(row.zone)}.
          {rows !== "zone" && row.key && (
            <>
              {" "}
              <ObjectLink kind={rows} id={Number(row.key)} className="slot">
                Open the {rows}
              </ObjectLink>
            </>
          )}
        </p>
        {rollouts.length + freezes.length + marks.length + throngs.length === 0 && (
          <p>Nothing is planned here in this time, and nothing ran.</p>
        )}
        {freezes.map((f) => (
          <section key={`${f.id}${f.starts_at}`}>
            <Head what={{ kind: "freeze", of: f }} onMove={onMove}>
              Freeze “{f.name}”
            </Head>
            <p className="text-soft">
              {at(f.starts_at)} to {at(f.ends_at)}, holds {counted(devicesIn(f.devices, row.key), "device")} here
              {f.repeats_yearly && ", and comes again each year"}
              {f.source && `; from the calendar “${f.source}”`}
              {f.why && `; ${f.why}`}
            </p>
          </section>
        ))}
        {rollouts.map((r) => (
          <section key={r.id}>
            <Head what={{ kind: "rollout", of: r }} onMove={onMove}>
              {nameOf({ kind: "rollout", of: r })}
            </Head>
            {windowsIn(r, row.key)[0] && (
              <p className="text-soft">
                May install next from {at(windowsIn(r, row.key)[0]?.starts_at ?? "")} to{" "}
                {at(windowsIn(r, row.key)[0]?.ends_at ?? "")}
              </p>
            )}
            <ul>
              {ringsIn(r, row.key).map((ring) => (
                <li key={ring.position}>{ringWords(ring, devicesIn(ring.devices, row.key), zone, now)}</li>
              ))}
            </ul>
          </section>
        ))}
        {[...new Map(ahead.map((m) => [m.schedule.id, m.schedule])).values()].map((schedule) => (
          <section key={schedule.id}>
            <Head what={{ kind: "schedule", of: schedule }} onMove={onMove}>
              {schedule.name || schedule.command}
            </Head>
            <p className="text-soft">{schedule.sentence}</p>
            <p>
              {ahead
                .filter((m) => m.schedule.id === schedule.id)
                .slice(0, MOST_FIRINGS)
                .map((m) => at(m.at))
                .join(" · ")}
            </p>
          </section>
        ))}
        {throngs.map((t) => (
          <section key={`${t.schedule.id}${t.first}`}>
            <Head what={{ kind: "schedule", of: t.schedule }} onMove={onMove}>
              {t.schedule.name || t.schedule.command}
            </Head>
            <p className="text-soft">
              {count(t.times)} times from {at(t.first)} to {at(t.last)}
            </p>
          </section>
        ))}
        {past.length > 0 && (
          <section>
            <h3 className="font-sans font-semibold">What fired</h3>
            <ul>
              {past.slice(0, MOST_FIRINGS).map((m) => (
                <li key={`${m.schedule.id}${m.at}`}>
                  {at(m.at)}{" "}
                  <ObjectLink kind="schedule" id={m.schedule.id} className="slot">
                    {m.schedule.name || m.schedule.command}
                  </ObjectLink>
                  : {summary(m.phases)}
                </li>
              ))}
              {past.length > MOST_FIRINGS && (
                <li className="text-soft">and {count(past.length - MOST_FIRINGS)} before</li>
              )}
            </ul>
          </section>
        )}
      </div>
    </Modal>
  );
}

function Head({
  what,
  onMove,
  children,
}: {
  what: Movable;
  onMove: (what: Movable) => void;
  children: React.ReactNode;
}) {
  const isMovable = useMay("operate-all") && canMove(what);
  return (
    <div className="flex items-baseline justify-between gap-3">
      <h3 className="font-sans font-semibold">
        <ObjectLink kind={what.kind} id={what.of.id} className="hover:underline">
          {children}
        </ObjectLink>
      </h3>
      {isMovable && (
        <Button kind="quiet" onClick={() => onMove(what)} aria-label={`Move ${nameOf(what)}`}>
          Move…
        </Button>
      )}
    </div>
  );
}
