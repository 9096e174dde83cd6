/** Where a rollout stands, in words. The server says it; only moments are put into words here, by the viewer's clock. */
import type { Schemas } from "@/api/client";
import { instant, overdue } from "@/lib/format";

/** The status, with when it ends; a moment that is past is overdue by so much. */
export function statusWords(status: Schemas["StatusView"], zone: string, now: Date): string {
  return status.words + ending(status.until, zone, now);
}

/** How the gate after a ring stands. */
export function gateWords(ring: Schemas["RingView"], zone: string, now: Date): string {
  if (ring.gate_met_at) return `Open since ${instant(ring.gate_met_at, zone, now)}`;
  return ring.gate.words + ending(ring.gate.until, zone, now);
}

function ending(until: string | null, zone: string, now: Date): string {
  if (!until) return "";
  return `, ${overdue(until, now, "over now") ?? `until ${instant(until, zone, now)}`}`;
}
