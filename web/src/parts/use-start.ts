import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** Opens the dialog that starts a run, over any page. */
export function useStart() {
  const [, set] = useSearchParams();
  return useCallback(
    (more: Record<string, string> = {}) =>
      set((p) => {
        p.set("start", "1");
        for (const [k, v] of Object.entries(more)) p.set(k, v);
        return p;
      }),
    [set],
  );
}
