/** What asks anew when something changed: the one table from topics to the keys of queries. The server names a topic in
 * each live event; an act of this page names the topics that it changed. */
import type { QueryClient, QueryKey } from "@tanstack/react-query";

/** The keys of a topic's queries; `id` says which one changed, null any. */
const KEYS = {
  /** what stands in the calendar is asked anew by the clock, and at once where somebody changed it there */
  calendar: () => [["calendar"]],
  attention: () => [["attention"], ["now"]],
  comments: (id) => [one("comments", id)],
  device: () => [["device"]],
  /** what a draft's consequences are computed from, once its draft was saved */
  draft: (id) => [
    ["preflight", id],
    ["forecast", id],
    ["rollout", "list"],
  ],
  edit: (id) => [one("edit", id)],
  feeds: () => [["feeds"]],
  fields: () => [["fields"]],
  fleet: () => [["fleet"], ["device"], ["values"], ["fields"], ["now"]],
  freezes: () => [["freezes"], ["calendar"], ["now"]],
  group: (id) => [
    // one of them may be in a folder's tree, in a list, and in the queries of another
    id === null ? ["group"] : ["group", id],
    ["group", "list"],
    ["group", "folders"],
    ["group", "overlaps"],
    ["now"],
  ],
  images: () => [["images"]],
  import: (id) => [one("import", id), ["import", "list"], ["import", "mappings"]],
  messages: () => [["messages"]],
  notifications: () => [["notifications"]],
  people: () => [["people"], ["attention"]],
  plans: () => [["plans"]],
  preview: () => [["preview"]],
  retention: () => [["retention"]],
  rollout: (id) => [
    one("rollout", id),
    ["rollout", "list"],
    ["rollout-shared", ...(id === null ? [] : [id])],
    ["device", "upcoming"],
    ["now"],
  ],
  schedule: (id) => [one("schedule", id), ["schedule", "list"], ["device", "upcoming"], ["now"]],
  session: () => [["session"]],
  templates: () => [["templates"]],
  codes: () => [["fleet", "codes"]],
  views: () => [["views"]],
} satisfies Record<string, (id: number | null) => QueryKey[]>;

export type Topic = keyof typeof KEYS;

function one(topic: string, id: number | null): QueryKey {
  return id === null ? [topic] : [topic, id];
}

/** Whether the table knows a topic; a newer server may name others. */
export function isTopic(word: string): word is Topic {
  return word in KEYS;
}

/** The keys that a change of a topic asks for anew. */
export function keysOf(topic: Topic, id: number | null = null): QueryKey[] {
  return KEYS[topic](id);
}

/** Ask anew for all that shows this topic. */
export function changed(client: QueryClient, topic: Topic, id: number | null = null): void {
  for (const queryKey of keysOf(topic, id)) client.invalidateQueries({ queryKey });
  // what saving a rule would change is measured against the group's members
  if (topic === "group" && id !== null)
    client.invalidateQueries({
      predicate: (q) => q.queryKey[0] === "preview" && (q.queryKey[2] === id || q.queryKey[1] === "sieve"),
    });
}

/** Ask anew for everything that shows devices: some were added, changed or removed. */
export function devicesChanged(client: QueryClient): void {
  for (const topic of ["fleet", "group"] as const) changed(client, topic);
}
