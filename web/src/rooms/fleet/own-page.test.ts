import { describe, expect, it } from "vitest";
import { ownPage } from "./own-page";

describe("a device's own page", () => {
  it("is an address of the web", () => {
    expect(ownPage({ page_url: "http://10.0.4.7:8080/status" })).toBe("http://10.0.4.7:8080/status");
    expect(ownPage({ page_url: "https://sill-0007.example/" })).toBe("https://sill-0007.example/");
  });

  it.each(["javascript:alert(1)", "data:text/html,x", "file:///etc/passwd", "not an address", "", 7, null, undefined])(
    "is not %s",
    (said) => expect(ownPage({ page_url: said })).toBeNull(),
  );

  it("is none without facts", () => expect(ownPage(null)).toBeNull());
});
