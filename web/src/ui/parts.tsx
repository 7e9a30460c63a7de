import { clsx } from "clsx";
import { AlertDialog, Tooltip } from "radix-ui";
import { useState, type ComponentProps, type ReactNode } from "react";

/** The look of the small pieces that know no feature. */
export function Button({
  kind = "plain",
  className,
  ...rest
}: ComponentProps<"button"> & { kind?: "plain" | "accent" | "danger" }) {
  return (
    <button
      type="button"
      {...rest}
      className={clsx(
        "inline-flex items-center gap-2 rounded px-3 py-1.5 text-sm border transition-colors",
        kind === "accent"
          ? "bg-accent text-ground border-accent font-medium"
          : kind === "danger"
            ? "border-failed text-failed hover:bg-failed/10"
            : "border-line hover:bg-raised",
        className,
      )}
    />
  );
}

export function Field({ label, className, ...rest }: ComponentProps<"input"> & { label: string }) {
  return (
    <input
      aria-label={label}
      placeholder={label}
      {...rest}
      className={clsx(
        "min-w-0 rounded border border-line bg-sheet px-2.5 py-1.5 text-sm placeholder:text-soft",
        className,
      )}
    />
  );
}

export function Choice({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: [string, string][];
  onChange: (v: string) => void;
}) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(e) => {
        onChange(e.target.value);
      }}
      className="max-w-full min-w-0 rounded border border-line bg-sheet px-2 py-1.5 text-sm"
    >
      {options.map(([v, text]) => (
        <option key={v} value={v}>
          {text}
        </option>
      ))}
    </select>
  );
}

export function Sheet({
  title,
  aside,
  children,
  className,
}: {
  title?: ReactNode;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section className={clsx("rounded-md border border-line bg-sheet", className)}>
      {title !== undefined && (
        <header className="flex items-center gap-3 border-b border-line px-4 py-2.5">
          <h2 className="font-medium">{title}</h2>
          <div className="ml-auto">{aside}</div>
        </header>
      )}
      {children}
    </section>
  );
}

/** An empty page says what to do. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="grid justify-items-center gap-2 px-6 py-16 text-center text-soft">
      <p className="text-base text-ink">{title}</p>
      <div className="max-w-xl">{children}</div>
    </div>
  );
}

export function Trouble({ error, again }: { error: Error; again?: () => void }) {
  return (
    <div role="alert" className="m-4 flex items-center gap-4 rounded border border-failed/60 px-4 py-3">
      <p className="whitespace-pre-wrap">{error.message}</p>
      {again && (
        <Button className="ml-auto" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

export function Waiting() {
  return (
    <p className="px-4 py-10 text-center text-soft" aria-live="polite">
      Loading …
    </p>
  );
}

export function Hint({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={5}
          collisionPadding={8}
          className="z-20 max-w-md whitespace-pre-wrap rounded border border-line bg-raised px-3 py-2 text-xs shadow-lg"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** Asks before something that cannot be undone. */
export function Confirm({
  title,
  text,
  action,
  onYes,
  children,
}: {
  title: string;
  text: string;
  action: string;
  onYes: () => void;
  children: ReactNode;
}) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{children}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-black/50" />
        <AlertDialog.Content className="fixed left-1/2 top-1/3 z-30 w-96 -translate-x-1/2 rounded-md border border-line bg-sheet p-5 shadow-xl">
          <AlertDialog.Title className="text-base font-medium">{title}</AlertDialog.Title>
          <AlertDialog.Description className="mt-2 text-soft">{text}</AlertDialog.Description>
          <div className="mt-5 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>No, leave it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button kind="danger" onClick={onYes}>
                {action}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

/** A value that can be on or off; one that is off is struck out, unless it is an extra that nobody misses. */
export function Toggle({
  on,
  onChange,
  children,
  hint,
  extra = false,
}: {
  on: boolean;
  onChange: (on: boolean) => void;
  children: ReactNode;
  hint?: string;
  extra?: boolean;
}) {
  return (
    <button
      type="button"
      aria-pressed={on}
      title={hint}
      onClick={() => {
        onChange(!on);
      }}
      className={clsx(
        "rounded-full border px-3 py-1 text-sm transition-colors",
        on ? "border-accent bg-accent/15 text-ink" : "border-line text-soft hover:text-ink",
        !on && !extra && "line-through",
      )}
    >
      {children}
    </button>
  );
}

/** A named control in a form. */
export function Labelled({ label, help, children }: { label: string; help?: string; children: ReactNode }) {
  return (
    <label className="grid min-w-0 gap-1 text-sm">
      <span className="text-soft">{label}</span>
      {children}
      {help && <span className="text-xs text-soft">{help}</span>}
    </label>
  );
}

/** Something to copy, such as a command. */
export function Copyable({ text, label }: { text: string; label: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(true);
    setTimeout(() => {
      setCopied(false);
    }, 1500);
  };
  return (
    <div className="flex items-start gap-3 rounded border border-line bg-ground px-3 py-2">
      <pre
        aria-label={label}
        className="min-w-0 grow overflow-x-auto font-mono text-xs leading-5 whitespace-pre-wrap"
      >
        {text}
      </pre>
      <Button className="text-xs" onClick={() => void copy()}>
        {copied ? "Copied" : "Copy"}
      </Button>
    </div>
  );
}

/** The head of a table whose columns have these names. */
export function Heads({ of }: { of: string[] }) {
  return (
    <thead className="text-xs text-soft">
      <tr>
        {of.map((h) => (
          <th key={h} className="px-4 py-2 font-normal">
            {h}
          </th>
        ))}
      </tr>
    </thead>
  );
}
