/** The one way to the server: a typed client whose every refusal is an ApiError. */
import createClient, { type Middleware } from "openapi-fetch";
import { agreeing } from "./agreement";
import { once } from "./once";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

export interface FieldProblem {
  pointer?: string;
  message: string;
  line?: number;
  column?: number;
  length?: number;
  expected?: string[];
  closest?: string | null;
}

/** A refusal by the server, as problem details (RFC 9457). */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly errors: FieldProblem[],
    readonly body: Record<string, unknown>,
  ) {
    super(detail || title);
  }
}

const UNREACHABLE = "The server does not answer. What you see may be old; nothing you typed is lost.";

/** Turns any response that is not good into an ApiError, also one without a body. */
export async function problemOf(response: Response): Promise<ApiError> {
  let body: Record<string, unknown> = {};
  try {
    body = await response.clone().json();
  } catch {
    // no JSON: a proxy's answer, or none at all
  }
  const errors = Array.isArray(body.errors) ? (body.errors as FieldProblem[]) : [];
  const detail = typeof body.detail === "string" ? body.detail : UNREACHABLE;
  const title = typeof body.title === "string" ? body.title : `Answer ${response.status}`;
  return new ApiError(response.status, title, detail, errors, body);
}

let csrf = "";

export function rememberCsrf(token: string): void {
  csrf = token;
}

/** No answer at all: the connection or the server is gone. */
export function noAnswer(method: string): ApiError {
  const kept = method === "GET" ? "" : " Nothing you typed is lost.";
  return new ApiError(0, "No connection", `The server does not answer.${kept}`, [], {});
}

const guard: Middleware = {
  onError({ request }) {
    return noAnswer(request.method);
  },
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf);
    return request;
  },
  async onResponse({ response }) {
    if (!response.ok) throw await problemOf(response);
    return response;
  },
};

export const api = createClient<paths>({ baseUrl: "/" });
// answers pass the last one first: what is agreed to is asked for before a refusal is thrown
api.use(guard, once, agreeing);

/** The body of an answer that is known to be good. */
export async function body<T>(call: Promise<{ data?: T }>): Promise<T> {
  const { data } = await call;
  return data as T;
}
