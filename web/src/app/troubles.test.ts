import { expect, test } from "vitest";
import { ApiError } from "@/api/client";
import { agreeWords } from "./agreement-dialog";
import { troublesIn } from "./troubles";

const clock = { kind: "clock-stopped", text: "The clock stands still", since: "2026-11-23T09:00:00Z" };

test("a refusal that tells its troubles is believed", () => {
  const error = new ApiError(503, "", "", [], { ready: false, troubles: [clock] });
  expect(troublesIn(undefined, error)).toEqual([clock]);
});

test("a database that is away and a server that is away are told apart", () => {
  expect(troublesIn(undefined, new ApiError(503, "", "", [], {}))[0]?.text).toContain("database");
  expect(troublesIn(undefined, new ApiError(502, "", "", [], {}))[0]?.text).toContain("server does not answer");
  expect(troublesIn(undefined, new TypeError("fetch failed"))[0]?.kind).toBe("unreachable");
});

test("an error outweighs an older answer that all is well", () => {
  expect(troublesIn({ ready: true, troubles: [] }, new TypeError("fetch failed"))).toHaveLength(1);
  expect(troublesIn({ ready: true, troubles: [] }, null)).toEqual([]);
  expect(troublesIn(undefined, null)).toEqual([]);
});

test("what is agreed to is said in its largest numbers", () => {
  const use = { kind: "rollout", id: 1, sentence: "R" };
  expect(agreeWords({ groups: [], digest: "", uses: [{ ...use, joins: 1200, leaves: 0 }] })).toBe("Agree: 1,200 join");
  const two = [
    { ...use, joins: 2, leaves: 1 },
    { ...use, id: 2, joins: 3, leaves: 0 },
  ];
  expect(agreeWords({ groups: [], digest: "", uses: two })).toBe("Agree: 3 join, 1 leave");
});
