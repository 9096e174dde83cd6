/** What the devices of an attention item share, and the other devices do not. */
import { Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { instant } from "@/lib/format";

type Item = Schemas["AttentionItem"];

/** The conditions found, each of which leads to the devices that hold it. Nothing where none was found. */
export function SharedCauses({ item }: { item: Item }) {
  const { now, zone } = useClock();
  if (!item.shared.length || !item.shared_at) return null;
  return (
    <div className="mt-1">
      <p className="text-soft">What they share, as of {instant(item.shared_at, zone, now)}:</p>
      <ul>
        {item.shared.map((cause) => (
          <li key={cause.rule}>
            <Link
              to="/fleet"
              search={{ rule: `${item.rule} and ${cause.rule}` }}
              className="font-mono text-[0.95em] underline decoration-rule underline-offset-2 hover:decoration-current"
            >
              {cause.rule}
            </Link>{" "}
            <span className="text-soft">{cause.words}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}
