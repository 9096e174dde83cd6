/** Fields for times of day and moments, always by 24 hours; what the browser's own would show depends on its language. */
import { DateTime } from "luxon";
import { useEffect, useId, useState } from "react";
import { timeOfDay } from "@/lib/time-text";

const DAY = "yyyy-MM-dd";

/** A time of day, "HH:MM"; what cannot be read stays as typed, with words, and changes nothing. */
export function TimeField({
  value,
  onChange,
  label,
  required = false,
}: {
  value: string | null;
  onChange: (time: string | null) => void;
  /** its name for readers of the screen, where no label stands around it */
  label?: string;
  required?: boolean;
}) {
  const known = value?.slice(0, 5) ?? "";
  const [text, setText] = useState(known);
  useEffect(() => setText(known), [known]);
  const problem = useId();
  const wrong = text === "" ? required : timeOfDay(text) === null;
  const take = (typed: string) => {
    setText(typed);
    const time = timeOfDay(typed);
    // "6" is the begin of "6:30" while it is typed, so only what is whole is taken before the field is left
    if (time === typed && time !== known) onChange(time);
    if (typed === "" && !required) onChange(null);
  };
  const leave = () => {
    const time = timeOfDay(text);
    if (time === null) return;
    setText(time);
    if (time !== known) onChange(time);
  };
  return (
    <span className="inline-flex flex-col">
      <input
        className="field w-[5.5rem] tabular-nums"
        placeholder="HH:MM"
        autoComplete="off"
        aria-label={label}
        aria-invalid={wrong || undefined}
        aria-describedby={wrong ? problem : undefined}
        required={required}
        value={text}
        onChange={(e) => take(e.target.value)}
        onBlur={leave}
      />
      {wrong && (
        <span id={problem} className="text-brick text-xs">
          {text === "" ? "A time is needed." : "A time like 06:30."}
        </span>
      )}
    </span>
  );
}

/** A moment by the clock of a zone: a date, and a time of day. Without a date there is none. */
export function MomentField({
  label,
  value,
  onChange,
  zone,
  min,
  max,
  inline = false,
}: {
  label: string;
  value: string | null | undefined;
  onChange: (iso: string | null) => void;
  zone: string;
  min?: DateTime;
  max?: DateTime;
  /** its label beside it, in a line of filters */
  inline?: boolean;
}) {
  const at = value ? DateTime.fromISO(value, { zone }) : null;
  const set = (day: string, time: string) => onChange(DateTime.fromISO(`${day}T${time}`, { zone }).toUTC().toISO());
  return (
    <fieldset className={`flex gap-1 ${inline ? "items-baseline" : "flex-col"}`}>
      <legend className={inline ? "float-left mr-0.5 text-soft" : "mb-1 font-semibold text-soft"}>{label}</legend>
      <span className="flex items-start gap-1.5">
        <input
          type="date"
          className="field"
          aria-label={`${label}, date`}
          min={min?.toFormat(DAY)}
          max={max?.toFormat(DAY)}
          value={at?.toFormat(DAY) ?? ""}
          onChange={(e) => (e.target.value ? set(e.target.value, at?.toFormat("HH:mm") ?? "00:00") : onChange(null))}
        />
        {at && (
          <TimeField
            label={`${label}, time`}
            required
            value={at.toFormat("HH:mm")}
            onChange={(time) => time && set(at.toFormat(DAY), time)}
          />
        )}
      </span>
    </fieldset>
  );
}
