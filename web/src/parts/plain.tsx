// Small parts that pages share.
import { Dialog, Tooltip } from "radix-ui";
import type { ReactNode } from "react";
import { Problem } from "../data/api";

export function Heading({ title, children, about }: { title: ReactNode; children?: ReactNode; about?: ReactNode }) {
  return (
    <header className="flex flex-wrap items-end justify-between gap-x-6 gap-y-2 pb-4">
      <div className="min-w-0">
        <h1 className="truncate">{title}</h1>
        {about && <div className="text-soft">{about}</div>}
      </div>
      {children && <div className="flex flex-wrap items-center gap-2">{children}</div>}
    </header>
  );
}

export function Section({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <section aria-label={title} className="pb-6">
      <div className="flex items-baseline justify-between border-b border-strong pb-1">
        <h2>{title}</h2>
        {aside && <span className="text-sm text-soft">{aside}</span>}
      </div>
      {children}
    </section>
  );
}

/** Says what would be here, and what puts it here. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="py-8">
      <p className="text-lg font-medium">{title}</p>
      {children && <div className="max-w-prose space-y-2 pt-1 text-soft">{children}</div>}
    </div>
  );
}

export function Trouble({ of, retry }: { of: unknown; retry?: () => void }) {
  const p =
    of instanceof Problem
      ? of
      : new Problem("This page could not do its work.", 0, of instanceof Error ? of.message : undefined);
  return (
    <div role="alert" className="my-2 border-l-2 border-petrol bg-petrol-wash px-3 py-2">
      <p className="font-medium text-petrol">{p.message}</p>
      {p.hint && <p className="text-soft">{p.hint}</p>}
      {p.leftOut?.map((l, i) => (
        <p key={i} className="text-soft">
          {l.combination.model} {l.combination.os}: {l.reasons.map((r) => `${r.why}; ${r.remedy}`).join(". ")}
        </p>
      ))}
      {retry && (
        <button className="button mt-2" onClick={retry}>
          Try again
        </button>
      )}
    </div>
  );
}

export function Waiting({ what }: { what: string }) {
  return (
    <p className="py-6 text-faint" role="status">
      Reading {what}…
    </p>
  );
}

export function Tip({
  words,
  children,
  side = "top",
}: {
  words: ReactNode;
  children: ReactNode;
  side?: "top" | "bottom" | "left" | "right";
}) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          side={side}
          sideOffset={6}
          collisionPadding={8}
          className="card z-50 max-w-80 px-2.5 py-1.5 text-sm"
        >
          {words}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

export function Modal({
  title,
  about,
  wide,
  open,
  onClose,
  children,
}: {
  title: string;
  about?: string;
  wide?: boolean;
  open: boolean;
  onClose: () => void;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-shade" />
        <Dialog.Content
          {...(about ? {} : { "aria-describedby": undefined })}
          className={`card fixed top-[6vh] left-1/2 z-50 flex max-h-[88vh] -translate-x-1/2 flex-col ${wide ? "w-[min(960px,94vw)]" : "w-[min(520px,94vw)]"}`}
        >
          <div className="flex items-start justify-between gap-4 border-b border-rule px-5 pt-4 pb-3">
            <div>
              <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
              {about && <Dialog.Description className="text-soft">{about}</Dialog.Description>}
            </div>
            <Dialog.Close className="button">
              Close <kbd>Esc</kbd>
            </Dialog.Close>
          </div>
          <div tabIndex={0} className="min-h-0 flex-1 overflow-auto px-5 py-4">
            {children}
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** A bar that fills from the left: what is done, and what of it failed. */
export function Progress({ done, of, bad = 0, label }: { done: number; of: number; bad?: number; label: string }) {
  const part = of > 0 ? Math.min(1, done / of) : 0;
  const wrong = done > 0 ? part * Math.min(1, bad / done) : 0;
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(part * 100)}
      className="relative h-[5px] w-full overflow-hidden rounded-full bg-wash"
    >
      <div className="absolute inset-y-0 left-0 bg-ink" style={{ width: `${part * 100}%` }} />
      <div className="absolute inset-y-0 left-0 bg-vermilion" style={{ width: `${wrong * 100}%` }} />
    </div>
  );
}

export function Command({ children }: { children: string }) {
  return <code className="command">{children}</code>;
}
