/** How much of the fleet is where it should be, and when the rest will be, in a sentence. */
import type { Schemas } from "@/api/client";
import { count, counted, percent } from "@/lib/format";

/** `at` says a moment by the reader's clock. */
export function standingWords(s: Schemas["StandingView"], at: (moment: string) => string): string {
  const part = (n: number) => `${count(n)} (${percent(n / s.devices, 0)})`;
  const share = `Of ${counted(s.devices, "admitted device")}, ${part(s.approved)} run an approved version, ${part(s.newest)} the newest for their model`;
  const missing = s.devices - s.approved;
  if (missing === 0) return `${share}.`;
  if (s.on_the_way === 0) return `${share}; no running rollout reaches the other ${count(missing)}.`;
  const when = s.expected_at ? `by ${at(s.expected_at)}` : "with no end in sight";
  const rest = missing - s.on_the_way;
  const way = `${count(s.on_the_way)} more are on their way ${when}`;
  return rest > 0 ? `${share}; ${way}, and no running rollout reaches ${count(rest)}.` : `${share}; ${way}.`;
}
