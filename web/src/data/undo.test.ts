import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Undo, undoFor } from "./undo";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

test("what was done can be taken back for ten seconds, and then stands", async () => {
  const u = new Undo();
  const back = vi.fn(() => Promise.resolve());
  u.offer("the lineup small is removed", back);
  vi.advanceTimersByTime(undoFor - 1);
  expect(u.read()?.words).toBe("the lineup small is removed");
  vi.advanceTimersByTime(1);
  expect(u.read()).toBeUndefined();
  await u.take();
  expect(back).not.toHaveBeenCalled();
});

test("a second click takes nothing back twice", async () => {
  const u = new Undo();
  let end = () => {};
  const back = vi.fn(() => new Promise<void>((done) => (end = done)));
  u.offer("moved", back);
  const first = u.take();
  await u.take();
  vi.advanceTimersByTime(10 * undoFor);
  expect(u.read()?.busy).toBe(true);
  end();
  await first;
  expect(back).toHaveBeenCalledTimes(1);
  expect(u.read()).toBeUndefined();
});

test("while somebody is at it the time does not go on", () => {
  const u = new Undo();
  u.offer("moved", () => Promise.resolve());
  vi.advanceTimersByTime(6_000);
  u.hold(true);
  vi.advanceTimersByTime(60_000);
  expect(u.read()).toBeDefined();
  u.hold(false);
  vi.advanceTimersByTime(3_999);
  expect(u.read()).toBeDefined();
  vi.advanceTimersByTime(1);
  expect(u.read()).toBeUndefined();
});

test("what cannot be taken back says why, until it is closed; what is done meanwhile takes its place", async () => {
  const u = new Undo();
  const seen: (string | undefined)[] = [];
  u.subscribe(() => seen.push(u.read()?.words));
  u.offer("moved", () => Promise.reject(new Error("it has started meanwhile")));
  await u.take();
  vi.advanceTimersByTime(10 * undoFor);
  expect(u.read()?.trouble).toEqual(new Error("it has started meanwhile"));
  u.offer("moved again", () => Promise.resolve());
  expect(u.read()?.trouble).toBeUndefined();
  vi.advanceTimersByTime(undoFor);
  expect(u.read()).toBeUndefined();
  expect(seen.at(-1)).toBeUndefined();
});
