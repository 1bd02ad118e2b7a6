import { describe, expect, it } from "vitest";
import { needWords } from "./sure";

describe("what needs a thing, in words", () => {
  it("names one, some, and how many more", () => {
    expect(needWords([])).toBe("");
    expect(needWords(["the plan nightly"])).toBe("The plan nightly needs it.");
    expect(needWords(["the plan a", "the suite b"])).toBe("The plan a and the suite b need it.");
    expect(needWords(["a", "b", "c", "d", "e", "f", "g"])).toBe("A, b, c, d, e and 2 more need it.");
  });
});
