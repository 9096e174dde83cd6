import { QueryClient } from "@tanstack/react-query";
import { expect, test } from "vitest";
import { changed, isTopic, keysOf } from "./topics";

const asked = (client: QueryClient) =>
  client
    .getQueryCache()
    .getAll()
    .filter((q) => q.state.isInvalidated)
    .map((q) => q.queryKey);

function holding(...keys: unknown[][]): QueryClient {
  const client = new QueryClient();
  for (const key of keys) client.setQueryData(key, 1);
  return client;
}

test("a rollout's event asks for it, the list and Now, and for no other rollout", () => {
  const client = holding(
    ["rollout", 1],
    ["rollout", 1, "marks"],
    ["rollout", 2],
    ["rollout", "list"],
    ["now"],
    ["plans"],
  );
  changed(client, "rollout", 1);
  expect(asked(client)).toEqual([["rollout", 1], ["rollout", 1, "marks"], ["rollout", "list"], ["now"]]);
});

test("a group's event asks anew what a rule would change for that group", () => {
  const client = holding(["preview", "site = X", 3], ["preview", "site = X", 4], ["group", "list"]);
  changed(client, "group", 3);
  expect(asked(client)).toEqual([
    ["preview", "site = X", 3],
    ["group", "list"],
  ]);
});

test("a topic without a number asks for all of it", () => {
  expect(keysOf("schedule")[0]).toEqual(["schedule"]);
  expect(isTopic("schedule")).toBe(true);
  expect(isTopic("weather")).toBe(false);
});
