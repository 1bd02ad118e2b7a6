import { useSyncExternalStore } from "react";
import { undo } from "../data/undo";

/** What was done a moment ago, with the way back. It stands at the foot of every page for ten seconds. */
export function UndoBar() {
  const done = useSyncExternalStore(undo.subscribe, undo.read);
  return (
    <div role="status" className="pointer-events-none fixed inset-x-0 bottom-14 z-50 flex justify-center px-3">
      {done && (
        <div
          className="card pointer-events-auto flex max-w-[94vw] flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2"
          onPointerEnter={() => undo.hold(true)}
          onPointerLeave={() => undo.hold(false)}
          onFocus={() => undo.hold(true)}
          onBlur={() => undo.hold(false)}
        >
          <span>
            {done.words}
            {done.trouble !== undefined && (
              <span className="text-petrol">
                {" "}
                It could not be taken back:{" "}
                {done.trouble instanceof Error ? done.trouble.message : "something went wrong"}.
              </span>
            )}
          </span>
          <span className="flex gap-2">
            <button className="button" disabled={done.busy} onClick={() => void undo.take()}>
              {done.trouble === undefined ? "Undo" : "Try again"}
            </button>
            <button className="link" onClick={() => undo.close()}>
              Leave it so
            </button>
          </span>
        </div>
      )}
    </div>
  );
}
