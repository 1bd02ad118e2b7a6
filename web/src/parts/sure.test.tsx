// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, test, vi } from "vitest";
import { setProject } from "../data/api";
import { needWords, Sure } from "./sure";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function show(answer: unknown, onYes: () => void) {
  setProject("default");
  const told = vi.fn(() =>
    Promise.resolve(new Response(JSON.stringify(answer), { headers: { "Content-Type": "application/json" } })),
  );
  vi.stubGlobal("fetch", told);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Sure
        question="Remove the suite Pay?"
        more="Its runs stay."
        needed={{ kind: "suite", name: "Pay" }}
        does="Remove it"
        onYes={onYes}
      >
        <button>Remove</button>
      </Sure>
    </QueryClientProvider>,
  );
  return told;
}

test("what hangs on a thing is told before it is removed, and only a yes removes it", async () => {
  const yes = vi.fn();
  show({ needed_by: ["the plan nightly"] }, yes);
  await userEvent.click(screen.getByText("Remove"));
  await screen.findByText("The plan nightly needs it.");
  screen.getByText("Its runs stay.");
  await userEvent.click(screen.getByText("Leave it"));
  await waitFor(() => expect(screen.queryByText("Remove the suite Pay?")).toBeNull());
  expect(yes).not.toHaveBeenCalled();
  await userEvent.click(screen.getByText("Remove"));
  await userEvent.click(await screen.findByText("Remove it"));
  expect(yes).toHaveBeenCalledTimes(1);
});

test("nothing is removed before it is known what needs it", async () => {
  let answer: (told: Response) => void = () => {};
  setProject("default");
  vi.stubGlobal(
    "fetch",
    vi.fn(() => new Promise<Response>((r) => (answer = r))),
  );
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Sure question="Remove it?" needed={{ kind: "plan", name: "x" }} does="Yes" onYes={() => {}}>
        <button>Remove</button>
      </Sure>
    </QueryClientProvider>,
  );
  await userEvent.click(screen.getByText("Remove"));
  expect(screen.getByText<HTMLButtonElement>("Yes").disabled).toBe(true);
  answer(new Response(JSON.stringify({ needed_by: [] }), { headers: { "Content-Type": "application/json" } }));
  await waitFor(() => expect(screen.getByText<HTMLButtonElement>("Yes").disabled).toBe(false));
});

describe("what needs a thing, in words", () => {
  it("names one, some, and how many more", () => {
    expect(needWords([])).toBe("");
    expect(needWords(["the plan nightly"])).toBe("The plan nightly needs it.");
    expect(needWords(["the plan a", "the suite b"])).toBe("The plan a and the suite b need it.");
    expect(needWords(["a", "b", "c", "d", "e", "f", "g"])).toBe("A, b, c, d, e and 2 more need it.");
  });
});
