/** Small controls that every room uses. */
import clsx from "clsx";
import { AlertDialog, Dialog } from "radix-ui";
import { type ButtonHTMLAttributes, type ReactNode, useState } from "react";
import { ApiError } from "@/api/client";
import { type Ability, useMay } from "@/api/use-may";

type Kind = "plain" | "main" | "danger" | "quiet";

const KINDS: Record<Kind, string> = {
  plain: "border border-ink bg-card text-ink hover:bg-side",
  main: "border border-ink bg-ink text-paper hover:opacity-90",
  danger: "border border-brick bg-card text-brick hover:bg-side",
  quiet: "border border-transparent text-verdigris hover:underline px-1",
};

/** A button. With `needs`, it is there only for whoever may do what it does. */
export function Button({
  kind = "plain",
  needs,
  className,
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind; needs?: Ability }) {
  const may = useMay(needs ?? "operate");
  if (needs && !may) return null;
  return (
    <button
      type="button"
      className={clsx(
        "min-h-[30px] whitespace-nowrap rounded-sm px-3 py-1 font-semibold disabled:opacity-45",
        KINDS[kind],
        className,
      )}
      {...rest}
    />
  );
}

export function Card({
  id,
  title,
  aside,
  children,
  className,
}: {
  id?: string;
  title?: ReactNode;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section id={id} className={clsx("rounded-md border border-rule bg-card p-4", className)}>
      {title && (
        <header className="mb-2 flex items-baseline justify-between gap-4">
          <h2 className="text-[1.05rem]">{title}</h2>
          {aside && <div className="text-right text-soft">{aside}</div>}
        </header>
      )}
      {children}
    </section>
  );
}

/** What went wrong, what was kept, and the remedy. */
export function Problem({ error }: { error: unknown }) {
  if (!error) return null;
  const text = error instanceof ApiError ? error.detail || error.title : String(error);
  return (
    <p role="alert" className="flex items-start gap-2 text-brick">
      <span aria-hidden>▪</span>
      <span>{text}</span>
    </p>
  );
}

/** A confirmation that says its consequence; `count` asks for that number to be typed. */
export function Confirm({
  trigger,
  title,
  children,
  action,
  onConfirm,
  danger = false,
  needs,
}: {
  /** who lacks this does not see it */
  needs?: Ability;
  trigger: ReactNode;
  title: string;
  children: ReactNode;
  action: string;
  onConfirm: () => void;
  danger?: boolean;
}) {
  const may = useMay(needs ?? "operate");
  if (needs && !may) return null;
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/30 dark:bg-black/50" />
        <AlertDialog.Content className="fixed top-1/4 left-1/2 z-50 w-[30rem] max-w-[92vw] -translate-x-1/2 rounded-md border border-rule bg-card p-5 shadow-xl">
          <AlertDialog.Title className="text-lg">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2 text-soft">{children}</div>
          </AlertDialog.Description>
          <div className="mt-5 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Cancel</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button kind={danger ? "danger" : "main"} onClick={onConfirm}>
                {action}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

// centred by margins: a transform would clip what its contents hang outside of it, as a rule's completions
export function Modal({
  open,
  onClose,
  title,
  wide = false,
  children,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  /** for what stands in rows */
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(to) => !to && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30 dark:bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className={clsx(
            "fixed inset-x-0 top-[14%] z-50 mx-auto max-h-[72vh] max-w-[92vw] overflow-auto rounded-md border border-rule bg-card p-5 shadow-xl",
            wide ? "w-[58rem]" : "w-[36rem]",
          )}
        >
          <Dialog.Title className="mb-3 text-lg">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** A labelled input. */
export function Labelled({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className="flex flex-col gap-1">
      <span className="font-semibold text-soft">{label}</span>
      {children}
      {hint && <span className="text-soft text-xs">{hint}</span>}
    </label>
  );
}

/** Tick some of many, with a search; used for groups. */
export function Picker({
  label,
  options,
  chosen,
  columns = 2,
  onChange,
}: {
  label: string;
  options: { id: number; name: string; note?: string }[];
  chosen: number[];
  columns?: 1 | 2;
  onChange: (ids: number[]) => void;
}) {
  const [words, setWords] = useState("");
  const shown = options.filter((o) => o.name.toLowerCase().includes(words.toLowerCase()));
  return (
    <fieldset className="min-w-0">
      <legend className="mb-1 font-semibold text-soft">{label}</legend>
      <input
        className="field mb-2 w-full"
        placeholder="Find a group…"
        aria-label={`${label}: find a group`}
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      <div className={clsx("grid gap-x-4 overflow-auto", columns === 2 ? "max-h-56 grid-cols-2" : "max-h-[60vh]")}>
        {shown.map((o) => (
          <label key={o.id} className="flex min-h-[28px] items-center gap-2">
            <input
              type="checkbox"
              className="accent-[var(--verdigris)]"
              checked={chosen.includes(o.id)}
              onChange={(e) => onChange(e.target.checked ? [...chosen, o.id] : chosen.filter((id) => id !== o.id))}
            />
            <span className="truncate">{o.name}</span>
            <span className="ml-auto text-soft">{o.note}</span>
          </label>
        ))}
        {shown.length === 0 && <p className="text-soft">{options.length ? "No match." : "No group yet."}</p>}
      </div>
    </fieldset>
  );
}

/** A thin bar: a share of a whole, with a mark for what is needed. */
export function Bar({
  share,
  needed,
  tone = "verdigris",
  thin = false,
  label,
}: {
  share: number;
  needed?: number;
  tone?: "verdigris" | "brick" | "saffron";
  thin?: boolean;
  label: string;
}) {
  const width = `${Math.max(0, Math.min(1, share)) * 100}%`;
  return (
    <div
      className={clsx("relative w-full rounded-full bg-rule", thin ? "h-[3px]" : "h-[6px]")}
      role="img"
      aria-label={label}
    >
      <div className="h-full rounded-full" style={{ width, background: `var(--${tone})` }} />
      {needed !== undefined && (
        <div className="absolute -top-[3px] h-3 w-[2px] bg-ink" style={{ left: `${Math.min(1, needed) * 100}%` }} />
      )}
    </div>
  );
}

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="py-10 text-center">
      <h2 className="text-lg">{title}</h2>
      <div className="mx-auto mt-2 max-w-[44ch] text-soft">{children}</div>
    </div>
  );
}
