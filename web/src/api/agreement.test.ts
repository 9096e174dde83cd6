import createClient from "openapi-fetch";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { agreeing, answersWith, type Consequences } from "./agreement";

const told: Consequences = {
  groups: [{ id: 3, name: "Lab", joins: 2, leaves: 0 }],
  uses: [{ kind: "schedule", id: 7, sentence: "Schedule 7, restart", joins: 2, leaves: 0 }],
  digest: "schedule:7+2-0",
};
const refusal = () =>
  new Response(JSON.stringify({ type: "urn:brisk-herald:problem:consequences-not-agreed", ...told }), { status: 409 });
let sent: Request[];

beforeEach(() => {
  sent = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    sent.push(request.clone());
    return request.headers.get("Herald-Agreed") === told.digest ? new Response("{}") : refusal();
  });
});
afterEach(() => {
  answersWith(null);
  vi.unstubAllGlobals();
});

function client() {
  // biome-ignore lint/suspicious/noExplicitAny: any address will do here
  const made = createClient<any>({ baseUrl: "http://localhost/" });
  made.use(agreeing);
  return made;
}

test("what was agreed to is sent with the same call again, body and all", async () => {
  const asked: Consequences[] = [];
  answersWith(async (c) => {
    asked.push(c);
    return true;
  });
  const { response } = await client().POST("/members" as never, { body: { add: ["a"] } } as never);
  expect(response.status).toBe(200);
  expect(asked.map((c) => c.digest)).toEqual([told.digest]);
  expect(sent).toHaveLength(2);
  expect(await sent[1]?.json()).toEqual({ add: ["a"] });
  expect(sent[1]?.method).toBe("POST");
});

test("who does not agree sends nothing again and sees the refusal", async () => {
  answersWith(async () => false);
  const { response } = await client().DELETE("/tags/lab" as never, {} as never);
  expect(response.status).toBe(409);
  expect(sent).toHaveLength(1);
});

test("without anybody to ask nothing is agreed to", async () => {
  const { response } = await client().POST("/members" as never, { body: {} } as never);
  expect(response.status).toBe(409);
  expect(sent).toHaveLength(1);
});

test("another conflict is not a question", async () => {
  const ask = vi.fn(async () => true);
  answersWith(ask);
  vi.stubGlobal("fetch", async () => new Response(JSON.stringify({ type: "urn:x:conflict" }), { status: 409 }));
  await client().POST("/members" as never, { body: {} } as never);
  expect(ask).not.toHaveBeenCalled();
});
