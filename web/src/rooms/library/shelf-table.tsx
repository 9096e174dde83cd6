/** What the tables of the shelves share. */
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { Button, Confirm } from "@/parts/controls";
import { type Answer, Loaded } from "@/parts/views";

/** A shelf's answer as a table, a row for each; in whichever of its four states it is. */
export function Shelf<Row>({
  of,
  what,
  heads,
  empty,
  children,
}: {
  of: Answer<Row[]>;
  what: string;
  heads: string[];
  empty: ReactNode;
  children: (row: Row) => ReactNode;
}) {
  return (
    <Loaded of={of} what={what} rows={6} empty={empty}>
      {(rows) => <ShelfTable heads={heads}>{rows.map(children)}</ShelfTable>}
    </Loaded>
  );
}

export function ShelfTable({ heads, children }: { heads: string[]; children: ReactNode }) {
  return (
    <table className="w-full rounded-md border border-rule bg-card">
      <thead className="text-soft">
        <tr>
          {heads.map((h) => (
            <th key={h} className="whitespace-nowrap px-3 py-1.5 text-left font-normal">
              {h}
            </th>
          ))}
          <th>
            <span className="sr-only">actions</span>
          </th>
        </tr>
      </thead>
      <tbody>{children}</tbody>
    </table>
  );
}

export function GroupLinks({ groups }: { groups: Schemas["NamedThing"][] }) {
  return (
    <>
      {groups.map((g, i) => (
        <span key={g.id}>
          {i > 0 && ", "}
          <Link to="/groups/$id" params={{ id: String(g.id) }} search={{}} className="slot">
            {g.name}
          </Link>
        </span>
      ))}
    </>
  );
}

/** A quiet red word that says its consequence before it does anything. */
export function Removal({
  word,
  title,
  action,
  disabled,
  onConfirm,
  children,
}: {
  word: string;
  disabled?: boolean;
  title: string;
  action: string;
  onConfirm: () => void;
  children: ReactNode;
}) {
  return (
    <Confirm
      needs="operate-all"
      trigger={
        <Button kind="quiet" className="text-brick!" disabled={disabled}>
          {word}
        </Button>
      }
      title={title}
      action={action}
      danger
      onConfirm={onConfirm}
    >
      {children}
    </Confirm>
  );
}
