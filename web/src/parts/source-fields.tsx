/** Fields of what is read from an address again and again: the header that it is asked with, and how often. */
import { everyWords } from "@/lib/format";
import { Labelled } from "./controls";

/** A secret is never shown again: what is typed here takes the place of the one there is. */
export function AuthorizationField({
  value,
  isKept,
  onChange,
}: {
  value: string | null | undefined;
  isKept: boolean;
  onChange: (to: string | undefined) => void;
}) {
  return (
    <Labelled label="Authorization" hint="A header, as “Bearer …”; sent to this host only.">
      <input
        className="field"
        type="password"
        autoComplete="off"
        maxLength={500}
        placeholder={isKept ? "as it is" : "none"}
        value={value ?? ""}
        onChange={(e) => onChange(e.target.value || undefined)}
      />
    </Labelled>
  );
}

/** How often it is read; one that was set otherwise by a script can stay as it is. */
export function EveryField({
  choices,
  minutes,
  onChange,
}: {
  choices: readonly number[];
  minutes: number;
  onChange: (to: number) => void;
}) {
  return (
    <Labelled label="Read">
      <select className="field" value={minutes} onChange={(e) => onChange(Number(e.target.value))}>
        {(choices.includes(minutes) ? choices : [...choices, minutes]).map((n) => (
          <option key={n} value={n}>
            {everyWords(n * 60)}
          </option>
        ))}
      </select>
    </Labelled>
  );
}
