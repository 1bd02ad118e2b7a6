import { expect, test } from "vitest";
import { at, lasting, plural, size } from "./time";

test("amounts read as people say them", () => {
  expect([0, 850, 4200, 60_000, 200_000, 7_500_000, 7_200_000].map(lasting)).toEqual([
    "0 ms",
    "850 ms",
    "4.2 s",
    "1 min",
    "3 min 20 s",
    "2 h 5 min",
    "2 h",
  ]);
  expect([12, 5200, 40_300_000, 2.5e9].map(size)).toEqual(["12 B", "5 kB", "40.3 MB", "2.50 GB"]);
  expect([plural(1, "device"), plural(3, "device"), plural(2, "box", "boxes")]).toEqual([
    "1 device",
    "3 devices",
    "2 boxes",
  ]);
});

test("a time of another day tells the day", () => {
  expect(at(new Date())).toMatch(/^\d\d:\d\d:\d\d$/);
  expect(at("2020-06-01T12:00:00Z")).toMatch(/Jun.*2020/);
  const other = new Date(new Date().getFullYear(), new Date().getMonth() < 6 ? 10 : 2, 3, 9, 5);
  expect(at(other)).toMatch(/09:05$/);
  expect(at(other)).not.toContain(String(other.getFullYear()));
});
