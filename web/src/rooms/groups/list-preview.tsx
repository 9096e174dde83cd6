/** What following a list would do to its group: who joins and leaves, and which entries lead to no device. */
import type { Schemas } from "@/api/client";
import { count, counted, listed } from "@/lib/format";

/** “12 join, 1 leaves”, or that nothing changes. */
export function changeWords({ joins, leaves }: { joins: number; leaves: number }): string {
  const parts = [
    joins > 0 && `${count(joins)} ${joins === 1 ? "joins" : "join"}`,
    leaves > 0 && `${count(leaves)} ${leaves === 1 ? "leaves" : "leave"}`,
  ];
  return parts.filter(Boolean).join(", ") || "Nothing changes";
}

export function ListPreview({ told }: { told: Schemas["ListPreview"] }) {
  return (
    <section aria-label="What it would do" className="rounded-md border border-rule bg-side p-3">
      <p className="font-semibold">
        {changeWords(told)}
        <span className="font-normal text-soft">
          {" "}
          · {counted(told.entries, "entry", "entries")}, {counted(told.found, "device")}; the group has{" "}
          {count(told.members)} now
        </span>
      </p>
      <Named words="Join" names={told.joining} of={told.joins} />
      <Named words="Leave" names={told.leaving} of={told.leaves} />
      {told.most_leave && (
        <p className="mt-1 font-semibold text-brick">
          <span aria-hidden>▪ </span>
          {told.leaves === told.members
            ? "All devices of the group leave."
            : `${count(told.leaves)} of the ${count(told.members)} devices of the group leave.`}{" "}
          Is the list whole?
        </p>
      )}
      <LeftOut count={told.left_out_count} of={told.left_out} />
    </section>
  );
}

const SHOWN = 12;

function Named({ words, names, of }: { words: string; names: string[]; of: number }) {
  if (of === 0) return null;
  const shown = names.slice(0, SHOWN);
  const more = of > shown.length ? [`${count(of - shown.length)} more`] : [];
  return (
    <p>
      <span className="text-soft">{words}: </span>
      {listed([...shown, ...more])}
    </p>
  );
}

/** Entries that lead to no device, each with why. */
export function LeftOut({ count: n, of }: { count: number; of: { entry: string; why: string }[] }) {
  if (n === 0) return null;
  return (
    <details className="mt-1">
      <summary className="cursor-pointer">
        <span aria-hidden className="text-saffron-ink">
          ◆{" "}
        </span>
        {counted(n, "entry leads", "entries lead")} to no device
      </summary>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard */}
      <ul className="mt-1 max-h-40 overflow-auto" tabIndex={0} aria-label="Entries that lead to no device">
        {of.map(({ entry, why }, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: an entry can stand there twice, for two reasons
          <li key={i} className="break-words">
            <code className="font-mono text-xs">{entry}</code> <span className="text-soft">{why}</span>
          </li>
        ))}
      </ul>
      {n > of.length && <p className="text-soft">The first {count(of.length)}.</p>}
    </details>
  );
}
