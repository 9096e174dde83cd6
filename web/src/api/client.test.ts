import { describe, expect, it } from "vitest";
import { problemOf } from "./client";

describe("problemOf", () => {
  it("reads problem details", async () => {
    const body = { title: "No", detail: "Line 1", errors: [{ message: "x", line: 1 }] };
    const error = await problemOf(new Response(JSON.stringify(body), { status: 422 }));
    expect(error.status).toBe(422);
    expect(error.detail).toBe("Line 1");
    expect(error.errors[0]?.line).toBe(1);
  });

  it("does not take an empty 502 for a success", async () => {
    const error = await problemOf(new Response(null, { status: 502 }));
    expect(error.status).toBe(502);
    expect(error.detail).toContain("does not answer");
  });
});
