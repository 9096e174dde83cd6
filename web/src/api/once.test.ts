import { readFileSync } from "node:fs";
import createClient from "openapi-fetch";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { agreeing, answersWith } from "./agreement";
import { once, takesKey } from "./once";

let sent: Request[];
let answers: (() => Response)[];

beforeEach(() => {
  sent = [];
  answers = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    sent.push(request.clone());
    return (answers.shift() ?? (() => new Response("{}")))();
  });
});
afterEach(() => {
  answersWith(null);
  vi.unstubAllGlobals();
});

function client() {
  // biome-ignore lint/suspicious/noExplicitAny: any address will do here
  const made = createClient<any>({ baseUrl: "http://localhost/" });
  made.use(once, agreeing);
  return made;
}
const lost = () => {
  throw new TypeError("Failed to fetch");
};
const refused = (status: number, code: string) => () =>
  new Response(JSON.stringify({ type: `urn:brisk-herald:problem:${code}`, digest: "d" }), { status });
async function press(path: string, body: object = {}) {
  await client()
    .POST(path as never, { body } as never)
    .catch(() => undefined);
}
const keys = () => sent.map((request) => request.headers.get("Idempotency-Key"));

describe("a call that changes something", () => {
  test("has a new key each time that it is answered", async () => {
    await press("/api/v1/schedules/1/run");
    await press("/api/v1/schedules/1/run");
    expect(keys().every((key) => key?.length === 32)).toBe(true);
    expect(new Set(keys()).size).toBe(2);
  });

  test("has the same key again where no answer came, however often", async () => {
    answers = [lost, lost];
    await press("/api/v1/schedules/2/run");
    await press("/api/v1/schedules/2/run");
    await press("/api/v1/schedules/2/run");
    await press("/api/v1/schedules/2/run");
    expect(new Set(keys().slice(0, 3)).size).toBe(1);
    expect(keys()[3]).not.toBe(keys()[0]);
  });

  test.each([502, 503, 504])("keeps its key where only something on the way answered with %s", async (status) => {
    answers = [refused(status, "unavailable")];
    await press(`/api/v1/schedules/${status}/run`);
    await press(`/api/v1/schedules/${status}/run`);
    expect(new Set(keys()).size).toBe(1);
  });

  test("keeps its key while it is carried out, and no longer than that", async () => {
    answers = [lost, refused(409, "still-working"), refused(409, "conflict")];
    for (let n = 0; n < 4; n += 1) await press("/api/v1/schedules/3/run");
    expect(new Set(keys().slice(0, 3)).size).toBe(1);
    expect(keys()[3]).not.toBe(keys()[0]);
  });

  test("is another one with another body", async () => {
    answers = [lost];
    await press("/api/v1/groups", { name: "A" });
    await press("/api/v1/groups", { name: "B" });
    expect(new Set(keys()).size).toBe(2);
  });

  test("has one key before and after its consequences are agreed to", async () => {
    answersWith(async () => true);
    answers = [refused(409, "consequences-not-agreed"), lost];
    await press("/api/v1/groups/1/members", { add: ["a"] });
    await press("/api/v1/groups/1/members", { add: ["a"] });
    expect(sent[1]?.headers.get("Herald-Agreed")).toBe("d");
    expect(new Set(keys()).size).toBe(1);
  });
});

test("the calls that take a key are those that the API says", () => {
  const document = JSON.parse(readFileSync("../docs/openapi.json", "utf8"));
  for (const [path, calls] of Object.entries<Record<string, { parameters?: { name: string }[]; operationId: string }>>(
    document.paths,
  )) {
    for (const [method, call] of Object.entries(calls)) {
      const says = (call.parameters ?? []).some((p) => p.name === "Idempotency-Key");
      // one that only computes takes any, and keeps none
      if (says) expect(takesKey(method.toUpperCase(), path), call.operationId).toBe(true);
      if (!takesKey(method.toUpperCase(), path)) expect(says, call.operationId).toBe(false);
    }
  }
  for (const path of [
    "/api/v1/own",
    "/api/v1/own/password",
    "/api/v1/session",
    "/api/v1/tokens/3",
    "/api/v1/welcome/x",
  ])
    expect(takesKey("POST", path)).toBe(false);
  expect(takesKey("POST", "/api/v1/ownership")).toBe(true);
});
