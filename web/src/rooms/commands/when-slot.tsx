/** When a command runs: now, once, or by a rule made with plain controls, which can be edited as text too. */
import { DateTime } from "luxon";
import { useState } from "react";
import { Button, Labelled } from "@/parts/controls";
import { TimeField } from "@/parts/time-fields";
import { ZoneField } from "@/parts/zone-field";
import { type Draft, withWhen } from "./draft";
import { DAY_NAMES, DAYS, type Day, EVERY_DAY, type Kind, NTH, type Plain, plainOf, ruleOf } from "./recurrence";

const MONTH_DAYS = Array.from({ length: 31 }, (_, i) => i + 1);
const UNITS: Record<Kind, [string, string]> = {
  hours: ["hour", "hours"],
  days: ["day", "days"],
  weeks: ["week", "weeks"],
  "month-day": ["month", "months"],
  "month-weekday": ["month", "months"],
  years: ["year", "years"],
};

export function WhenSlot({
  draft,
  onChange,
  today,
  mayRunNow,
}: {
  draft: Draft;
  onChange: (draft: Draft) => void;
  today: string;
  /** a schedule that is changed cannot run now */
  mayRunNow: boolean;
}) {
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-end gap-5">
        <Labelled label="Runs">
          <select
            className="field"
            value={draft.when}
            onChange={(e) => onChange(withWhen(draft, e.target.value as Draft["when"], today))}
          >
            {mayRunNow && <option value="now">now</option>}
            <option value="once">once, at a time</option>
            <option value="repeat">again and again</option>
          </select>
        </Labelled>
        {draft.when !== "now" && (
          <>
            <Labelled label={draft.when === "once" ? "On" : "From"}>
              <input
                type="date"
                className="field"
                value={draft.starts_on ?? today}
                onChange={(e) => onChange({ ...draft, starts_on: e.target.value || null })}
              />
            </Labelled>
            <Labelled label="At">
              <TimeField
                required
                value={draft.time_of_day ?? null}
                onChange={(time_of_day) => time_of_day && onChange({ ...draft, time_of_day })}
              />
            </Labelled>
            <Clock draft={draft} onChange={onChange} />
          </>
        )}
      </div>
      {draft.when === "repeat" && <Repeat draft={draft} onChange={onChange} />}
      {draft.excluded.length > 0 && <Excluded draft={draft} onChange={onChange} />}
    </div>
  );
}

function Clock({ draft, onChange }: { draft: Draft; onChange: (draft: Draft) => void }) {
  const named = draft.clock !== "device";
  return (
    <>
      <Labelled label="By">
        <select
          className="field"
          value={named ? "zone" : "device"}
          onChange={(e) =>
            onChange({ ...draft, clock: e.target.value === "device" ? "device" : DateTime.local().zoneName })
          }
        >
          <option value="device">each device’s own clock</option>
          <option value="zone">one clock for all</option>
        </select>
      </Labelled>
      {named && (
        <Labelled label="Time zone">
          <ZoneField value={draft.clock ?? ""} onChange={(clock) => onChange({ ...draft, clock })} />
        </Labelled>
      )}
    </>
  );
}

function Repeat({ draft, onChange }: { draft: Draft; onChange: (draft: Draft) => void }) {
  const rule = draft.rule ?? "";
  const plain = plainOf(rule);
  const [asText, setAsText] = useState(plain === null);
  const set = (change: Partial<Plain>) => onChange({ ...draft, rule: ruleOf({ ...(plain ?? EVERY_DAY), ...change }) });
  if (asText || !plain) {
    return (
      <div className="flex items-end gap-3">
        <Labelled
          label="Rule, as RFC 5545 has it"
          hint="FREQ, INTERVAL, BYMONTH, BYMONTHDAY, BYDAY, BYHOUR, BYMINUTE, BYSETPOS, COUNT or UNTIL (a local day or time)"
        >
          <input
            className="field w-[34rem] max-w-full font-mono"
            spellCheck={false}
            value={rule}
            onChange={(e) => onChange({ ...draft, rule: e.target.value })}
          />
        </Labelled>
        <Button
          kind="quiet"
          className="mb-5"
          onClick={() => {
            if (!plain) onChange({ ...draft, rule: "FREQ=DAILY" });
            setAsText(false);
          }}
        >
          {plain ? "Plain controls" : "Start anew with plain controls"}
        </Button>
      </div>
    );
  }
  const [one, many] = UNITS[plain.kind];
  return (
    <div className="space-y-3">
      <div className="flex flex-wrap items-end gap-x-5 gap-y-3">
        <Labelled label="Repeats">
          <select
            className="field"
            value={plain.kind}
            onChange={(e) => set({ ...EVERY_DAY, end: plain.end, ...startOf(e.target.value as Kind, draft) })}
          >
            <option value="hours">every few hours</option>
            <option value="days">every day, or every few</option>
            <option value="weeks">on days of the week</option>
            <option value="month-day">on a day of the month</option>
            <option value="month-weekday">on a weekday of the month</option>
            <option value="years">every year</option>
          </select>
        </Labelled>
        <Labelled label="Every">
          <span className="flex items-center gap-2">
            <input
              type="number"
              min={1}
              max={1000}
              className="field w-16"
              aria-label={`Every so many ${many}`}
              value={plain.every}
              onChange={(e) => set({ every: Math.max(1, Number(e.target.value)) })}
            />
            {plain.every === 1 ? one : many}
          </span>
        </Labelled>
        {plain.kind === "month-day" && (
          <Labelled label="On day">
            <select
              className="field"
              value={plain.monthDay}
              onChange={(e) => set({ monthDay: Number(e.target.value) })}
            >
              {MONTH_DAYS.map((day) => (
                <option key={day} value={day}>
                  {day}
                </option>
              ))}
              <option value={-1}>the last</option>
            </select>
          </Labelled>
        )}
        {plain.kind === "month-weekday" && (
          <>
            <Labelled label="On the">
              <select className="field" value={plain.nth} onChange={(e) => set({ nth: Number(e.target.value) })}>
                {NTH.map(([n, words]) => (
                  <option key={n} value={n}>
                    {words}
                  </option>
                ))}
              </select>
            </Labelled>
            <Labelled label="Weekday">
              <select
                className="field"
                value={plain.days[0] ?? "MO"}
                onChange={(e) => set({ days: [e.target.value as Day] })}
              >
                {DAYS.map((d) => (
                  <option key={d} value={d}>
                    {DAY_NAMES[d]}
                  </option>
                ))}
              </select>
            </Labelled>
          </>
        )}
        {plain.kind === "weeks" && <Weekdays plain={plain} onChange={(days) => set({ days })} />}
        <Ends plain={plain} onChange={(end) => set({ end })} />
      </div>
      <Button kind="quiet" className="px-0!" onClick={() => setAsText(true)}>
        Edit as text: <span className="font-mono font-normal">{rule}</span>
      </Button>
    </div>
  );
}

/** A kind begins with what the first day says. */
function startOf(kind: Kind, draft: Draft): Partial<Plain> {
  const day = draft.starts_on ? DateTime.fromISO(draft.starts_on) : DateTime.local();
  const weekday = DAYS[day.weekday - 1] ?? "MO";
  const every = kind === "hours" ? 6 : 1;
  return { kind, every, days: kind === "weeks" || kind === "month-weekday" ? [weekday] : [] };
}

function Weekdays({ plain, onChange }: { plain: Plain; onChange: (days: Day[]) => void }) {
  return (
    <fieldset>
      <legend className="mb-1 font-semibold text-soft">On</legend>
      <span className="flex gap-1">
        {DAYS.map((d) => (
          <label
            key={d}
            className="flex min-h-[30px] cursor-pointer items-center gap-1 rounded-sm border border-rule px-1.5 has-checked:border-ink has-checked:bg-wash"
          >
            <input
              type="checkbox"
              aria-label={DAY_NAMES[d]}
              className="accent-[var(--verdigris)]"
              checked={plain.days.includes(d)}
              onChange={(e) => {
                const days = e.target.checked ? [...plain.days, d] : plain.days.filter((x) => x !== d);
                if (days.length) onChange(days);
              }}
            />
            {DAY_NAMES[d].slice(0, 2)}
          </label>
        ))}
      </span>
    </fieldset>
  );
}

function Ends({ plain, onChange }: { plain: Plain; onChange: (end: Plain["end"]) => void }) {
  const end = plain.end;
  const inMonths = DateTime.local().plus({ months: 3 }).toFormat("yyyy-MM-dd");
  return (
    <>
      <Labelled label="Ends">
        <select
          className="field"
          value={end.kind}
          onChange={(e) =>
            onChange(
              e.target.value === "until"
                ? { kind: "until", day: inMonths }
                : e.target.value === "count"
                  ? { kind: "count", count: 10 }
                  : { kind: "never" },
            )
          }
        >
          <option value="never">never</option>
          <option value="until">after a day</option>
          <option value="count">after so many firings</option>
        </select>
      </Labelled>
      {end.kind === "until" && (
        <Labelled label="Last day">
          <input
            type="date"
            className="field"
            value={end.day}
            onChange={(e) => e.target.value && onChange({ kind: "until", day: e.target.value })}
          />
        </Labelled>
      )}
      {end.kind === "count" && (
        <Labelled label="Firings">
          <input
            type="number"
            min={1}
            className="field w-20"
            value={end.count}
            onChange={(e) => onChange({ kind: "count", count: Math.max(1, Number(e.target.value)) })}
          />
        </Labelled>
      )}
    </>
  );
}

function Excluded({ draft, onChange }: { draft: Draft; onChange: (draft: Draft) => void }) {
  return (
    <div>
      <p className="mb-1 font-semibold text-soft">Left out</p>
      <ul className="flex flex-wrap gap-1.5">
        {draft.excluded.map((time) => (
          <li key={time} className="flex items-center gap-1 rounded-sm border border-rule bg-side pl-2 tabular-nums">
            {DateTime.fromISO(time).toFormat("ccc d LLL HH:mm")}
            <button
              type="button"
              aria-label={`Take the firing of ${time} in again`}
              className="min-h-[26px] px-1.5 text-soft hover:text-brick"
              onClick={() => onChange({ ...draft, excluded: draft.excluded.filter((t) => t !== time) })}
            >
              ×
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}
