/** A rollout while it is being written: the body that the API takes, and what is missing yet. */
import type { Schemas } from "@/api/client";

export type RingDraft = Schemas["RingDraftBodyRequest"];
export type Draft = Omit<Schemas["RolloutDraftBodyRequest"], "image_id" | "rings"> & {
  image_id: number | null;
  rings: RingDraft[];
};

export const EMPTY: Draft = {
  image_id: null,
  include: [],
  exclude: [],
  rings: [
    { name: "Canary", kind: "number", number: 12, confirmed_pct: 95, soak_minutes: 60 },
    { name: "Early", kind: "share", share_pct: 25, confirmed_pct: 95, soak_minutes: 120 },
    { name: "Everyone left", kind: "rest", confirmed_pct: 95, soak_minutes: 0 },
  ],
  window_start: null,
  window_end: null,
  window_days: [],
  starts_at: null,
  give_up_after_hours: 72,
  failure_limit_pct: 2,
  failure_count_limit: null,
  at_once: 200,
  max_attempts: 2,
};

/** The draft of a rollout that the server keeps. */
export function draftOf(rollout: Schemas["RolloutDetail"]): Draft {
  return {
    image_id: rollout.image_id,
    include: rollout.include.map((g) => g.id),
    exclude: rollout.exclude.map((g) => g.id),
    rings: rollout.rings.map((r) => ({
      name: r.name,
      kind: r.kind,
      group_id: r.group?.id ?? null,
      share_pct: r.share_pct,
      number: r.number,
      confirmed_pct: r.confirmed_pct,
      soak_minutes: r.soak_minutes,
    })),
    window_start: rollout.window_start,
    window_end: rollout.window_end,
    window_days: rollout.window_days,
    starts_at: rollout.starts_at,
    give_up_after_hours: rollout.give_up_after_hours,
    failure_limit_pct: rollout.failure_limit_pct,
    failure_count_limit: rollout.failure_count_limit,
    at_once: rollout.at_once,
    max_attempts: rollout.max_attempts,
  };
}

/** What must be said before the draft can be kept and checked; empty when nothing is missing. */
export function missing(draft: Draft): string[] {
  const gaps: string[] = [];
  if (draft.image_id === null) gaps.push("an image");
  if (draft.include.length === 0) gaps.push("an audience; no group is nobody");
  if (draft.rings.length === 0) gaps.push("a ring");
  draft.rings.forEach((ring, i) => {
    if (ring.kind === "group" && !ring.group_id) gaps.push(`the group of ring ${i + 1}`);
    if (ring.kind === "share" && !ring.share_pct) gaps.push(`the share of ring ${i + 1}`);
    if (ring.kind === "number" && !ring.number) gaps.push(`the number of ring ${i + 1}`);
    if (!ring.name.trim()) gaps.push(`the name of ring ${i + 1}`);
  });
  if ((draft.window_start === null) !== (draft.window_end === null)) gaps.push("both ends of the window");
  return gaps;
}

/** The sentence while nothing is kept on the server yet. */
export function sentenceOf(
  draft: Draft,
  names: { image?: string; include: string[]; exclude: string[] },
): Schemas["SentencePart"][] {
  const word = (text: string) => ({ slot: "", text });
  const slot = (name: string, text: string) => ({ slot: name, text });
  const n = draft.rings.length;
  const hm = (t: string) => t.slice(0, 5);
  const window =
    draft.window_start && draft.window_end
      ? `daily ${hm(draft.window_start)}–${hm(draft.window_end)} device time`
      : "at any hour";
  return [
    word("Put "),
    slot("image", names.image ?? "which image?"),
    word(" on "),
    slot("audience", names.include.join(" and ") || "whom?"),
    word(" "),
    slot("exclude", names.exclude.length ? `without ${names.exclude.join(" and ")}` : "without nobody"),
    word(", in "),
    slot("rings", `${n} ring${n === 1 ? "" : "s"}`),
    word(", "),
    slot("window", window),
    word(", stopping at "),
    slot("limit", `${draft.failure_limit_pct ?? 2} % failures`),
  ];
}
