/** What can be done with the list itself: further columns, and its address as a file. */
import { useQuery } from "@tanstack/react-query";
import { fields as fieldsQuery } from "@/api/queries";

/** The columns that the list always shows. */
const SHOWN_COLUMNS = ["name", "model", "firmware", "site", "tag", "last_check_in"];

export function Columns({ chosen, onChange }: { chosen: string[]; onChange: (columns: string[]) => void }) {
  const { data } = useQuery(fieldsQuery);
  const further = data?.filter((f) => !SHOWN_COLUMNS.includes(f.key)) ?? [];
  return (
    <details className="relative">
      <summary className="cursor-pointer list-none px-1 font-semibold text-verdigris hover:underline">Columns</summary>
      <fieldset className="absolute right-0 z-20 mt-1 grid max-h-80 w-64 gap-y-1 overflow-auto rounded-md border border-rule bg-card p-3 shadow-lg">
        <legend className="sr-only">Further columns</legend>
        {further.map((f) => (
          <label key={f.key} className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={chosen.includes(f.key)}
              onChange={(e) => onChange(e.target.checked ? [...chosen, f.key] : chosen.filter((c) => c !== f.key))}
            />
            {f.label}
          </label>
        ))}
      </fieldset>
    </details>
  );
}

/** The address of the list as a file. */
export function exportAddress(
  among: { rule?: string; q?: string },
  order: string,
  columns: string[],
  format: string,
): string {
  const asked = new URLSearchParams({ order, format, columns: [...SHOWN_COLUMNS, ...columns].join(",") });
  if (among.rule) asked.set("rule", among.rule);
  if (among.q) asked.set("q", among.q);
  return `/api/v1/devices/export?${asked}`;
}
