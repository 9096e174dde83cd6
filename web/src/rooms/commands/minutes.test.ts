import { describe, expect, it } from "vitest";
import { minutesWords } from "./minutes";

describe("minutesWords", () => {
  it("says minutes and hours as the server does", () => {
    expect(minutesWords(1)).toBe("1 minute");
    expect(minutesWords(20)).toBe("20 minutes");
    expect(minutesWords(60)).toBe("1 hour");
    expect(minutesWords(120)).toBe("2 hours");
    expect(minutesWords(90)).toBe("1 h 30 min");
  });
});
