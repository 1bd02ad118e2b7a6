import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { Sure } from "./sure";
import { undo } from "../data/undo";
import {
  carryOut,
  inProject,
  outdated,
  put,
  remove,
  type Device,
  type DeviceDetail,
  type NewErrand,
} from "../data/api";
import { at } from "../data/time";
import { MenuItem } from "./menu";
import { Modal, Section, Trouble } from "./plain";

const virtual = (d: Device) => d.kind !== "real";

/** What can be done to a device outside of runs. */
export function Actions({ d, state }: { d: Device; state: string }) {
  const [trouble, setTrouble] = useState<unknown>();
  const [busy, setBusy] = useState("");
  const [aside, setAside] = useState(false);
  const navigate = useNavigate();
  const work = (what: NewErrand["what"], words: string, then?: () => void) => {
    setBusy(words);
    setTrouble(undefined);
    carryOut({ what, device: d.name })
      .then(() => then?.(), setTrouble)
      .finally(() => setBusy(""));
  };
  const [asking, setAsking] = useState<"empty" | "remove">();
  const taken = state === "leased" || state === "resetting" || state === "offline";
  return (
    <>
      {busy && (
        <span className="text-soft" role="status">
          {busy}
        </span>
      )}
      {virtual(d) && state === "halted" && (
        <button className="button" disabled={!!busy} onClick={() => work("boot", "Booting…")}>
          Boot it
        </button>
      )}
      {state === "sidelined" && (
        <button
          className="button"
          onClick={() =>
            remove(inProject(`devices/${encodeURIComponent(d.name)}/sideline`)).then(
              () => outdated("devices"),
              setTrouble,
            )
          }
        >
          Restore it
        </button>
      )}
      {state !== "offline" && !virtual(d) && (
        <button className="button" disabled={!!busy} onClick={() => work("check", "Checking…")}>
          Check again
        </button>
      )}
      <DropdownMenu.Root>
        <DropdownMenu.Trigger className="button" aria-label={`More for ${d.name}`}>
          More
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" sideOffset={6} className="card z-50 min-w-52 py-1">
            {virtual(d) && (
              <>
                <MenuItem disabled={taken || state === "halted" || !!busy} onSelect={() => work("halt", "Halting…")}>
                  Halt it
                </MenuItem>
                <MenuItem disabled={taken || !!busy} onSelect={() => setAsking("empty")}>
                  Empty it
                </MenuItem>
                <MenuItem disabled={taken || !!busy} onSelect={() => setAsking("remove")}>
                  Remove it
                </MenuItem>
                <DropdownMenu.Separator className="my-1 h-px bg-rule" />
                <MenuItem disabled={state === "offline" || !!busy} onSelect={() => work("check", "Checking…")}>
                  Check it
                </MenuItem>
              </>
            )}
            <MenuItem disabled={state === "sidelined"} onSelect={() => setAside(true)}>
              Sideline it…
            </MenuItem>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {trouble !== undefined && (
        <div className="basis-full">
          <Trouble of={trouble} />
        </div>
      )}
      <Sure
        open={asking === "empty"}
        onOpenChange={(open) => setAsking(open ? "empty" : undefined)}
        question={`Empty ${d.name}?`}
        more="Its apps, files and accounts go; it starts as from the factory."
        does="Empty it"
        onYes={() => work("empty", "Emptying…")}
      />
      <Sure
        open={asking === "remove"}
        onOpenChange={(open) => setAsking(open ? "remove" : undefined)}
        question={`Remove ${d.name}?`}
        more="What is on it goes with it. What ran on it stays."
        does="Remove it"
        onYes={() => work("remove", "Removing…", () => void navigate("/fleet"))}
      />
      <Modal
        title={`Sideline ${d.name}`}
        about="It runs nothing until it is restored; what it runs now is not cut short."
        open={aside}
        onClose={() => setAside(false)}
      >
        {aside && <SidelineForm d={d} onDone={() => setAside(false)} />}
      </Modal>
    </>
  );
}

function SidelineForm({ d, onDone }: { d: Device; onDone: () => void }) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  return (
    <form
      className="grid gap-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        put(inProject(`devices/${encodeURIComponent(d.name)}/sideline`), {
          reason,
          ...(until ? { until: new Date(until).toISOString() } : {}),
        }).then(() => {
          outdated("devices");
          onDone();
          undo.offer(`${d.name} is sidelined.`, () =>
            remove(inProject(`devices/${encodeURIComponent(d.name)}/sideline`)).then(() => outdated("devices")),
          );
        }, setTrouble);
      }}
    >
      <label className="grid gap-1">
        What is wrong with it
        <input
          className="field"
          required
          maxLength={500}
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          placeholder="its screen is cracked"
        />
      </label>
      <label className="grid gap-1">
        Until (left open: until somebody restores it)
        <input className="field" type="datetime-local" value={until} onChange={(e) => setUntil(e.target.value)} />
      </label>
      {trouble !== undefined && <Trouble of={trouble} />}
      <div className="flex justify-end">
        <button type="submit" className="button button-main">
          Sideline it
        </button>
      </div>
    </form>
  );
}

/** The checks that a device passes before it may run anything, with what to do; live. */
export function Readiness({ d }: { d: DeviceDetail }) {
  const one = d.device;
  const checks = one.checks ?? [];
  const bad = checks.filter((c) => !c.ok).length;
  const side = one.sideline;
  const remains = (what: string) =>
    inProject(`devices/${encodeURIComponent(one.name)}/remains/${what}?at=${side ? Date.parse(side.at) : 0}`);
  return (
    <>
      {side && (
        <Section title="Sidelined" aside={`by ${side.by}, ${at(side.at)}`}>
          <div className="flex gap-5 py-2">
            <div className="min-w-0 flex-1 space-y-1">
              <p className="font-medium text-petrol">{side.reason}</p>
              {side.remedy && <p className="text-soft">To mend it: {side.remedy}.</p>}
              {side.until && <p className="text-soft">Until {at(side.until)}.</p>}
              {side.probe_at && (
                <p className="text-soft">
                  It is tried again at {at(side.probe_at)}, and comes back by itself if it is well.
                </p>
              )}
              {side.log && (
                <a className="link" href={remains("log")} target="_blank" rel="noreferrer">
                  Its boot log
                </a>
              )}
            </div>
            {side.picture && (
              <figure className="flex-none text-center text-sm text-soft">
                <img
                  className="h-40 rounded border border-strong"
                  src={remains("picture")}
                  alt={`What ${one.name} showed last`}
                />
                <figcaption className="pt-1">the last picture</figcaption>
              </figure>
            )}
          </div>
        </Section>
      )}
      {checks.length > 0 && (
        <Section title="Readiness" aside={bad === 0 ? "ready" : `${bad} to do; it ticks off as you do them`}>
          <ol aria-label="Checks of readiness" aria-live="polite">
            {checks.map((c) => (
              <li
                key={c.id}
                data-check={c.id}
                data-ok={c.ok}
                className="grid grid-cols-[20px_1fr] border-b border-rule py-1.5"
              >
                <span className="flex h-5 items-center">
                  <span className={`verdict ${c.ok ? "verdict-pass" : "verdict-error"}`} aria-hidden="true" />
                  <span className="sr-only">{c.ok ? "done:" : "to do:"}</span>
                </span>
                <span>
                  <span className={c.ok ? "text-soft" : "font-medium"}>{c.title}</span>
                  {!c.ok && (
                    <>
                      <span className="block text-petrol">{c.why}</span>
                      <span className="block">{c.remedy}</span>
                    </>
                  )}
                </span>
              </li>
            ))}
          </ol>
        </Section>
      )}
    </>
  );
}
