/** What asks anew when something changed: the one table from topics to the keys of queries. The server names a topic in
 * each live event; an act of this page names the topics that it changed. */
import type { Query, QueryClient, QueryFilters, QueryKey } from "@tanstack/react-query";

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
  reportMails: () => [["report-mails"]],
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

/** The queries that a change of a topic asks for anew. */
function affected(topic: Topic, id: number | null): QueryFilters[] {
  const filters: QueryFilters[] = keysOf(topic, id).map((queryKey) => ({ queryKey }));
  // what saving a rule would change is measured against the group's members
  if (topic === "group" && id !== null)
    filters.push({
      predicate: (q) => q.queryKey[0] === "preview" && (q.queryKey[2] === id || q.queryKey[1] === "sieve"),
    });
  return filters;
}

/** Ask anew, at once, for all that shows what an act of this page changed. An answer under way may be of before the
 * act, and is given up. */
export function changed(client: QueryClient, topic: Topic, id: number | null = null): void {
  for (const filters of affected(topic, id)) client.invalidateQueries(filters);
}

/** Ask anew for all that shows topics of which one heard, but give up no answer under way: on a slow link events come
 * faster than answers, and none would ever arrive. Gives the queries that are under way, to be asked once more. */
export function heard(client: QueryClient, topics: Iterable<[Topic, number | null]>, again: Iterable<Query>): Query[] {
  const cache = client.getQueryCache();
  const due = new Set(again);
  for (const [topic, id] of topics)
    for (const filters of affected(topic, id)) for (const query of cache.findAll(filters)) due.add(query);
  const underWay = [...due].filter((query) => query.state.fetchStatus === "fetching");
  for (const query of underWay) due.delete(query);
  client.invalidateQueries({ predicate: (query) => due.has(query) });
  return underWay;
}

/** Ask anew for everything that shows devices: some were added, changed or removed. */
export function devicesChanged(client: QueryClient): void {
  for (const topic of ["fleet", "group"] as const) changed(client, topic);
}
