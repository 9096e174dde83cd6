/** Value counts at the side: what is among the devices shown, and a press narrows to it. */
import { useQuery } from "@tanstack/react-query";
import { type Among, valuesAmong } from "@/api/queries";
import { Bar } from "@/parts/controls";
import { count } from "@/parts/format";

const SHOWN = 7;

export function Values({ field, among, onPick }: { field: string; among: Among; onPick: (value: string) => void }) {
  const { data } = useQuery(valuesAmong(field, among));
  if (!data?.length) return null;
  const most = data[0]?.count || 1;
  return (
    <section className="mb-4">
      <h3 className="mb-1 font-sans font-semibold text-soft first-letter:uppercase">{field.replaceAll("_", " ")}</h3>
      <ul>
        {data.slice(0, SHOWN).map((v) => (
          <li key={v.value}>
            <button
              type="button"
              className="block w-full py-[3px] text-left hover:text-verdigris"
              onClick={() => onPick(v.value)}
              title={`Narrow to ${field} ${v.value}`}
            >
              <span className="flex justify-between gap-2">
                <span className="truncate">{v.value}</span>
                <span className="text-soft">{count(v.count)}</span>
              </span>
              <Bar thin share={v.count / most} label={`${v.count} devices`} />
            </button>
          </li>
        ))}
        {data.length > SHOWN && (
          <li className="text-soft text-xs">{data.length >= 30 ? "more" : `${data.length - SHOWN} more`}</li>
        )}
      </ul>
    </section>
  );
}
