import { Dialog } from "radix-ui";
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { get, inProject, type Found } from "../data/api";

const sorts: Record<string, string> = { run: "Run", build: "Build", suite: "Suite", case: "Case", device: "Device" };

/** Search over everything: type, choose with the arrows, go with Enter. */
export function Search({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const q = useDeferredValue(text.trim());
  const found = useQuery({
    queryKey: ["search", q],
    queryFn: () => get<Found[]>(inProject(`search?q=${encodeURIComponent(q)}`)),
    enabled: open && q !== "",
    placeholderData: (before) => before,
  });
  const list = q === "" ? [] : (found.data ?? []);
  useEffect(() => setAt(0), [q]);
  const go = (f: Found | undefined) => {
    if (!f) return;
    onClose();
    setText("");
    void navigate(f.path);
  };
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-shade" />
        <Dialog.Content
          aria-describedby={undefined}
          className="card fixed top-[12vh] left-1/2 z-50 w-[min(620px,94vw)] -translate-x-1/2 overflow-hidden"
        >
          <Dialog.Title className="sr-only">Find</Dialog.Title>
          <input
            autoFocus
            role="combobox"
            aria-label="Find"
            aria-expanded={list.length > 0}
            aria-controls="found"
            aria-activedescendant={list[at] ? `found-${at}` : undefined}
            placeholder="A run's number, a version, a case, a device…"
            value={text}
            onChange={(e) => setText(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === "ArrowDown") setAt((n) => Math.min(n + 1, list.length - 1));
              else if (e.key === "ArrowUp") setAt((n) => Math.max(n - 1, 0));
              else if (e.key === "Enter") go(list[at]);
              else return;
              e.preventDefault();
            }}
            className="h-12 w-full border-b border-rule bg-transparent px-5 text-lg outline-none placeholder:text-faint"
          />
          <ul id="found" role="listbox" aria-label="Found" className="max-h-[52vh] overflow-auto py-1">
            {list.map((f, i) => (
              <li
                key={f.path + f.title}
                id={`found-${i}`}
                role="option"
                aria-selected={i === at}
                onMouseMove={() => setAt(i)}
                onClick={() => go(f)}
                className={`flex items-baseline gap-3 px-5 py-1.5 ${i === at ? "bg-wash" : ""}`}
              >
                <span className="w-12 flex-none text-sm text-soft">{sorts[f.sort] ?? f.sort}</span>
                <span className="truncate font-medium">{f.title}</span>
                <span className="truncate text-soft">{f.detail}</span>
              </li>
            ))}
          </ul>
          {q !== "" && found.isSuccess && list.length === 0 && (
            <p className="px-5 py-3 text-soft">
              Nothing here is called that. Try part of a name, a version, or a run&#8217;s number.
            </p>
          )}
          {q === "" && (
            <p className="px-5 py-3 text-soft">
              Runs by number or version, builds, suites, cases, and devices by name, model or site.
            </p>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
