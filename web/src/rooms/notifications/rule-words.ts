/** A notification rule in words. */
import type { Schemas } from "@/api/client";
import { count } from "@/lib/format";

type Rule = Schemas["NotificationRuleRow"];
type Answer = Schemas["NotificationRules"];

/** A rule as one sentence. */
export function ruleWords(r: Rule, kinds: Answer["kinds"]): string {
  const names = r.kinds.map((k) => `“${kinds.find((known) => known.kind === k)?.words ?? k}”`);
  const what = names.length ? names.join(", ") : "everything that wants attention";
  const size = r.at_least > 1 ? ` of ${count(r.at_least)} devices or more` : "";
  const after = r.after_minutes ? `, once it is open for ${minutes(r.after_minutes)}` : "";
  const whom = r.people.map((p) => p.name);
  const people = r.next_after_minutes
    ? `${whom.join(", then ")}, ${minutes(r.next_after_minutes)} apart until somebody knows of it`
    : whom.join(", ");
  const channels = r.channels.map((c) => `the channel “${c.name}”`).join(", ");
  const all = [people, channels].filter(Boolean).join("; ");
  return `Of ${what}${size}${after}, ${r.is_urgent ? "at once, also in quiet hours" : "as they wish"}: ${all || "nobody any more"}.`;
}

function minutes(n: number): string {
  return n % 60 === 0 ? `${n / 60} h` : `${n} min`;
}
