import { expect, it } from "vitest";
import { browserOf } from "./browser-of";

it.each([
  [
    "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/130.0 Safari/537.36",
    "Chromium on Linux",
  ],
  [
    "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1 Version/18.0 Safari/604.1",
    "Safari on iOS",
  ],
  ["Mozilla/5.0 (Windows NT 10.0; rv:132.0) Gecko/20100101 Firefox/132.0", "Firefox on Windows"],
  ["curl/8.9", "curl"],
  ["", "An unknown program"],
])("%s", (agent, words) => expect(browserOf(agent)).toBe(words));
