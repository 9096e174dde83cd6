/** What an edit of devices asks for, from the act that was chosen. */
import type { Schemas } from "@/api/client";
import { wordsIn } from "@/lib/words";

export const ACTS = {
  add_tags: "Add tags",
  remove_tags: "Take off tags",
  set: "Set an attribute",
  clear: "Clear an attribute",
  site: "Move to a site",
  custodian: "Give to a custodian",
  zone: "Set the time zone",
  interval: "Set the check-in interval",
  retire: "Retire, or refuse",
  admit: "Admit",
} as const;
export type Act = keyof typeof ACTS;

/** The request, or null while something is lacking. */
export function editBody(
  act: Act,
  key: string,
  value: string,
  target: Schemas["EditTargetRequest"],
): Schemas["EditRequestRequest"] | null {
  const words = wordsIn(value);
  const body = { target } as Schemas["EditRequestRequest"];
  switch (act) {
    case "add_tags":
      return words.length ? { ...body, add_tags: words } : null;
    case "remove_tags":
      return words.length ? { ...body, remove_tags: words } : null;
    case "set":
      return key && value.trim() ? { ...body, set_attributes: { [key]: value } } : null;
    case "clear":
      return key ? { ...body, clear_attributes: [key] } : null;
    case "site":
      return value.trim() ? { ...body, site: value } : null;
    case "custodian":
      return value.trim() ? { ...body, custodian: value } : null;
    case "zone":
      return { ...body, own_time_zone: value.trim() };
    case "interval":
      return /^\s*\d+\s*$/.test(value) ? { ...body, interval: Number(value) } : null;
    case "retire":
      return { ...body, admission: "retired" };
    case "admit":
      return { ...body, admission: "admitted" };
  }
}
