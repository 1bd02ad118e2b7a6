// @vitest-environment happy-dom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { KeysHelp } from "./parts/keys";
import { everywhere, inHand, useShortcuts } from "./parts/shortcuts";
import { places } from "./places";
import { pageAt, pages } from "./routes";

afterEach(cleanup);

test("every path is one page, and every place has one of its own", () => {
  expect(new Set(pages.map((p) => p.path)).size).toBe(pages.length);
  for (const place of places) expect(pageAt(place.path)?.place).toBe(place);
  expect(new Set(places.map((p) => p.key)).size).toBe(places.length);
});

test("a page is found by its address, one that is spelt out before one with a name in it", () => {
  expect(pageAt("/by-hand/side")?.title).toBe("Side by side");
  expect(pageAt("/by-hand/7")?.path).toBe("/by-hand/:session");
  expect(pageAt("/runs/2/pictures")?.place.name).toBe("Runs");
  expect(pageAt("/findings/3")?.place.name).toBe("By hand");
  expect(pageAt("/calendar")?.place.name).toBe("Plans");
  expect(pageAt("/nowhere")).toBeUndefined();
});

test("the list of keys has every key that works, and every place", () => {
  render(<KeysHelp open onClose={() => {}} />);
  for (const words of [...Object.values(everywhere).filter((w) => !w.startsWith("then")), ...Object.values(inHand)])
    expect(screen.getByText(words)).toBeTruthy();
  for (const place of places) expect(screen.getByText(`go to ${place.name}`)).toBeTruthy();
});

function Holds({ does, on = true }: { does: () => void; on?: boolean }) {
  useShortcuts({ p: "keep a picture" }, { p: does }, { on });
  return <input aria-label="a field" />;
}

test("a key works where nothing is typed, and while it is on", () => {
  const does = vi.fn();
  const { rerender } = render(<Holds does={does} />);
  fireEvent.keyDown(document.body, { key: "p" });
  expect(does).toHaveBeenCalledTimes(1);
  fireEvent.keyDown(screen.getByLabelText("a field"), { key: "p" });
  fireEvent.keyDown(document.body, { key: "p", ctrlKey: true });
  fireEvent.keyDown(document.body, { key: "x" });
  expect(does).toHaveBeenCalledTimes(1);
  rerender(<Holds does={does} on={false} />);
  fireEvent.keyDown(document.body, { key: "p" });
  expect(does).toHaveBeenCalledTimes(1);
});
