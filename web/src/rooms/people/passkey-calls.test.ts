import { expect, test } from "vitest";
import { whyNone } from "./passkey-calls";

const at = (hostname: string, port = "8000") => whyNone({ hostname, port, protocol: "http:" });

test("on this machine, says by which name to open it", () => {
  expect(at("127.0.0.1")).toContain("open http://localhost:8000 to");
  expect(at("[::1]", "")).toContain("open http://localhost to");
});

test("elsewhere, a number has a name that is not known here", () => {
  expect(at("192.168.7.4")).toContain("by its host name");
});

test("a name is no number, and then it is the browser that has none", () => {
  expect(at("herald.example")).toContain("over HTTPS");
  expect(at("10.herald.example")).toContain("over HTTPS");
});
