/** What the tables of the shelves share. */
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { Button, Confirm } from "@/parts/controls";

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
            <span className="sr-only">what to do</span>
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
