/** A ring and the gate after it, in words. */
import type { Schemas } from "@/api/client";
import { span } from "@/lib/format";

type RingDraft = Schemas["RingDraftBodyRequest"];

/** Whom a ring takes of those that no earlier ring took. */
export function whom(ring: RingDraft, groups: Schemas["GroupRow"][]): string {
  switch (ring.kind) {
    case "group":
      return ofGroup(groups.find((g) => g.id === ring.group_id)?.name, ring.share_pct);
    case "share":
      return `${ring.share_pct}% of those left, drawn by model, uplink, site and version`;
    case "number":
      return `${ring.number} devices, drawn by model, uplink, site and version`;
    default:
      return "all the rest";
  }
}

/** A group's members that are left, or a share of them. */
export function ofGroup(name: string | undefined, share: number | null | undefined): string {
  return share == null ? `group ${name ?? "?"}` : `${share}% of those left of group ${name ?? "?"}, drawn`;
}

/** What the next ring waits for. */
export function gateWords(ring: RingDraft): string {
  const soak = ring.soak_minutes ? `soak ${span(ring.soak_minutes * 60)}` : "no soak";
  const unheard = ring.max_unreached == null ? "" : `, at most ${ring.max_unreached} not tried`;
  const tried = ring.min_tried == null ? "" : `, at least ${ring.min_tried} tried`;
  const approval = ring.needs_approval ? ", then an approval" : "";
  return `through: ${ring.confirmed_pct ?? 95}% confirmed${tried}${unheard}, then ${soak}${approval}`;
}

/** Whether two lists of rings say the same; what is left out is as it is without being said. */
export function sameRings(a: RingDraft[], b: RingDraft[]): boolean {
  const whole = (r: RingDraft) => [
    r.name,
    r.kind,
    r.kind === "group" ? r.group_id : null,
    r.kind === "share" || r.kind === "group" ? (r.share_pct ?? null) : null,
    r.kind === "number" ? r.number : null,
    r.confirmed_pct ?? 95,
    r.soak_minutes ?? 60,
    r.max_unreached ?? null,
    r.min_tried ?? null,
    r.needs_approval ?? false,
  ];
  return JSON.stringify(a.map(whole)) === JSON.stringify(b.map(whole));
}
