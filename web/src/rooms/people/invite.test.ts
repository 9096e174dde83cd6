import { describe, expect, it } from "vitest";
import { addressesIn } from "./invite";

describe("addresses in a text", () => {
  it("are parted by anything that people put between them", () => {
    expect(addressesIn(" a@x.example, b@x.example;c@x.example\n\nd@x.example ")).toEqual([
      "a@x.example",
      "b@x.example",
      "c@x.example",
      "d@x.example",
    ]);
  });
  it("are none in an empty one", () => expect(addressesIn(" , ;\n")).toEqual([]));
});
