/** When could it be done? Hours that are through by a moment, found by the server; one press takes them over. */
import { useMutation } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { Button, Labelled, Problem } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { MomentField } from "@/parts/time-fields";
import { Skeleton } from "@/parts/views";

type Plan = Schemas["HoursProposal"];
export interface Hours {
  window_start: string | null;
  window_end: string | null;
  spread_minutes: number;
  /** it goes before the other open rollouts that want its devices */
  goes_first: boolean;
}
const CHOICE: Record<string, string> = { gentlest: "The gentlest", between: "Between", soonest: "The soonest" };
/** The hours of the devices' clock that may be used: from which hour on, and how many. */
const ALLOWED = [
  { words: "the night, 22:00 to 06:00", from_hour: 22, hours: 8 },
  { words: "evening and night, 18:00 to 08:00", from_hour: 18, hours: 14 },
  { words: "any hour", from_hour: 0, hours: 24 },
];

export function SuggestHours({ rollout, onTake }: { rollout: number; onTake: (hours: Hours) => void }) {
  const { now, zone } = useClock();
  const [isOpen, setOpen] = useState(false);
  const [by, setBy] = useState<string | null>(
    DateTime.fromJSDate(now, { zone }).plus({ days: 7 }).startOf("day").set({ hour: 8 }).toUTC().toISO(),
  );
  const [allowed, setAllowed] = useState(0);
  const ask = useMutation({
    mutationFn: () => {
      const { from_hour, hours } = ALLOWED[allowed] ?? { from_hour: 22, hours: 8 };
      return body(
        api.POST("/api/v1/rollouts/{rollout_id}/suggest-hours", {
          params: { path: { rollout_id: rollout } },
          body: { by: by ?? "", from_hour, hours },
        }),
      );
    },
  });
  if (!isOpen)
    return (
      <Button kind="quiet" onClick={() => setOpen(true)}>
        Suggest hours…
      </Button>
    );
  return (
    <section aria-label="Suggested hours" className="w-full space-y-3 rounded-md border border-rule bg-side p-3">
      <div className="flex flex-wrap items-end gap-4">
        <MomentField
          label="Through by (your clock)"
          value={by}
          zone={zone}
          min={DateTime.fromJSDate(now, { zone })}
          onChange={(at) => {
            ask.reset();
            setBy(at);
          }}
        />
        <Labelled label="Hours that may be used">
          <select
            className="field"
            value={allowed}
            onChange={(e) => {
              ask.reset();
              setAllowed(Number(e.target.value));
            }}
          >
            {ALLOWED.map((a, i) => (
              <option key={a.words} value={i}>
                {a.words}
              </option>
            ))}
          </select>
        </Labelled>
        <Button disabled={by === null || ask.isPending} onClick={() => ask.mutate()}>
          {ask.isPending ? "Searching…" : "Find hours"}
        </Button>
      </div>
      <div aria-live="polite">
        {ask.isPending && <Skeleton rows={3} />}
        <Problem error={ask.error} />
        {ask.data && <Found told={ask.data} onTake={onTake} />}
      </div>
    </section>
  );
}

function Found({ told, onTake }: { told: Schemas["HoursSuggestionView"]; onTake: (hours: Hours) => void }) {
  const { now, zone } = useClock();
  const at = (moment: string | null) => (moment ? instant(moment, zone, now) : "not in sight");
  return (
    <>
      {told.proposals.length === 0 ? (
        <p>
          No choice of these hours has {counted(told.devices, "device")} through by then
          {told.nearest && `; the soonest, ${words(told.nearest)}, would end ${at(told.nearest.end.median)}`}.
        </p>
      ) : (
        <ul className="space-y-1.5">
          {told.proposals.map((p) => (
            <li key={p.choice} className="flex items-baseline justify-between gap-4">
              <span>
                <strong>{CHOICE[p.choice]}:</strong> {words(p)}. Expected through {at(p.end.median)}, at the latest{" "}
                {at(p.end.high)}.
              </span>
              <Button onClick={() => onTake(p)} aria-label={`Use ${words(p)}`}>
                Use
              </Button>
            </li>
          ))}
        </ul>
      )}
      {told.others.length > 0 && (
        <p className="text-soft">
          Going first with some of its devices:{" "}
          {told.others.map((r, i) => (
            <span key={r.id}>
              {i > 0 && ", "}
              <ObjectLink kind="rollout" id={r.id} className="slot">
                {r.name}
              </ObjectLink>{" "}
              ({count(r.devices)})
            </span>
          ))}
          . The forecasts take that into account.
        </p>
      )}
      {told.gentler && (
        <p className="text-soft">
          Gentler, {words(told.gentler)}, may not be through before {at(told.gentler.end.high)}.
        </p>
      )}
      <p className="text-soft">
        {counted(told.tried, "choice")} tried for {count(told.devices)} devices, with its caps, gates and freezes as
        they are
        {told.kept_clear.length > 0 && (
          <>
            , clear of{" "}
            {told.kept_clear.map((s, i) => (
              <span key={s.id}>
                {i > 0 && ", "}
                <ObjectLink kind="schedule" id={s.id} className="slot">
                  {s.name}
                </ObjectLink>
              </span>
            ))}
          </>
        )}
        .
      </p>
    </>
  );
}

/** A plan in words: “22:00 to 04:00, starts spread over 60 min, before the other rollouts”. */
function words(plan: Plan): string {
  const hours = plan.window_start
    ? `${plan.window_start.slice(0, 5)} to ${plan.window_end?.slice(0, 5)}`
    : "at any hour";
  const spread = plan.spread_minutes ? `starts spread over ${plan.spread_minutes} min` : "without a spread";
  return `${hours}, ${spread}${plan.goes_first ? ", before the other rollouts" : ""}`;
}
