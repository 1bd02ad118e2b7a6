import { Checkbox, Select } from "radix-ui";
import { type ReactNode } from "react";

export function Part({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <fieldset className="min-w-0">
      <legend className="mb-1 flex w-full items-baseline justify-between border-b border-rule pb-0.5">
        <span className="font-semibold">{title}</span>
        <span className="text-sm text-soft">{aside}</span>
      </legend>
      {children}
    </fieldset>
  );
}

export function Tick({
  label,
  detail,
  on,
  change,
}: {
  label: string;
  detail?: string;
  on: boolean;
  change: (on: boolean) => void;
}) {
  return (
    <label className="flex items-center gap-2 py-0.5 hover:bg-wash">
      <Checkbox.Root
        checked={on}
        onCheckedChange={(v) => change(v === true)}
        aria-label={label}
        className="grid size-4 flex-none place-items-center rounded-[3px] border border-strong bg-sheet data-[state=checked]:border-ink data-[state=checked]:bg-ink"
      >
        <Checkbox.Indicator>
          <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true">
            <path d="M1.5 5.2 4 7.8 8.6 2.2" fill="none" stroke="var(--paper)" strokeWidth="1.8" />
          </svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      <span className="truncate">{label}</span>
      <span className="ml-auto text-sm whitespace-nowrap text-soft">{detail}</span>
    </label>
  );
}

// Radix keeps the empty value for itself.
const any = "\u0000any";

export function Pick({
  label,
  value,
  onChange,
  options,
  narrow,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  options: [string, string][];
  narrow?: boolean;
}) {
  return (
    <Select.Root value={value === "" ? any : value} onValueChange={(v) => onChange(v === any ? "" : v)}>
      <Select.Trigger
        aria-label={label}
        className={`field inline-flex items-center justify-between gap-2 ${narrow ? "" : "w-full"}`}
      >
        <Select.Value />
        <svg width="9" height="6" viewBox="0 0 9 6" aria-hidden="true">
          <path d="m1 1 3.5 3.5L8 1" fill="none" stroke="currentColor" strokeWidth="1.4" />
        </svg>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="card z-50 max-h-80 min-w-[var(--radix-select-trigger-width)] overflow-hidden"
        >
          <Select.Viewport className="py-1">
            {options.map(([v, words]) => (
              <Select.Item
                key={v}
                value={v === "" ? any : v}
                className="px-3 py-1 outline-none data-highlighted:bg-wash data-[state=checked]:font-medium"
              >
                <Select.ItemText>{words}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
