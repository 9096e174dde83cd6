/** A time zone, found by typing part of its name; what is no zone stays as typed, with words, and changes nothing. */
import { IANAZone } from "luxon";
import { useEffect, useId, useState } from "react";

const ZONES = Intl.supportedValuesOf("timeZone");

export function ZoneField({ value, onChange }: { value: string; onChange: (zone: string) => void }) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  const list = useId();
  const problem = useId();
  const wrong = !IANAZone.isValidZone(text);
  return (
    <span className="inline-flex flex-col">
      <input
        className="field w-56"
        list={list}
        autoComplete="off"
        aria-invalid={wrong || undefined}
        aria-describedby={wrong ? problem : undefined}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          if (IANAZone.isValidZone(e.target.value)) onChange(e.target.value);
        }}
      />
      <datalist id={list}>
        {ZONES.map((zone) => (
          <option key={zone} value={zone} />
        ))}
      </datalist>
      {wrong && (
        <span id={problem} className="text-brick text-xs">
          A time zone like Europe/Lisbon.
        </span>
      )}
    </span>
  );
}
