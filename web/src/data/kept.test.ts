import { expect, test } from "vitest";
import { calls, failed } from "./calls";
import { firstCall, lastBefore, moments } from "./log";
import { amount, largest, readings } from "./readings";

test("steps, lines and calls stand in the order in which they were", () => {
  const rows = moments([{ at_ms: 0 }, { at_ms: 50 }], { length: 3, times: [10, 50, 90] }, [{ at: 20 }, { at: 90 }]);
  expect([...rows]).toEqual([-1, 0, firstCall, -2, 1, firstCall + 1, 2]);
  expect([...moments([], { length: 0, times: [] }, [{ at: 1 }])]).toEqual([firstCall]);
  const times = [10, 20, 20, 30];
  expect([5, 10, 20, 25, 99].map((ms) => lastBefore((i) => times[i]!, 4, ms))).toEqual([-1, 0, 2, 2, 3]);
});

test("an archive is read, whatever its addresses are", () => {
  const entry = (at: number, url: string, status: number) => ({
    time: 40,
    _at_ms: at,
    startedDateTime: "2026-03-01T08:00:00Z",
    request: { method: "GET", url, headers: [] },
    response: { status, headers: [], bodySize: 5, content: { mimeType: "text/plain", text: "hello" } },
    timings: { wait: 30, receive: 10 },
  });
  const list = calls({
    log: { entries: [entry(90, "https://sorane.example/tickets?from=Sora", 200), entry(20, "no address", 0)] },
  });
  expect(list.map((c) => c.short)).toEqual(["no address", "/tickets?from=Sora"]);
  expect(list.map(failed)).toEqual([true, false]);
});

test("readings are read, and the largest of a span is found", () => {
  const r = readings('ms,cpu (percent),memory (bytes),"od,d"\r\n0,,100,\n500,50,300,7\n1000,20,200,\n');
  expect(r.figures.map((f) => [f.name, f.unit])).toEqual([
    ["cpu", "percent"],
    ["memory", "bytes"],
    ["od,d", ""],
  ]);
  const memory = r.figures[1]!;
  expect(largest(r, memory, 400, 1100)).toBe(300);
  expect(largest(r, memory, 600, 700)).toBe(300);
  expect(largest(r, r.figures[0]!, 0, 400)).toBeNaN();
  expect([amount(49_844_224, "bytes"), amount(3.25, "percent"), amount(NaN, "bytes"), amount(1234, "")]).toEqual([
    "49.8 MB",
    "3.3 %",
    "",
    "1,234",
  ]);
  expect(readings("").figures).toEqual([]);
});
