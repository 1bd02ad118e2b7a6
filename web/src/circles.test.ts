import { readdirSync, readFileSync } from "node:fs";
import { dirname, join, normalize } from "node:path";
import { expect, test } from "vitest";

/** What each module imports when it is loaded; what it only knows the types of does not count. */
function imports(): Map<string, string[]> {
  const files = readdirSync("src", { recursive: true, encoding: "utf8" })
    .map((f) => join("src", f))
    .filter((f) => /\.tsx?$/.test(f) && !f.includes(".test."));
  const known = new Set(files);
  return new Map(
    files.map((file) => [
      file,
      [...readFileSync(file, "utf8").matchAll(/^import (?!type\b)[^;]*? from "(\.[^"]+)";$/gm)]
        .map((m) => normalize(join(dirname(file), m[1]!)))
        .flatMap((to) => [`${to}.tsx`, `${to}.ts`].filter((f) => known.has(f))),
    ]),
  );
}

test("no module of the console imports itself by way of others", () => {
  const graph = imports();
  expect(graph.size).toBeGreaterThan(80);
  const done = new Set<string>();
  const circles: string[] = [];
  const walk = (file: string, way: string[]) => {
    if (way.includes(file)) circles.push([...way.slice(way.indexOf(file)), file].join(" → "));
    if (done.has(file) || way.includes(file)) return;
    for (const to of graph.get(file) ?? []) walk(to, [...way, file]);
    done.add(file);
  };
  for (const file of graph.keys()) walk(file, []);
  expect(circles).toEqual([]);
});
