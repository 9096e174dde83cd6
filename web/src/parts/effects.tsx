/** Which groups a change makes gain or lose devices, and what uses them. */
import type { Schemas } from "@/api/client";
import { count } from "@/lib/format";

export function Effects({ groups }: { groups: Schemas["GroupEffectRow"][] }) {
  if (groups.length === 0) return <p className="text-soft">No group gains or loses a device.</p>;
  return (
    <ul className="space-y-1">
      {groups.map((g) => (
        <li key={g.id}>
          <strong>{g.name}</strong>
          {g.joins > 0 && ` gains ${count(g.joins)}`}
          {g.joins > 0 && g.leaves > 0 && ","}
          {g.leaves > 0 && ` loses ${count(g.leaves)}`}
          {g.uses.map((u) => (
            <span key={u.kind + u.id} className="block text-saffron-ink text-xs">
              {u.sentence} uses it
            </span>
          ))}
        </li>
      ))}
    </ul>
  );
}
