import { expect, test } from "vitest";
import type { Step } from "./api";
import { align, differences, differs } from "./beside";

const step = (text: string, verdict = "pass", took_ms = 10): Step => ({ line: 1, text, at_ms: 0, took_ms, verdict });

test("steps are aligned by what is written", () => {
  const a = ["start app", 'tap "A"', 'expect "B"', "end"].map((t) => step(t));
  const b = ["start app", 'tap "A"', 'tap "C"', 'expect "B"'].map((t) => step(t));
  expect(align(a, b)).toEqual([{ a: 0, b: 0 }, { a: 1, b: 1 }, { b: 2 }, { a: 2, b: 3 }, { a: 3 }]);
  expect(align([], b)).toHaveLength(4);
  expect(align(a, a)).toEqual(a.map((_, i) => ({ a: i, b: i })));
});

test("the first step that differs is told", () => {
  const a = [step("one"), step("two", "fail"), step("three", "pass", 5000)];
  const b = [step("one"), step("two"), step("three")];
  const pairs = align(a, b);
  expect(pairs.map((p) => differs(p, a, b))).toEqual(["", "fail and pass", "took much longer on one side"]);
  expect(differs({ b: 0 }, a, b)).toBe("only on the right");
});

test("circumstances are compared leaf by leaf", () => {
  const a = {
    device: { name: "kaede-7-1", model: "Kaede 7", os: "14", abilities: ["log", "home"] },
    levels: [{ factor: "language", value: "en-GB" }],
    attempt: 1,
    seed: 7,
    package: "ab".repeat(32),
  };
  const b = {
    device: { name: "kaede-7-2", model: "Kaede 7", os: "13", abilities: ["log", "text", "push"] },
    levels: [{ factor: "language", value: "de-DE" }],
    attempt: 2,
    seed: 7,
    package: "cd".repeat(32),
    more: true,
  };
  expect(differences(a, b)).toEqual([
    { name: "language", a: "en-GB", b: "de-DE" },
    { name: "os", a: "14", b: "13" },
    { name: "package", a: "abababababab…", b: "cdcdcdcdcdcd…" },
    { name: "abilities", a: "with home", b: "with push, text" },
    { name: "more", a: "", b: "true" },
  ]);
});
