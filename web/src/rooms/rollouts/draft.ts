/** A rollout while it is being written: the body that the API takes, and what is missing yet. */
import type { Schemas } from "@/api/client";

export type RingDraft = Schemas["RingDraftBodyRequest"];
export type Change = Schemas["ChangeBodyRequest"];
export type Draft = Schemas["RolloutDraftBodyRequest"];

export const EMPTY: Draft = {
  changes: [],
  include: [],
  exclude: [],
  include_devices: [],
  only_rule: "",
  rings: [
    { name: "Canary", kind: "number", number: 12, confirmed_pct: 95, soak_minutes: 60 },
    { name: "Early", kind: "share", share_pct: 25, confirmed_pct: 95, soak_minutes: 120 },
    { name: "Everyone left", kind: "rest", confirmed_pct: 95, soak_minutes: 0 },
  ],
  window_start: null,
  window_end: null,
  window_days: [],
  starts_at: null,
  stage_ahead: false,
  staging_start: null,
  staging_end: null,
  give_up_after_hours: 72,
  failure_limit_pct: 2,
  failure_count_limit: null,
  at_once: 200,
  max_attempts: 2,
  at_once_per_site: null,
  starts_per_hour: null,
  spread_minutes: 15,
  standing: false,
  late_limit: null,
  downgrades: false,
  freeze_override: "",
  notice: "",
  plan_version_id: null,
};

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
    only_rule: rollout.only_rule,
    rings: rollout.rings.map((r) => ({
      name: r.name,
      kind: r.kind,
      group_id: r.group?.id ?? null,
      share_pct: r.share_pct,
      number: r.number,
      confirmed_pct: r.confirmed_pct,
      soak_minutes: r.soak_minutes,
      most_unheard: r.most_unheard,
      min_tried: r.min_tried,
      needs_approval: r.needs_approval,
    })),
    window_start: rollout.window_start,
    window_end: rollout.window_end,
    window_days: rollout.window_days,
    starts_at: rollout.starts_at,
    stage_ahead: rollout.stage_ahead,
    staging_start: rollout.staging_start,
    staging_end: rollout.staging_end,
    give_up_after_hours: rollout.give_up_after_hours,
    failure_limit_pct: rollout.failure_limit_pct,
    failure_count_limit: rollout.failure_count_limit,
    at_once: rollout.at_once,
    max_attempts: rollout.max_attempts,
    at_once_per_site: rollout.at_once_per_site,
    starts_per_hour: rollout.starts_per_hour,
    spread_minutes: rollout.spread_minutes,
    standing: rollout.standing,
    late_limit: rollout.late_limit,
    downgrades: rollout.downgrades,
    freeze_override: rollout.freeze_override,
    notice: rollout.notice,
    plan_version_id: rollout.plan_version_id,
  };
}

/** The draft without a window: then there is nothing to fetch files ahead of either. */
export const atAnyHour = (draft: Draft): Draft => ({
  ...draft,
  window_start: null,
  window_end: null,
  stage_ahead: false,
  staging_start: null,
  staging_end: null,
});

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
  freeze_override: "",
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
  if (((draft.staging_start ?? null) === null) !== ((draft.staging_end ?? null) === null))
    gaps.push("both ends of the hours for files");
  return gaps;
}

/** The sentence while nothing is kept on the server yet. */
export function sentenceOf(
  draft: Draft,
  names: { target: string; include: string; exclude: string[]; putsBack?: number | null },
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
    ...(names.putsBack
      ? [
          word("Put back "),
          slot("change", "the version each had"),
          word(` on the devices that rollout ${names.putsBack} changed`),
        ]
      : [
          word("Put "),
          slot("change", names.target || "which version?"),
          word(" on "),
          slot("audience", names.include || "which devices?"),
        ]),
    ...(draft.only_rule ? [word(", only those with "), slot("audience", draft.only_rule)] : []),
    word(" "),
    slot("exclude", names.exclude.length ? `without ${names.exclude.join(" and ")}` : "with no exclusions"),
    word(", in "),
    slot("rings", `${n} ring${n === 1 ? "" : "s"}`),
    word(", "),
    slot("window", window),
    ...(draft.stage_ahead
      ? [
          word(", "),
          slot(
            "window",
            draft.staging_start && draft.staging_end
              ? `fetching files ahead ${hm(draft.staging_start)}–${hm(draft.staging_end)}`
              : "fetching files ahead",
          ),
        ]
      : []),
    ...(draft.spread_minutes ? [word(", "), slot("limit", `starts spread over ${draft.spread_minutes} min`)] : []),
    word(", stopping at "),
    slot("limit", `${draft.failure_limit_pct ?? 2}% failures`),
    ...choices(draft).flatMap(([name, text]) => [word(", "), slot(name, text)]),
  ];
}

/** What else was chosen that a reader would not expect, each with its slot. */
function choices(draft: Draft): [string, string][] {
  const { at_once_per_site: site, starts_per_hour: hour } = draft;
  const chosen: [string, string, boolean][] = [
    ["audience", "following its audience", draft.standing === true],
    ["change", "downgrading where that is needed", draft.downgrades === true],
    ["limit", `at most ${site} at once per site`, site != null],
    ["limit", `at most ${hour} starts per hour`, hour != null],
    ["limit", `through freezes (${draft.freeze_override})`, Boolean(draft.freeze_override)],
    ["limit", `showing “${draft.notice}” first`, Boolean(draft.notice)],
  ];
  return chosen.filter(([, , is]) => is).map(([name, text]) => [name, text]);
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

/** Targets in words, as the sentence says them. */
export function targetWords(changes: Change[], image: (id: number) => string): string {
  const words = changes
    .filter((c) => c.choice !== "leave_out")
    .map((c) =>
      c.choice === "image"
        ? image(c.image_id ?? 0)
        : c.choice === "newest"
          ? "the newest approved"
          : `the newest ${c.within}`,
    );
  const distinct = [...new Set(words)];
  return distinct.length <= 2 ? distinct.join(" and ") : `${distinct.length} versions`;
}
