import { expect, test } from "vitest";
import { Log, moments } from "./log";

const text =
  "    0.000 info  packages: example.tideline 3.2.0 installed\n    1.250 error crash: a: colon, and more\nno form at all\n    2.000 warn  map: late";

test("lines are cut out as the host wrote them, the last one with or without its end", async () => {
  for (const t of [text, text + "\n"]) {
    const log = await Log.of(t);
    expect(log.length).toBe(4);
    expect(log.line(0)).toEqual({ at: 0, level: "info", tag: "packages", text: "example.tideline 3.2.0 installed" });
    expect(log.line(1)).toEqual({ at: 1250, level: "error", tag: "crash", text: "a: colon, and more" });
    expect(log.line(2)).toEqual({ at: 1250, level: "", tag: "", text: "no form at all" });
    expect(log.line(3).text).toBe("late");
  }
  expect((await Log.of("")).length).toBe(0);
});

test("very many lines are found, whatever their number", async () => {
  const n = 60_123;
  const log = await Log.of(
    Array.from({ length: n }, (_, i) => `${(i / 1000).toFixed(3).padStart(9)} info  t: line ${i}\n`).join(""),
  );
  expect(log.length).toBe(n);
  expect(log.line(n - 1).text).toBe(`line ${n - 1}`);
  expect(log.line(25_000).text).toBe("line 25000");
});

test("steps and lines of the log stand in the order in which they happened", async () => {
  const log = await Log.of(text);
  expect([...moments([{ at_ms: 0 }, { at_ms: 1300 }, { at_ms: 9000 }], log)]).toEqual([-1, 0, 1, 2, -2, 3, -3]);
  expect([...moments([], log)]).toEqual([0, 1, 2, 3]);
  expect([...moments([{ at_ms: 5 }], Log.none)]).toEqual([-1]);
});
