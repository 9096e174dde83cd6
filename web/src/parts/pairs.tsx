/** Words and their values, one pair a line. */
import type { ReactNode } from "react";

export function Pairs({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl>
      {rows.map(([key, value]) => (
        <div key={key} className="flex min-h-[27px] items-baseline justify-between gap-4">
          <dt className="shrink-0 text-soft">{key}</dt>
          <dd className="min-w-0 text-right">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
