/** What a change sets off, as every room shows it: what runs with its devices, and the groups it comes through. */
import type { Consequences } from "@/api/agreement";
import { count, counted } from "@/lib/format";

/** What becomes of devices that come under something, by its kind. */
const JOINS: Record<string, string> = {
  rollout: "would get its install, as soon as their ring, window and caps allow",
  schedule: "would carry it out at each firing",
  freeze: "would be held by it",
};
const LEAVES: Record<string, string> = {
  rollout: "would be withdrawn from it, unless they have begun",
  schedule: "would no longer carry it out",
  freeze: "would no longer be held by it",
};

/** Each thing that runs with its devices, then the groups through which that comes. */
export function ConsequenceList({ consequences }: { consequences: Consequences }) {
  return (
    <>
      <ul className="space-y-2">
        {consequences.uses.map((u) => (
          <li key={u.kind + u.id}>
            <strong>{u.sentence}</strong>
            {u.joins > 0 && (
              <span className="block">
                {counted(u.joins, "device")} {JOINS[u.kind] ?? "would join"}.
              </span>
            )}
            {u.leaves > 0 && (
              <span className="block">
                {counted(u.leaves, "device")} {LEAVES[u.kind] ?? "would leave"}.
              </span>
            )}
          </li>
        ))}
      </ul>
      <p className="mt-3 text-soft">
        By way of{" "}
        {consequences.groups
          .map((g) => {
            const parts = [g.joins && `${count(g.joins)} join`, g.leaves && `${count(g.leaves)} leave`];
            return `“${g.name}” (${parts.filter(Boolean).join(", ")})`;
          })
          .join(" and ")}
        .
      </p>
    </>
  );
}
