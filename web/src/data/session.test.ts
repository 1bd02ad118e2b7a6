import { expect, test } from "vitest";
import { clock, LogBook, type Line } from "./session";

const line = (n: number, level = "info"): Line => ({ at_ms: n * 10, level, tag: "app", text: `line ${n}` });

test("lines that are read and lines that are told come together, each once", async () => {
  const book = new LogBook();
  book.add(3, [line(3), line(4, "error")]); // told before the rest was read
  expect(book.lines.slice(0, 3)).toEqual([undefined, undefined, undefined]);
  await book.read([0, 1, 2, 3, 4].map((n) => JSON.stringify(line(n, n === 4 ? "error" : "info"))).join("\n") + "\n");
  expect(book.lines.map((l) => l?.text)).toEqual(["line 0", "line 1", "line 2", "line 3", "line 4"]);
  expect(book.errors).toBe(1);
});

test("200,000 lines are taken in without holding the page up", async () => {
  const book = new LogBook();
  const text = Array.from({ length: 200_000 }, (_, n) => JSON.stringify(line(n))).join("\n");
  let turns = 0;
  const other = setInterval(() => turns++, 0);
  await book.read(text);
  clearInterval(other);
  expect(book.lines.length).toBe(200_000);
  expect(book.lines[199_999]?.text).toBe("line 199999");
  expect(turns).toBeGreaterThan(5); // others have their turn in between
});

test("a moment is told as a clock does", () => {
  expect(clock(0)).toBe("0:00.0");
  expect(clock(65_340)).toBe("1:05.3");
  expect(clock(3_600_000)).toBe("60:00.0");
});
