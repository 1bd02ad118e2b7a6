import { expect, test } from "vitest";
import { within } from "./within";

const origin = "https://yamato.example";

test("an address leads to a page of this service, as the browser reads it", () => {
  for (const to of ["/", "/runs/1", "/runs/1?columns=0#x", "/a/b"]) expect(within(to, origin)).toBe(to);
  expect(within("https://yamato.example/runs/1", origin)).toBe("/runs/1");
  for (const to of [
    null,
    "//evil.example",
    "/\\evil.example",
    "/\t/evil.example",
    "/\n/evil.example",
    "\t//evil.example",
    "https://evil.example/",
    "javascript:alert(1)",
    "http:evil",
    "//",
    "/.//evil.example",
    "data:text/html,x",
  ]) {
    const there = within(to, origin);
    expect(new URL(there, origin).origin, String(to)).toBe(origin);
    expect(there.startsWith("//"), String(to)).toBe(false);
  }
});
