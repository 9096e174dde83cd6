/** A draft of a rollout: the body that the API takes, and what is missing yet. */
import type { Schemas } from "@/api/client";
import { ROLLOUT_DEFAULTS } from "@/api/defaults";

export type RingDraft = Schemas["RingDraftBodyRequest"];
export type Change = Schemas["ChangeBodyRequest"];
export type Draft = Schemas["RolloutDraftBodyRequest"];

/** A new draft: what the API takes for what is left out, nothing where it takes nothing, and three rings to begin with. */
export const EMPTY: Draft = {
  ...ROLLOUT_DEFAULTS,
  changes: [],
  include: [],
  exclude: [],
  include_devices: [],
  rings: [
    { name: "Canary", kind: "number", number: 12, confirmed_pct: 95, soak_minutes: 60 },
    { name: "Early", kind: "share", share_pct: 25, confirmed_pct: 95, soak_minutes: 120 },
    { name: "Everyone left", kind: "rest", confirmed_pct: 95, soak_minutes: 0 },
  ],
  // what the server says of the models takes their place, as long as nobody chose any
  window_start: "01:00:00",
  window_end: "05:00:00",
  window_days: [],
  starts_at: null,
  ends_at: null,
  defer_times: null,
  defer_until: null,
  prefetch_start: null,
  prefetch_end: null,
  failure_count_limit: null,
  max_concurrent_per_site: null,
  max_starts_per_hour: null,
  late_limit: null,
  plan_version_id: null,
};

/** What was written down of a ring. */
export const ringDraftOf = (ring: Schemas["RingView"]) => ({
  name: ring.name,
  kind: ring.kind,
  group_id: ring.group?.id ?? null,
  share_pct: ring.share_pct,
  number: ring.number,
  confirmed_pct: ring.confirmed_pct,
  soak_minutes: ring.soak_minutes,
  max_unreached: ring.max_unreached,
  min_tried: ring.min_tried,
  needs_approval: ring.needs_approval,
});

/** The draft of a rollout that the server keeps. */
export function draftOf(rollout: Schemas["RolloutDetail"]): Draft {
  return {
    changes: rollout.changes.map((c) => ({
      model_id: c.model_id,
      uplink: c.uplink,
      from_version: c.from_version,
      choice: c.choice,
      image_id: c.image_id,
      within: c.within,
    })),
    include: rollout.include.map((g) => g.id),
    exclude: rollout.exclude.map((g) => g.id),
    include_devices: rollout.include_devices.map((d) => d.name),
    rule_filter: rollout.rule_filter,
    rings: rollout.rings.map(ringDraftOf),
    window_start: rollout.window_start,
    window_end: rollout.window_end,
    window_days: rollout.window_days,
    starts_at: rollout.starts_at,
    prefetch: rollout.prefetch,
    prefetch_start: rollout.prefetch_start,
    prefetch_end: rollout.prefetch_end,
    expires_after_hours: rollout.expires_after_hours,
    failure_limit_pct: rollout.failure_limit_pct,
    failure_count_limit: rollout.failure_count_limit,
    max_concurrent: rollout.max_concurrent,
    max_attempts: rollout.max_attempts,
    max_concurrent_per_site: rollout.max_concurrent_per_site,
    max_starts_per_hour: rollout.max_starts_per_hour,
    spread_minutes: rollout.spread_minutes,
    follows_audience: rollout.follows_audience,
    late_limit: rollout.late_limit,
    downgrades: rollout.downgrades,
    freeze_override_reason: rollout.freeze_override_reason,
    notice: rollout.notice,
    defer_times: rollout.defer_times,
    defer_until: rollout.defer_until,
    ends_at: rollout.ends_at,
    name: rollout.name,
    purpose: rollout.purpose,
    ticket: rollout.ticket,
    plan_version_id: rollout.plan_version_id,
  };
}

export interface WindowHours {
  window_start?: string | null;
  window_end?: string | null;
  window_days?: number[];
}

/** The hours alone, to the minute, as they are compared. */
export const hoursOf = ({ window_start, window_end, window_days }: WindowHours): WindowHours => ({
  window_start: window_start?.slice(0, 5) ?? null,
  window_end: window_end?.slice(0, 5) ?? null,
  window_days: window_days ?? [],
});

/** The draft without a window: then there is nothing to fetch files ahead of either. */
export const atAnyHour = (draft: Draft): Draft => ({
  ...draft,
  window_start: null,
  window_end: null,
  prefetch: false,
  prefetch_start: null,
  prefetch_end: null,
});

/** The draft with these hours, on every day, and this spread of starts. */
export function withHours(
  draft: Draft,
  hours: { window_start: string | null; window_end: string | null; spread_minutes: number },
): Draft {
  const { window_start, window_end, spread_minutes } = hours;
  if (window_start === null || window_end === null) return { ...atAnyHour(draft), spread_minutes };
  const [from, until] = [window_start.slice(0, 5), window_end.slice(0, 5)];
  return { ...draft, window_start: from, window_end: until, window_days: [], spread_minutes };
}

/** A draft that begins with a group, an image or kept rings. */
export function startingWith({
  group,
  devices = [],
  image,
  rings,
}: {
  group?: number;
  devices?: string[];
  image?: number;
  rings?: Schemas["PlanVersionRow"];
}): Draft {
  return {
    ...EMPTY,
    ...(rings ? { rings: rings.rings, plan_version_id: rings.id } : {}),
    include: group === undefined ? [] : [group],
    include_devices: devices,
    changes: image === undefined ? [] : [{ choice: "image", image_id: image }],
  };
}

/** The draft of another rollout like an earlier one; what belonged to that one's days is left out. */
export const again = (rollout: Schemas["RolloutDetail"]): Draft => ({
  ...draftOf(rollout),
  starts_at: null,
  ends_at: null,
  defer_until: null,
  freeze_override_reason: "",
});

/** What must be said before the draft can be kept and checked; empty when nothing is missing. */
export function missing(draft: Draft, putsBack = false): string[] {
  const gaps: string[] = [];
  if (!putsBack && !draft.changes.some((c) => c.choice !== "leave_out")) gaps.push("a version to bring");
  if (!putsBack && draft.include.length + (draft.include_devices ?? []).length === 0)
    gaps.push("an audience; no group and no device is nobody");
  if (draft.rings.length === 0) gaps.push("a ring");
  draft.rings.forEach((ring, i) => {
    if (ring.kind === "group" && !ring.group_id) gaps.push(`the group of ring ${i + 1}`);
    if (ring.kind === "share" && !ring.share_pct) gaps.push(`the share of ring ${i + 1}`);
    if (ring.kind === "number" && !ring.number) gaps.push(`the number of ring ${i + 1}`);
    if (!ring.name.trim()) gaps.push(`the name of ring ${i + 1}`);
  });
  if ((draft.window_start === null) !== (draft.window_end === null)) gaps.push("both ends of the window");
  if (((draft.prefetch_start ?? null) === null) !== ((draft.prefetch_end ?? null) === null))
    gaps.push("both ends of the hours for files");
  return gaps;
}

/** What the sentence of a draft is asked with: all of it that the sentence says, as far as it is filled in. */
export function saidOf(draft: Draft, rollsBack: number | null): Schemas["RolloutSentenceBodyRequest"] {
  const {
    rings,
    plan_version_id: _plan,
    late_limit: _late,
    expires_after_hours: _expires,
    failure_count_limit: _count,
    max_concurrent: _most,
    max_attempts: _attempts,
    name: _name,
    purpose: _purpose,
    ticket: _ticket,
    ...said
  } = draft;
  return { ...said, ring_count: rings.length, rolls_back_id: rollsBack };
}

const sameWhom = (a: Change, b: Change) =>
  (a.model_id ?? null) === (b.model_id ?? null) &&
  (a.uplink ?? "") === (b.uplink ?? "") &&
  (a.from_version ?? "") === (b.from_version ?? "");

/** The change table with a row in place of the one about the same devices, or without that one. */
export function withChange(changes: Change[], row: Change, keep = true): Change[] {
  const at = changes.findIndex((c) => sameWhom(c, row) && (row.model_id != null || c.choice === row.choice));
  if (at < 0) return keep ? [...changes, row] : changes;
  return keep ? changes.map((c, i) => (i === at ? row : c)) : changes.filter((_, i) => i !== at);
}

/** What is brought where no row of a model says otherwise. */
export const mainChange = (changes: Change[]): Change | undefined =>
  changes.find((c) => c.model_id == null && c.choice !== "leave_out");

/** The change table with another common target, in front of the rows of single models. */
export function withMain(changes: Change[], main: Change | null): Change[] {
  const rest = changes.filter((c) => c.model_id != null || c.choice === "leave_out");
  return main ? [main, ...rest] : rest;
}
