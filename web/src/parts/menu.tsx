import { DropdownMenu } from "radix-ui";
import { type ReactNode } from "react";

export function MenuItem({
  children,
  onSelect,
  disabled,
}: {
  children: ReactNode;
  onSelect: () => void;
  disabled?: boolean;
}) {
  return (
    <DropdownMenu.Item
      disabled={disabled}
      onSelect={onSelect}
      className="px-3 py-1.5 outline-none data-disabled:text-faint data-highlighted:bg-wash"
    >
      {children}
    </DropdownMenu.Item>
  );
}
