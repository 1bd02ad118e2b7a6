import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";
import { inProject, useGet } from "../data/api";

/** What plans and suites may need. */
export type Needed = { kind: "lineup" | "suite" | "secret" | "plan"; name: string };

/** "the plan nightly and the suite Pay need it" */
export function needWords(by: string[]): string {
  if (by.length === 0) return "";
  const some = by.length > 5 ? [...by.slice(0, 5), `${by.length - 5} more`] : by;
  const list = some.length > 1 ? `${some.slice(0, -1).join(", ")} and ${some.at(-1)}` : some[0]!;
  return `${list.charAt(0).toUpperCase()}${list.slice(1)} ${by.length > 1 ? "need" : "needs"} it.`;
}

type Question = { question: string; more?: string; needed?: Needed; does: string; onYes: () => void };

/** Asks once before what cannot be taken back, with what hangs on it. Its child opens it, or whoever holds open. */
export function Sure({
  children,
  open,
  onOpenChange,
  ...q
}: Question & { children?: ReactNode; open?: boolean; onOpenChange?: (open: boolean) => void }) {
  return (
    <AlertDialog.Root {...(open === undefined ? {} : { open })} {...(onOpenChange ? { onOpenChange } : {})}>
      {children && <AlertDialog.Trigger asChild>{children}</AlertDialog.Trigger>}
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-shade" />
        <AlertDialog.Content className="card fixed top-[24vh] left-1/2 z-50 w-[min(460px,94vw)] -translate-x-1/2 px-5 py-4">
          <Asked {...q} />
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

function Asked({ question, more, needed, does, onYes }: Question) {
  const needs = useGet<{ needed_by: string[] }>(
    needed ? `needs?kind=${needed.kind}&name=${encodeURIComponent(needed.name)}` : "",
    { enabled: needed !== undefined, staleTime: 0 },
  );
  const waiting = needed !== undefined && needs.isPending;
  return (
    <>
      <AlertDialog.Title className="text-lg font-semibold">{question}</AlertDialog.Title>
      <AlertDialog.Description className="pt-1 text-soft">
        {needed && needs.data && needs.data.needed_by.length > 0 && (
          <b className="font-medium text-ink">{needWords(needs.data.needed_by)} </b>
        )}
        {needed && needs.error && "What needs it could not be read. "}
        {waiting ? "Looking for what needs it…" : more}
      </AlertDialog.Description>
      <div className="flex justify-end gap-2 pt-4">
        <AlertDialog.Cancel className="button">Leave it</AlertDialog.Cancel>
        <AlertDialog.Action className="button button-main" disabled={waiting} onClick={onYes}>
          {does}
        </AlertDialog.Action>
      </div>
    </>
  );
}

/** The path that removes something though it is needed: who did so was told. */
export const anyway = (path: string) => `${inProject(path)}?anyway=true`;
