/** What else wants the same devices, and what will happen, for rollouts and commands alike. */
import type { Schemas } from "@/api/client";
import { counted } from "@/lib/format";

export function Conflicts({ rows }: { rows: Schemas["ConflictRow"][] }) {
  return (
    <ul>
      {rows.map((c) => (
        <li key={`${c.kind}${c.id}`} className="border-rule border-b border-dashed py-1 last:border-0">
          {c.name} <strong>{counted(c.devices, "device")}</strong>
          <span className="block text-soft text-xs">{c.what}</span>
        </li>
      ))}
    </ul>
  );
}
