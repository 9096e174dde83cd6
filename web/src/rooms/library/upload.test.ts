import { expect, test } from "vitest";
import { ApiError } from "@/api/client";
import { nextOffset, nextSize, versionIn } from "./upload";

test("a version is read from the name of a file", () => {
  expect(versionIn("sill-5.2.1.bin")).toBe("5.2.1");
  expect(versionIn("rill_v2.8.0-rc.1.img")).toBe("2.8.0-rc.1");
  expect(versionIn("firmware.bin")).toBe("");
});

test("after a failure the server says where to go on, and what is refused is not tried again", () => {
  const refusal = (status: number, body = {}) => new ApiError(status, "", "", [], body);
  expect(nextOffset(refusal(409, { received: 4096 }), 0)).toBe(4096);
  expect(nextOffset(refusal(422), 0)).toBeNull();
  expect(nextOffset(refusal(503), 0)).toBeUndefined();
  expect(nextOffset(new TypeError("network"), 1)).toBeUndefined();
  expect(nextOffset(new TypeError("network"), 5)).toBeNull();
});

test("pieces grow on a quick link and shrink on a slow one, so that there is progress to see", () => {
  const most = 8 * 1024 ** 2;
  expect(nextSize(262_144, 200, most)).toBe(524_288);
  expect(nextSize(most, 200, most)).toBe(most);
  expect(nextSize(1_048_576, 3000, most)).toBe(1_048_576);
  expect(nextSize(1_048_576, 9000, most)).toBe(524_288);
  expect(nextSize(262_144, 9000, most)).toBe(262_144);
});
