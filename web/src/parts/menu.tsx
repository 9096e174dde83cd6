/** A menu of acts behind one button. */
import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

export function Menu({ label, children }: { label: ReactNode; children: ReactNode }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="min-h-[30px] whitespace-nowrap rounded-sm border border-ink bg-card px-3 py-1 font-semibold hover:bg-side">
        {label} <span aria-hidden>▾</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-40 min-w-[15rem] rounded-md border border-rule bg-card p-1 shadow-xl"
        >
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

export function MenuItem({
  children,
  danger = false,
  disabled,
  onSelect,
}: {
  children: ReactNode;
  danger?: boolean;
  disabled?: boolean;
  onSelect: () => void;
}) {
  return (
    <DropdownMenu.Item
      disabled={disabled}
      onSelect={onSelect}
      className={`cursor-pointer rounded-sm px-2 py-1.5 outline-none data-[disabled]:cursor-default data-[highlighted]:bg-side data-[disabled]:opacity-45 ${danger ? "text-brick" : ""}`}
    >
      {children}
    </DropdownMenu.Item>
  );
}

export function MenuLine() {
  return <DropdownMenu.Separator className="my-1 h-px bg-rule" />;
}
