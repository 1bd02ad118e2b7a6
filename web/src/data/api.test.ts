import { afterEach, expect, test, vi } from "vitest";
import { inProject, post } from "./api";

const answers = () => {
  const keys: string[] = [];
  let fails = 0;
  vi.stubGlobal("fetch", (_: string, init: { headers: Record<string, string> }) => {
    keys.push(init.headers["Idempotency-Key"]!);
    if (fails-- > 0) return Promise.reject(new TypeError("no network"));
    return Promise.resolve(new Response(JSON.stringify({ number: keys.length }), { status: 200 }));
  });
  return { keys, fail: (n: number) => (fails = n) };
};

afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

test("a second click is the same wish, and a later one is another", async () => {
  vi.useFakeTimers();
  const a = answers();
  const runs = inProject("runs");
  const both = await Promise.all([post(runs, { build: "1" }), post(runs, { build: "1" })]);
  expect(both).toEqual([{ number: 1 }, { number: 1 }]);
  expect(await post(runs, { build: "1" })).toEqual({ number: 1 }); // the second of a double click
  expect(await post(runs, { build: "2" })).toEqual({ number: 2 }); // another wish at once
  vi.advanceTimersByTime(1001);
  expect(await post(runs, { build: "1" })).toEqual({ number: 3 });
  expect(new Set(a.keys).size).toBe(3);
});

test("trying again after no answer is the same wish", async () => {
  const a = answers();
  a.fail(1);
  await expect(post(inProject("sessions"), { device: "kaede-7-1" })).rejects.toThrow("does not answer");
  await post(inProject("sessions"), { device: "kaede-7-1" });
  expect(a.keys).toHaveLength(2);
  expect(a.keys[0]).toBe(a.keys[1]);
});

test("what makes nothing is asked anew each time", async () => {
  answers();
  expect(await post(inProject("plans/trial"), { text: "x" })).toEqual({ number: 1 });
  expect(await post(inProject("plans/trial"), { text: "x" })).toEqual({ number: 2 });
});
