/** Agreeing to consequences: a change that would reach something running is refused until somebody has seen the numbers.
 * The client asks here, in one place for every call, and sends the same call again with what was agreed to. */
import type { Middleware } from "openapi-fetch";
import type { components } from "./schema";

export type Consequences = components["schemas"]["Consequences"];

type Ask = (consequences: Consequences) => Promise<boolean>;
let ask: Ask | null = null;

/** Let a part of the page ask people; without one nothing is agreed to. */
export function answersWith(asker: Ask | null): void {
  ask = asker;
}

const copies = new Map<string, Request>();

/** Asks where the server wants an agreement, and sends the call again with it. Comes before what throws on refusals. */
export const agreeing: Middleware = {
  onRequest({ request, id }) {
    // a body can be read once only, so a copy is kept until the answer is there
    if (request.method !== "GET") copies.set(id, request.clone());
    return undefined;
  },
  async onResponse({ response, id }) {
    const copy = copies.get(id);
    copies.delete(id);
    if (response.status !== 409 || !copy || !ask) return undefined;
    const body = await response
      .clone()
      .json()
      .catch(() => ({}));
    if (!String(body.type).endsWith(":consequences-not-agreed")) return undefined;
    if (!(await ask(body as Consequences))) return undefined;
    const again = new Request(copy);
    again.headers.set("Herald-Agreed", (body as Consequences).digest);
    return fetch(again);
  },
};
