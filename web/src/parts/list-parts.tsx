/** What the pages that list things share: a search, a choice of one of a few, files, and going on where a list is cut. */
import clsx from "clsx";
import { type ReactNode, useEffect, useState } from "react";
import { count } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button } from "./controls";

export function SearchField({
  label,
  placeholder,
  value,
  onChange,
}: {
  label: string;
  placeholder: string;
  value: string;
  onChange: (words: string) => void;
}) {
  return (
    <input
      type="search"
      className="field w-72 max-w-full"
      aria-label={label}
      placeholder={placeholder}
      value={value}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}

/** Words as they are typed; once typing pauses, `onSettle` puts them where they are kept, as the address. */
export function useTypedWords(kept: string, onSettle: (words: string | undefined) => void) {
  const [typed, setTyped] = useState(kept);
  const settled = useDebounced(typed.trim(), 250);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what was typed is put there
  useEffect(() => {
    if (settled !== kept) onSettle(settled || undefined);
  }, [settled]);
  return [typed, setTyped] as const;
}

/** One of a few, pressed; undefined is all. */
export function Choice<T extends string>({
  label,
  options,
  chosen,
  onChoose,
}: {
  label: string;
  options: readonly (readonly [T | undefined, string])[];
  chosen: T | undefined;
  onChoose: (value: T | undefined) => void;
}) {
  return (
    <fieldset className="flex gap-1" aria-label={label}>
      {options.map(([value, word]) => (
        <button
          key={word}
          type="button"
          aria-pressed={chosen === value}
          className={clsx(
            "rounded-sm border px-2 py-1",
            chosen === value ? "border-ink font-semibold" : "border-transparent text-soft",
          )}
          onClick={() => onChoose(value)}
        >
          {word}
        </button>
      ))}
    </fieldset>
  );
}

const FILES = { csv: "CSV", xlsx: "XLSX", jsonl: "JSON" } as const;

/** A list as a file, of each type that there is. */
export function Exports({ address, className }: { address: (type: string) => string; className?: string }) {
  return (
    <span className={clsx("text-soft", className)}>
      Export:{" "}
      {Object.entries(FILES).map(([type, word]) => (
        <span key={type}>
          <a className="slot" href={address(type)} download>
            {word}
          </a>{" "}
        </span>
      ))}
    </span>
  );
}

interface Paged {
  hasNextPage: boolean;
  isFetchingNextPage: boolean;
  fetchNextPage: () => unknown;
}

/** How many of a list are shown, and more of them on demand; nothing where all are. */
export function More({ of, shown, all, what }: { of: Paged; shown: number; all: number; what: ReactNode }) {
  if (!of.hasNextPage) return null;
  return (
    <p className="flex items-center gap-3 px-4 py-2 text-soft">
      {count(shown)} of {count(all)} {what} shown.
      <Button disabled={of.isFetchingNextPage} onClick={() => of.fetchNextPage()}>
        {of.isFetchingNextPage ? "Loading…" : "Show more"}
      </Button>
    </p>
  );
}
