/** What somebody presses again because no answer came is not done twice: the same call with the same body has the key of
 * the time before until it is answered, and the server carries each key out once. */
import type { Middleware } from "openapi-fetch";

const HEADER = "Idempotency-Key";
/** Calls that take no key: each of them counts by itself. */
const WITHOUT = /^\/api\/v1\/(own|session|tokens|welcome)(\/|$)/;
/** Answers of something on the way, which does not know whether the server has done it; and the server’s own, while it does. */
const ON_THE_WAY = new Set([502, 503, 504]);
const STILL_WORKING = "still-working";
/** So many calls without an answer are remembered; somebody has given the oldest up by then. */
const MOST = 100;

/** Keys of calls that were sent and are not answered, by what they are. */
const unanswered = new Map<string, string>();
const sent = new Map<string, string>();

export function takesKey(method: string, path: string): boolean {
  return method !== "GET" && !WITHOUT.test(path);
}

/** Gives each call that changes something its key. Stands before what throws on refusals, after what asks people. */
export const once: Middleware = {
  async onRequest({ request, id }) {
    // pieces of files say at which byte they begin, and a form that is sent again is another file
    const isJson = (request.headers.get("Content-Type") ?? "application/json").startsWith("application/json");
    if (!takesKey(request.method, new URL(request.url).pathname) || !isJson) return undefined;
    const call = `${request.method} ${request.url} ${await request.clone().text()}`;
    const key = unanswered.get(call) ?? newKey();
    unanswered.set(call, key);
    if (unanswered.size > MOST) unanswered.delete(unanswered.keys().next().value as string);
    sent.set(id, call);
    request.headers.set(HEADER, key);
    return request;
  },
  async onResponse({ response, id }) {
    const call = sent.get(id);
    sent.delete(id);
    if (call !== undefined && !(await mayStillCome(response))) unanswered.delete(call);
    return undefined;
  },
  onError({ id }) {
    sent.delete(id);
    return undefined;
  },
};

async function mayStillCome(response: Response): Promise<boolean> {
  if (ON_THE_WAY.has(response.status)) return true;
  if (response.status !== 409) return false;
  const said = await response
    .clone()
    .json()
    .catch(() => ({}));
  return String(said.type).endsWith(`:${STILL_WORKING}`);
}

/** Random, also where the page came over plain HTTP, which has no `crypto.randomUUID`. */
function newKey(): string {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (byte) => byte.toString(16).padStart(2, "0")).join("");
}
