import { describe, expect, test, vi } from "vitest";
import type { RunDetail } from "./api";
import { fold, levelShort, Weave, type Verdict } from "./weave";

vi.stubGlobal("window", globalThis);
vi.stubGlobal("requestAnimationFrame", (f: () => void) => setTimeout(f, 16));
vi.stubGlobal("cancelAnimationFrame", (n: number) => clearTimeout(n));

type Leg = RunDetail["legs"][number];

function leg(
  id: number,
  model: string,
  suite: string,
  cases: [string, Verdict[]][],
  state: Leg["state"] = "finished",
): Leg {
  return {
    id,
    suite,
    combination: {
      kind: "emulator",
      model,
      platform: "android",
      os: "14",
      language: "en-GB",
      levels: [{ factor: "language", value: "en-GB" }],
    },
    state,
    attempts: [{ number: 1, device: `${model}-1`, began: "2026-06-01T09:41:00Z" }],
    cases: cases.map(([name, verdicts], index) => ({
      index,
      name,
      ...fold(verdicts),
      results: verdicts.map((verdict, i) => ({
        attempt: i + 1,
        device: `${model}-1`,
        verdict,
        took_ms: 5,
        sentence: verdict === "fail" ? "it is not there" : undefined,
      })),
    })),
  };
}

const detail = (...legs: Leg[]): RunDetail => ({
  run: { number: 1, last_event: 0 } as RunDetail["run"],
  legs,
  left_out: [],
});

// The rule of internal/core/verdict, by its own table.
test.each([
  [[], "none", false, false],
  [["pass"], "pass", false, false],
  [["error"], "error", false, false],
  [["error", "pass"], "pass", false, true],
  [["pass", "error"], "pass", false, false],
  [["fail", "pass"], "pass", true, false],
  [["pass", "fail"], "fail", true, false],
  [["fail", "error", "fail"], "fail", false, false],
  [["skip"], "skip", false, false],
] as [Verdict[], Verdict, boolean, boolean][])("%j folds to %s", (list, verdict, flaky, recovered) => {
  expect(fold(list)).toEqual({ verdict, flaky, recovered });
});

describe("the weave", () => {
  test("puts columns together by a factor, and folds a group into what wants attention most", () => {
    const spoken = (id: number, model: string, language: string, verdict: Verdict): Leg => {
      const l = leg(id, model, "Tickets", [["a", [verdict]]]);
      l.combination = {
        ...l.combination,
        language,
        levels: [{ factor: "language", value: language, words: language }],
      };
      return l;
    };
    const w = new Weave(
      detail(
        spoken(1, "Kaede 7", "en-GB", "pass"),
        spoken(2, "Kaede 7", "de-DE", "pass"),
        spoken(3, "Aster 12", "en-GB", "pass"),
        spoken(4, "Aster 12", "de-DE", "fail"),
      ),
    );
    expect(w.columns).toHaveLength(4);
    expect(w.factors()).toEqual(["model", "language"]);
    w.group("language", new Set());
    expect(w.columns.map((c) => c.group)).toEqual(["de-DE", "de-DE", "en-GB", "en-GB"]);
    w.group("language", new Set(["de-DE"]));
    expect(w.columns.map((c) => [c.group, c.members?.length])).toEqual([
      ["de-DE", 2],
      ["en-GB", undefined],
      ["en-GB", undefined],
    ]);
    expect(w.crossing(w.rows[0]!, w.columns[0]!)?.leg).toBe(4);
    w.group("", new Set());
    expect(w.columns.map((c) => c.group)).toEqual(["", "", "", ""]);
  });

  test("sorts so that failures come together, suites by their worst", () => {
    const w = new Weave(
      detail(
        leg(1, "Kaede 7", "Calm", [
          ["a", ["pass"]],
          ["b", ["pass"]],
        ]),
        leg(2, "Aster 12", "Calm", [
          ["a", ["pass"]],
          ["b", ["pass"]],
        ]),
        leg(3, "Kaede 7", "Rough", [
          ["c", ["pass"]],
          ["d", ["pass"]],
        ]),
        leg(4, "Aster 12", "Rough", [
          ["c", ["pass"]],
          ["d", ["fail"]],
        ]),
      ),
    );
    expect(w.rows.map((r) => r.name)).toEqual(["d", "c", "a", "b"]);
    expect(w.columns.map((c) => c.combination.model)).toEqual(["Aster 12", "Kaede 7"]);
    expect(w.rows.filter((r) => r.first).map((r) => r.suite)).toEqual(["Rough", "Calm"]);
    expect(w.firstOf(4)).toBe(1);
    expect(w.firstOf(1)).toBe(0);
    expect(w.find(4, 1)?.crossing.sentence).toBe("it is not there");
  });

  test("takes events in, and shows them once a frame", async () => {
    vi.useFakeTimers();
    const w = new Weave(
      detail(
        leg(
          1,
          "Kaede 7",
          "s",
          [
            ["a", []],
            ["b", []],
          ],
          "running",
        ),
      ),
    );
    const told = vi.fn();
    w.subscribe(told);
    expect(w.find(1, 0)?.crossing.running).toBe(true); // what a running leg has still to judge first
    w.take([
      { kind: "attempt", leg: 1, attempt: 1 },
      { kind: "case", leg: 1, case_index: 0 },
      { kind: "result", leg: 1, case_index: 0, verdict: "fail", sentence: "it is 6.3" },
    ]);
    w.take([{ kind: "case", leg: 1, case_index: 1 }]);
    expect(told).not.toHaveBeenCalled();
    await vi.advanceTimersByTimeAsync(20);
    expect(told).toHaveBeenCalledTimes(1);
    expect(w.find(1, 0)?.crossing).toMatchObject({ verdict: "fail", running: false, sentence: "it is 6.3" });
    expect(w.find(1, 1)?.crossing.running).toBe(true);
    expect([...w.busy()]).toHaveLength(1);

    w.take([
      { kind: "again", leg: 1 },
      { kind: "result", leg: 1, case_index: 0, verdict: "pass" },
    ]);
    await vi.advanceTimersByTimeAsync(1000);
    expect(w.find(1, 0)?.crossing).toMatchObject({ verdict: "pass", flaky: true });
    expect(w.busy().size).toBe(0);

    w.take([{ kind: "leg", leg: 1, state: "finished" }]);
    expect(w.find(1, 1)?.crossing.verdict).toBe("error"); // its attempts ended before it could be judged
    w.stop();
    vi.useRealTimers();
  });

  test("is told of what it does not know, and goes on", () => {
    const w = new Weave(detail(leg(1, "Kaede 7", "s", [["a", []]])));
    w.take([
      { kind: "result", leg: 9, case_index: 0, verdict: "pass" },
      { kind: "run", state: "finished" },
      { kind: "tomorrow", leg: 1 },
    ]);
    expect(w.find(1, 0)?.crossing.verdict).toBe("none");
    w.stop();
  });
});

describe("the heads over columns", () => {
  const varied = (id: number, model: string, language: string, size: string, verdicts: Verdict[]): Leg => {
    const l = leg(id, model, "s", [["a", verdicts]]);
    l.combination = {
      ...l.combination,
      levels: [
        { factor: "language", value: language },
        { factor: "text size", value: size, words: `text at ${size}` },
      ],
    };
    return l;
  };
  const model = () =>
    new Weave(
      detail(
        varied(1, "Kaede 7", "en-GB", "100%", ["pass"]),
        varied(2, "Minato Fold", "de-DE", "100%", ["pass"]),
        varied(3, "Kaede 7", "de-DE", "100%", ["pass"]),
        varied(4, "Minato Fold", "en-GB", "100%", ["fail"]),
      ),
    );
  test("tell the factors that differ, and no others", () => {
    expect(model().heads()).toEqual(["model", "language"]);
    expect(new Weave(detail(varied(1, "Kaede 7", "en-GB", "100%", ["pass"]))).heads()).toEqual(["model", "system"]);
  });
  test("stand over columns of one level, those in which more failed first", () => {
    expect(model().columns.map((c) => [c.combination.model, c.combination.levels[0]!.value].join(" "))).toEqual([
      "Minato Fold en-GB",
      "Minato Fold de-DE",
      "Kaede 7 de-DE",
      "Kaede 7 en-GB",
    ]);
  });
  test("leave the factor out of its levels", () => {
    expect(levelShort(varied(1, "Kaede 7", "en-GB", "130%", []).combination, "text size")).toBe("130%");
  });
});
