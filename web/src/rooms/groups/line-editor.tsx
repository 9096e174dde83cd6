/** One line of a rule by pressing: field, operator, values that exist in the fleet. */
import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { fields as fieldsQuery, values as valuesQuery } from "@/api/queries";
import { arity, type ClauseParts, clauseText, spoken, written } from "@/parts/clauses";
import { Button } from "@/parts/controls";

export function LineEditor({
  start,
  negated,
  onDone,
  onCancel,
}: {
  start: ClauseParts | null;
  negated: boolean;
  onDone: (text: string) => void;
  onCancel: () => void;
}) {
  const { data: fields } = useQuery(fieldsQuery);
  const [field, setField] = useState(start?.field ?? "model");
  const [op, setOp] = useState(start?.op ?? "=");
  const [not, setNot] = useState(negated);
  const [words, setWords] = useState((start?.values ?? []).map(spoken));
  const spec = fields?.find((f) => f.key === field);
  const kind = arity(op);
  const text = clauseText({ field, op, values: words.map((w) => inRule(w, spec?.type)) }, not);
  const changeField = (key: string) => {
    const operators = fields?.find((f) => f.key === key)?.operators ?? [];
    setField(key);
    setWords([]);
    if (!operators.includes(op)) setOp(operators[0] ?? "=");
  };
  return (
    <form
      className="flex flex-wrap items-center gap-2 bg-side px-3 py-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (text) onDone(text);
      }}
    >
      <label className="flex items-center gap-1.5 text-soft">
        <input type="checkbox" checked={not} onChange={(e) => setNot(e.target.checked)} /> not
      </label>
      <select className="field" aria-label="Field" value={field} onChange={(e) => changeField(e.target.value)}>
        {fields?.map((f) => (
          <option key={f.key} value={f.key}>
            {f.key}
          </option>
        ))}
      </select>
      <select className="field" aria-label="Operator" value={op} onChange={(e) => setOp(e.target.value)}>
        {spec?.operators.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
      {kind === "one" && <Word field={field} label="Value" value={words[0] ?? ""} onChange={(w) => setWords([w])} />}
      {kind === "two" && (
        <>
          <Word field={field} label="From" value={words[0] ?? ""} onChange={(w) => setWords([w, words[1] ?? ""])} />
          and
          <Word field={field} label="To" value={words[1] ?? ""} onChange={(w) => setWords([words[0] ?? "", w])} />
        </>
      )}
      {kind === "many" && <Many field={field} words={words} onChange={setWords} />}
      <Button kind="main" type="submit" disabled={!text}>
        Use
      </Button>
      <Button kind="quiet" onClick={onCancel}>
        Cancel
      </Button>
    </form>
  );
}

/** Numbers, dates and durations are written as they are; words get quotes where they need them. */
function inRule(word: string, type?: string): string {
  return type === "text" || type === "set" || type === "choice" || type === "group" ? written(word) : word.trim();
}

function Word({
  field,
  label,
  value,
  onChange,
}: {
  field: string;
  label: string;
  value: string;
  onChange: (word: string) => void;
}) {
  const id = useId();
  const { data } = useQuery(valuesQuery(field));
  return (
    <>
      <input
        className="field w-40 font-mono"
        aria-label={label}
        list={id}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
      <datalist id={id}>
        {data?.map((v) => (
          <option key={v.value} value={v.value}>{`${v.count} devices`}</option>
        ))}
      </datalist>
    </>
  );
}

function Many({ field, words, onChange }: { field: string; words: string[]; onChange: (words: string[]) => void }) {
  const { data } = useQuery(valuesQuery(field));
  const offered = [...new Set([...words.filter(Boolean), ...(data ?? []).map((v) => v.value)])];
  const counts = new Map(data?.map((v) => [v.value, v.count]));
  return (
    <fieldset className="flex max-h-32 w-full flex-wrap gap-x-4 overflow-auto" aria-label="Values">
      {offered.map((v) => (
        <label key={v} className="flex min-h-[26px] items-center gap-1.5">
          <input
            type="checkbox"
            checked={words.includes(v)}
            onChange={(e) => onChange(e.target.checked ? [...words.filter(Boolean), v] : words.filter((w) => w !== v))}
          />
          <span className="font-mono text-xs">{v}</span>
          <span className="text-soft text-xs">{counts.get(v) ?? 0}</span>
        </label>
      ))}
    </fieldset>
  );
}
