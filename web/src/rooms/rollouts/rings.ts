/** Changing an ordered list of rings. */
import type { Schemas } from "@/api/client";

/** A ring that is to be ahead; `key` tells it from the others while they move. */
export type RingAhead = Schemas["RingAheadBodyRequest"] & { key: number };

const nextKey = (rings: RingAhead[]) => Math.max(-1, ...rings.map((r) => r.key)) + 1;

/** The rings with one moved by so many places; as they were where it would leave the list. */
export function moveRing(rings: RingAhead[], from: number, by: number): RingAhead[] {
  const to = from + by;
  const moved = rings[from];
  if (!moved || to < 0 || to >= rings.length) return rings;
  const others = rings.filter((_, i) => i !== from);
  return [...others.slice(0, to), moved, ...others.slice(to)];
}

/** Whether a ring can be split. */
export const isSplittable = (ring: RingAhead) => !(ring.kind === "number" && ring.number === 1);

/** The rings with one in two halves: the first half, a new ring, goes first; what is left of it after. */
export function splitRing(rings: RingAhead[], at: number): RingAhead[] {
  const ring = rings[at];
  if (!ring || !isSplittable(ring)) return rings;
  const [half, rest] = halves(ring);
  const first: RingAhead = {
    ...ring,
    ...half,
    id: null,
    key: nextKey(rings),
    name: `${ring.name}, first half`.slice(0, 60),
    soak_minutes: ring.soak_minutes || 60, // the last ring has none, as no gate follows it
  };
  return [...rings.slice(0, at), first, { ...ring, ...rest }, ...rings.slice(at + 1)];
}

function halves(ring: RingAhead): [Partial<RingAhead>, Partial<RingAhead>] {
  if (ring.kind === "number") {
    const first = Math.floor((ring.number ?? 2) / 2);
    return [{ number: first }, { number: (ring.number ?? 2) - first }];
  }
  if (ring.kind === "share" || (ring.kind === "group" && ring.share_pct != null)) {
    const share = (ring.share_pct ?? 100) / 2;
    // the second is a share of what the first leaves
    return [{ share_pct: share }, { share_pct: Math.round((share / (100 - share)) * 10_000) / 100 }];
  }
  // the second takes all members that the first leaves
  if (ring.kind === "group") return [{ share_pct: 50 }, {}];
  return [{ kind: "share", share_pct: 50 }, {}];
}

/** The rings with a new one before the last, which goes on taking all the rest. */
export function addRing(rings: RingAhead[], opened: number): RingAhead[] {
  const added: RingAhead = {
    id: null,
    key: nextKey(rings),
    name: `Ring ${opened + rings.length}`,
    kind: "share",
    share_pct: 50,
    group_id: null,
    number: null,
    confirmed_pct: 95,
    soak_minutes: 60,
    max_unreached: null,
    min_tried: null,
    needs_approval: false,
  };
  return [...rings.slice(0, -1), added, ...rings.slice(-1)];
}
