import { QueryClient, QueryObserver } from "@tanstack/react-query";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { batchInvalidations } from "./live";

beforeEach(() => {
  vi.useFakeTimers();
});
afterEach(() => {
  vi.useRealTimers();
});

/** A rollout that is shown, whose every answer takes so many milliseconds and says how many were asked before. */
function shown(answerMs: number) {
  const client = new QueryClient();
  let asked = 0;
  const observer = new QueryObserver(client, {
    queryKey: ["rollout", 1],
    queryFn: async () => {
      asked += 1;
      const nth = asked;
      await new Promise((answer) => setTimeout(answer, answerMs));
      return nth;
    },
  });
  observer.subscribe(() => {});
  return { client, shows: () => observer.getCurrentResult().data, asked: () => asked };
}

test("where events come faster than answers, answers still arrive", async () => {
  const rollout = shown(3000);
  await vi.advanceTimersByTimeAsync(3000);
  expect(rollout.shows()).toBe(1);
  const hear = batchInvalidations(rollout.client);
  for (let event = 0; event < 20; event++) {
    hear("rollout", 1);
    await vi.advanceTimersByTimeAsync(500);
  }
  expect(rollout.shows()).toBeGreaterThan(1);
});

test("what was heard while an answer was under way is asked for when it came", async () => {
  const rollout = shown(3000);
  const hear = batchInvalidations(rollout.client);
  hear("rollout", 1); // during the first answer, which may be of before
  await vi.advanceTimersByTimeAsync(3000);
  expect(rollout.shows()).toBe(1);
  await vi.advanceTimersByTimeAsync(4000);
  expect(rollout.shows()).toBe(2);
  await vi.advanceTimersByTimeAsync(20_000);
  expect(rollout.asked()).toBe(2);
});

test("many events of a moment ask once", async () => {
  const rollout = shown(10);
  await vi.advanceTimersByTimeAsync(10);
  const hear = batchInvalidations(rollout.client);
  for (let event = 0; event < 50; event++) hear("rollout", 1);
  await vi.advanceTimersByTimeAsync(2000);
  expect(rollout.asked()).toBe(2);
});
