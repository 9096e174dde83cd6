/** What happens by itself, soonest first: firings, windows, rings, freezes, each told apart by its shape and its words. */
import { Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { ObjectLink } from "./object-link";

type Kind = Schemas["ComingView"]["kind"];
const OBJECT: Record<Kind, string> = {
  firing: "schedule",
  window: "rollout",
  ring: "rollout",
  freeze: "freeze",
  thaw: "freeze",
};
const MARK: Record<Kind, [string, string]> = {
  firing: ["●", "text-ink"],
  window: ["▭", "text-verdigris"],
  ring: ["◎", "text-verdigris"],
  freeze: ["▨", "text-plum"],
  thaw: ["▢", "text-plum"],
};

export function ComingList({
  items,
  most,
  empty,
  isOfOne = false,
}: {
  items: Schemas["ComingView"][];
  most: number;
  empty: string;
  /** of a single device there is nothing to count */
  isOfOne?: boolean;
}) {
  const { now, zone } = useClock();
  return (
    <ul className="mt-2 space-y-1" aria-label="What comes">
      {items.slice(0, most).map((c) => (
        <li key={`${c.at}${c.kind}${c.id}${c.zone}`} title={c.detail}>
          <ObjectLink
            kind={OBJECT[c.kind]}
            id={c.id}
            className="grid grid-cols-[5.4rem_0.8rem_1fr] items-baseline gap-x-1.5 hover:underline"
          >
            <span className="font-mono text-soft">{instant(c.at, zone, now)}</span>
            <span aria-hidden className={`text-[0.7rem] ${MARK[c.kind][1]}`}>
              {MARK[c.kind][0]}
            </span>
            <span>
              {c.text} {!isOfOne && <span className="text-soft">{count(c.devices)}</span>}
            </span>
          </ObjectLink>
        </li>
      ))}
      {items.length > most && (
        <li>
          <Link to="/calendar" search={{ span: "day" }} className="slot">
            {counted(items.length - most, "more thing")} in the calendar
          </Link>
        </li>
      )}
      {items.length === 0 && <li className="text-soft">{empty}</li>}
    </ul>
  );
}

/** The same in two parts: within a day, and within a week. */
export function ComingWeek({
  items,
  most,
  isOfOne,
}: {
  items: Schemas["ComingView"][];
  most: number;
  isOfOne?: boolean;
}) {
  const { now } = useClock();
  const day = now.getTime() + 24 * 3600_000;
  const soon = items.filter((c) => Date.parse(c.at) < day);
  const later = items.filter((c) => Date.parse(c.at) >= day);
  if (items.length === 0) return <p className="text-soft">Nothing comes by itself within a week.</p>;
  return (
    <>
      <h3 className="font-sans font-semibold text-soft">Within 24 hours</h3>
      <ComingList items={soon} most={most} empty="Nothing." isOfOne={isOfOne} />
      <h3 className="mt-3 font-sans font-semibold text-soft">Within a week</h3>
      <ComingList items={later} most={most} empty="Nothing more." isOfOne={isOfOne} />
    </>
  );
}
