import { expect, test } from "vitest";
import type { Schemas } from "@/api/client";
import { consequence } from "./wanted";

const person = (is: Partial<Schemas["PersonRow"]>) =>
  ({
    is_active: true,
    role: "operator",
    has_second_factor: false,
    passkeys: 0,
    weak_sessions: 0,
    ...is,
  }) as Schemas["PersonRow"];

test("counts those of the roles who have none, and the sessions that end", () => {
  const people = [
    person({ weak_sessions: 2 }),
    person({ passkeys: 1, weak_sessions: 1 }),
    person({ has_second_factor: true }),
    person({ role: "viewer", weak_sessions: 5 }),
    person({ is_active: false, weak_sessions: 0 }),
  ];
  expect(consequence(people, ["operator"])).toBe(
    "1 of 3 people has none, and sets one up when they sign in next. 3 sessions that began by a password alone end now.",
  );
});

test("says nothing of sessions where none ends, and of nobody where nobody is meant", () => {
  expect(consequence([person({ passkeys: 2 })], ["operator"])).toBe("1 person is of these roles, and each has one.");
  expect(consequence([person({ weak_sessions: 1 })], [])).toBe("A password alone is enough for everybody.");
});
