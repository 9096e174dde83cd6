/** A long list: only the rows in sight are drawn; j/k or arrows move, Enter opens. */
import { useVirtualizer } from "@tanstack/react-virtual";
import clsx from "clsx";
import { type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from "react";

export interface Column<Row> {
  key: string;
  head: ReactNode;
  width: string;
  cell: (row: Row) => ReactNode;
  /** what the server orders by, where the column can be ordered by */
  order?: string;
}

/** Rows that are ticked, by id, and how to tick or untick one. */
export interface Selection<Row> {
  chosen: { has: (id: number) => boolean };
  toggle: (row: Row) => void;
  /** what a row's box is called */
  nameOf: (row: Row) => string;
}

export interface Ordering {
  order: string;
  change: (order: string) => void;
}

const ROW_PX = 32;

export function Table<Row extends { id: number }>({
  label,
  rows,
  columns,
  onOpen,
  onEnd,
  chosen,
  selection,
  ordering,
  empty,
}: {
  label: string;
  rows: Row[];
  columns: Column<Row>[];
  onOpen?: (row: Row) => void;
  onEnd?: () => void;
  chosen?: number;
  selection?: Selection<Row>;
  ordering?: Ordering;
  empty?: ReactNode;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(0);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW_PX,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (onEnd && rows.length > 0 && last >= rows.length - 20) onEnd();
  }, [last, rows.length, onEnd]);

  const template = [...(selection ? ["18px"] : []), ...columns.map((c) => c.width)].join(" ");
  const move = (event: KeyboardEvent) => {
    const step = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1 }[event.key];
    if (step !== undefined) {
      event.preventDefault();
      const next = Math.max(0, Math.min(rows.length - 1, at + step));
      setAt(next);
      virtual.scrollToIndex(next);
    }
    const row = rows[at];
    if (event.key === "Enter" && row && onOpen) onOpen(row);
    if (event.key === "x" && row && selection) selection.toggle(row);
  };
  return (
    <div className="flex h-full min-h-0 flex-col overflow-hidden rounded-md border border-rule bg-card">
      <div
        ref={scroller}
        role="grid"
        aria-label={label}
        aria-rowcount={rows.length + 1}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: the grid itself takes the keys
        tabIndex={0}
        className="group/grid min-h-0 flex-1 overflow-auto"
        onKeyDown={move}
      >
        <div
          role="row"
          aria-rowindex={1}
          className="sticky top-0 z-10 grid min-w-full items-center gap-3 border-rule border-b bg-card px-3 text-soft"
          style={{ gridTemplateColumns: template, height: ROW_PX, width: "fit-content" }}
        >
          {selection && (
            <div role="columnheader">
              <span className="sr-only">selected</span>
            </div>
          )}
          {columns.map((c) => (
            <Head key={c.key} column={c} ordering={ordering} />
          ))}
        </div>
        <div role="presentation" className="relative" style={{ height: virtual.getTotalSize() }}>
          {items.map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            return (
              // biome-ignore lint/a11y/useKeyWithClickEvents: the grid handles the keys of its rows
              <div
                key={row.id}
                role="row"
                aria-rowindex={item.index + 2}
                aria-selected={chosen === row.id}
                tabIndex={-1}
                onClick={() => {
                  setAt(item.index);
                  onOpen?.(row);
                }}
                className={clsx(
                  "absolute top-0 left-0 grid min-w-full items-center gap-3 border-rule border-b px-3",
                  onOpen && "cursor-pointer hover:bg-side",
                  chosen === row.id && "bg-side",
                  selection?.chosen.has(row.id) && "bg-wash",
                  // where the keys are, shown while they go to the grid
                  at === item.index && "group-focus-visible/grid:shadow-[inset_3px_0_0_var(--ink)]",
                )}
                style={{ gridTemplateColumns: template, height: ROW_PX, transform: `translateY(${item.start}px)` }}
              >
                {selection && (
                  <div role="gridcell">
                    <input
                      type="checkbox"
                      tabIndex={-1}
                      aria-label={`Select ${selection.nameOf(row)}`}
                      className="block accent-[var(--verdigris)]"
                      checked={selection.chosen.has(row.id)}
                      onClick={(e) => e.stopPropagation()}
                      onChange={() => selection.toggle(row)}
                    />
                  </div>
                )}
                {columns.map((c) => (
                  <div key={c.key} role="gridcell" className="truncate">
                    {c.cell(row)}
                  </div>
                ))}
              </div>
            );
          })}
        </div>
        {rows.length === 0 && <div className="p-4 text-soft">{empty}</div>}
      </div>
    </div>
  );
}

function Head<Row>({ column, ordering }: { column: Column<Row>; ordering?: Ordering }) {
  const by = column.order;
  const state = by && ordering ? { [by]: "ascending", [`-${by}`]: "descending" }[ordering.order] : undefined;
  return (
    <div role="columnheader" aria-sort={state as "ascending" | "descending" | undefined} className="truncate">
      {by && ordering ? (
        <button
          type="button"
          className="hover:text-ink"
          onClick={() => ordering.change(ordering.order === by ? `-${by}` : by)}
        >
          {column.head}
          <span aria-hidden>{state === "ascending" ? " ↑" : state === "descending" ? " ↓" : ""}</span>
        </button>
      ) : (
        column.head
      )}
    </div>
  );
}
