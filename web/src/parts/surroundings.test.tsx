// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Device, Surrounding } from "../data/api";
import type { Order, Status } from "../data/session";
import { Surroundings } from "./surroundings";

const row = (name: string, more: Partial<Surrounding>): Surrounding => ({
  name,
  label: name,
  about: `about ${name}`,
  ability: name,
  usual: "",
  varied: true,
  passing: false,
  open: false,
  choices: [],
  usage: [],
  ...more,
});

const table = [
  row("rotation", {
    label: "Held",
    choices: [
      { level: "portrait", words: "upright" },
      { level: "landscape", words: "across" },
    ],
  }),
  row("text size", { label: "Text", open: true, example: "130%", verb: "Set" }),
  row("permission camera", {
    label: "Permission",
    ability: "permissions",
    choices: [{ level: "deny", words: "deny" }],
  }),
  row("permission location", {
    label: "Permission",
    ability: "permissions",
    choices: [{ level: "deny", words: "deny" }],
  }),
  row("place", { label: "Place", open: true, example: "38.7059, -9.1444", verb: "Be there" }),
  row("battery", { label: "Battery", choices: [{ level: "15%", words: "15 %" }] }),
];

const devices = [
  { name: "kaede-7-1", kind: "emulator", platform: "android", abilities: ["battery"] },
] as unknown as Device[];

beforeEach(() => {
  vi.stubGlobal("fetch", (path: string) =>
    Promise.resolve(
      Response.json(
        path.endsWith("/surroundings")
          ? table
          : path.endsWith("/devices")
            ? devices
            : path.endsWith("/places")
              ? [{ name: "Quay", latitude: 1.5, longitude: 2 }]
              : [],
      ),
    ),
  );
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function shown(can: string[], felt: Status["felt"] = []) {
  const orders: Order[] = [];
  const status = { can, felt, front: "island.tideline" } as unknown as Status;
  const act = (o: Order) => {
    orders.push(o);
    return Promise.resolve({} as never);
  };
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <Surroundings number={1} status={status} act={act} />
    </QueryClientProvider>,
  );
  return orders;
}

test("each row of the table that the device can do has a control, and the rest is told", async () => {
  shown(["rotation", "text size", "permissions", "place"]);
  await screen.findByRole("group", { name: "Held" });
  expect(screen.getAllByRole("group").map((g) => g.getAttribute("aria-label"))).toEqual([
    "Held",
    "Text",
    "Permission",
    "Place",
  ]);
  expect((await screen.findByText(/^battery:/)).textContent).toBe("battery: emulators for android can");
});

test("a choice, and a level that is written, are ordered in the table's words", async () => {
  const orders = shown(["rotation", "text size"]);
  await userEvent.click(await screen.findByRole("button", { name: "across" }));
  const text = within(screen.getByRole("group", { name: "Text" }));
  await userEvent.click(text.getByRole("button", { name: "Set" }));
  await userEvent.type(text.getByRole("textbox"), "85%{Enter}");
  expect(orders).toEqual([
    { do: "feel", name: "rotation", text: "landscape" },
    { do: "feel", name: "text size", text: "130%" },
    { do: "feel", name: "text size", text: "85%" },
  ]);
});

test("what is of many kinds has one control", async () => {
  const orders = shown(["permissions"]);
  const one = within(await screen.findByRole("group", { name: "Permission" }));
  await userEvent.click(one.getByRole("button", { name: "deny" }));
  expect(orders).toEqual([{ do: "feel", name: "permission camera", text: "deny" }]);
});

test("what was changed is undone one by one, or all at once", async () => {
  const orders = shown(["rotation"], [{ what: "rotation", words: "is held across" }]);
  await userEvent.click(await screen.findByRole("button", { name: "Undo: is held across" }));
  await userEvent.click(screen.getByRole("button", { name: "Undo all" }));
  expect(orders).toEqual([{ do: "undo", name: "rotation" }, { do: "undo" }]);
});

test("a table that cannot be had is said, and asked for again", async () => {
  vi.stubGlobal("fetch", () =>
    Promise.resolve(Response.json({ title: "the service restarts", status: 503 }, { status: 503 })),
  );
  shown(["rotation"]);
  expect(await screen.findByText(/is not known: the service restarts/)).toBeTruthy();
  expect(screen.getByRole("button", { name: "Ask again" })).toBeTruthy();
});
