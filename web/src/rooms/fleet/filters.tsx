/** Value counts at the side: what is among the devices shown; a press narrows to it, another takes that back. */
import { useQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { useState } from "react";
import { type Among, valuesAmong } from "@/api/queries";
import { count } from "@/lib/format";
import { Bar } from "@/parts/controls";
import { Loaded } from "@/parts/views";

const SHOWN = 7;

export function Values({
  field,
  among,
  isChosen,
  onPick,
}: {
  field: string;
  among: Among;
  isChosen: (value: string) => boolean;
  onPick: (value: string) => void;
}) {
  const [all, setAll] = useState(false);
  const found = useQuery(valuesAmong(field, among));
  const title = field.replaceAll("_", " ");
  return (
    <section className="mb-4" aria-label={`Filter by ${title}`}>
      <h3 className="mb-1 font-sans font-semibold text-soft first-letter:uppercase">{title}</h3>
      <Loaded of={found} what={`The values of ${title}`} rows={4} empty={<p className="text-soft">no values</p>}>
        {(data) => (
          <ul>
            {(all ? data : data.slice(0, SHOWN)).map((v) => {
              const chosen = isChosen(v.value);
              return (
                <li key={v.value}>
                  <button
                    type="button"
                    aria-pressed={chosen}
                    className={clsx(
                      "block w-full rounded-sm px-1 py-[3px] text-left hover:text-verdigris",
                      chosen && "bg-wash font-semibold",
                    )}
                    onClick={() => onPick(v.value)}
                    title={chosen ? `Remove the filter ${title} ${v.value}` : `Only ${title} ${v.value}`}
                  >
                    <span className="flex justify-between gap-2">
                      <span className="truncate">{v.value}</span>
                      <span className="text-soft">{chosen ? <span aria-hidden>×</span> : count(v.count)}</span>
                    </span>
                    <Bar thin share={v.count / (data[0]?.count || 1)} label={`${v.count} devices`} />
                  </button>
                </li>
              );
            })}
            {data.length > SHOWN && (
              <li>
                <button type="button" className="px-1 text-verdigris hover:underline" onClick={() => setAll(!all)}>
                  {all ? "fewer" : `${data.length - SHOWN}${data.length >= 30 ? " or more" : ""} more`}
                </button>
              </li>
            )}
          </ul>
        )}
      </Loaded>
    </section>
  );
}
