// The small parts that every page is made of.
import { Dialog as RadixDialog, Select as RadixSelect } from "radix-ui";
import { Check as CheckIcon, ChevronDown, X } from "lucide-react";
import { useId, type ButtonHTMLAttributes, type InputHTMLAttributes, type ReactNode, type TextareaHTMLAttributes } from "react";
import { Problem } from "../api/client";

type ButtonProps = ButtonHTMLAttributes<HTMLButtonElement> & { look?: "main" | "plain" | "quiet" | "danger" };

const looks = {
  main: "bg-span text-on-span border-span hover:opacity-90",
  plain: "border-edge hover:border-ink hover:bg-inset",
  quiet: "border-transparent text-span hover:bg-wash",
  danger: "bg-bad text-sheet border-bad hover:opacity-90",
};

export function Button({ look = "plain", className = "", ...rest }: ButtonProps) {
  return <button type="button" {...rest} className={`inline-flex items-center gap-1.5 border px-3 py-1 font-medium whitespace-nowrap disabled:opacity-50 ${looks[look]} ${className}`} />;
}

/** The head of a page: its name, whether anything is wrong, and what can be done. */
export function PageHead({ title, verdict, children }: { title: ReactNode; verdict?: ReactNode; children?: ReactNode }) {
  return (
    <header className="mb-5 flex flex-wrap items-end justify-between gap-x-6 gap-y-2 border-b border-ink pb-3">
      <div className="min-w-0">
        <h1 className="text-xl font-semibold tracking-tight break-words">{title}</h1>
        {verdict && <div className="mt-0.5">{verdict}</div>}
      </div>
      {children && <div className="flex flex-wrap gap-2">{children}</div>}
    </header>
  );
}

export function Section({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  const id = useId();
  return (
    <section aria-labelledby={id} className="mb-8">
      <div className="mb-2 flex items-baseline justify-between gap-4">
        <h2 id={id} className="text-lg font-semibold">
          {title}
        </h2>
        {aside && <div className="text-sm text-soft">{aside}</div>}
      </div>
      {children}
    </section>
  );
}

/** An error with its remedy, and a way to try again. */
export function Trouble({ error, retry }: { error: unknown; retry?: () => void }) {
  const p = error instanceof Problem ? error : new Problem(0, String(error));
  return (
    <div role="alert" className="border-l-4 border-bad bg-inset px-4 py-3">
      <p className="font-medium text-bad">{sentence(p.detail)}</p>
      {p.remedy && <p className="mt-0.5">{sentence(p.remedy)}</p>}
      {retry && (
        <Button className="mt-2" onClick={retry}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** Begins with a capital and ends with a full stop. */
export function sentence(text: string): string {
  const whole = text.charAt(0).toUpperCase() + text.slice(1);
  return /[.!?]$/.test(whole) ? whole : whole + ".";
}

export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="border border-dashed border-edge px-6 py-8 text-center">
      <p className="text-soft">{children}</p>
      {action && <div className="mt-3">{action}</div>}
    </div>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <p role="status" className="py-6 text-soft">
      Reading {what} …
    </p>
  );
}

/** A labelled input with its help and its error. */
export function Field({ label, help, error, children }: { label: string; help?: string; error?: string; children: (props: { id: string; "aria-describedby"?: string; "aria-invalid"?: boolean }) => ReactNode }) {
  const id = useId();
  const note = error ? sentence(error) : help;
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="font-medium">
        {label}
      </label>
      {children({ id, "aria-describedby": note ? id + "n" : undefined, "aria-invalid": error ? true : undefined })}
      {note && (
        <p id={id + "n"} className={`text-sm ${error ? "text-bad" : "text-soft"}`}>
          {note}
        </p>
      )}
    </div>
  );
}

const box = "w-full border border-edge bg-sheet px-2.5 py-1.5 aria-invalid:border-bad";

export function TextInput({ className = "", ...rest }: InputHTMLAttributes<HTMLInputElement>) {
  return <input {...rest} className={`${box} ${className}`} />;
}

export function TextField({ label, help, error, mono, ...rest }: { label: string; help?: string; error?: string; mono?: boolean } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Field label={label} help={help} error={error}>
      {(props) => <TextInput {...props} {...rest} className={mono ? "font-mono" : ""} />}
    </Field>
  );
}

/** A labelled text of several lines. */
export function TextArea({ label, help, error, className = "", ...rest }: { label: string; help?: string; error?: string } & TextareaHTMLAttributes<HTMLTextAreaElement>) {
  return (
    <Field label={label} help={help} error={error}>
      {(props) => <textarea rows={3} {...props} {...rest} className={`${box} font-mono ${className}`} />}
    </Field>
  );
}

export type Option = { value: string; label: string };

/** A choice among a few; the value "" is shown as the placeholder. */
export function Select({ id, label, value, onChange, options, placeholder, ...rest }: { id?: string; label?: string; value: string; onChange: (value: string) => void; options: Option[]; placeholder?: string; "aria-describedby"?: string; "aria-invalid"?: boolean }) {
  return (
    <RadixSelect.Root value={value} onValueChange={onChange}>
      <RadixSelect.Trigger id={id} aria-label={label} {...rest} className={`${box} flex items-center justify-between gap-2 text-left data-placeholder:text-soft`}>
        <span className="truncate">
          <RadixSelect.Value placeholder={placeholder} />
        </span>
        <ChevronDown className="size-4 shrink-0 text-soft" aria-hidden />
      </RadixSelect.Trigger>
      <RadixSelect.Portal>
        <RadixSelect.Content position="popper" sideOffset={2} className="appear z-50 max-h-80 min-w-(--radix-select-trigger-width) overflow-auto border border-ink bg-sheet shadow-[3px_3px_0_var(--line)]">
          <RadixSelect.Viewport>
            {options.map((o) => (
              <RadixSelect.Item key={o.value} value={o.value} className="flex items-center justify-between gap-4 px-2.5 py-1.5 outline-none data-highlighted:bg-wash">
                <RadixSelect.ItemText>{o.label}</RadixSelect.ItemText>
                <RadixSelect.ItemIndicator>
                  <CheckIcon className="size-4 text-span" aria-hidden />
                </RadixSelect.ItemIndicator>
              </RadixSelect.Item>
            ))}
          </RadixSelect.Viewport>
        </RadixSelect.Content>
      </RadixSelect.Portal>
    </RadixSelect.Root>
  );
}

export function Dialog({ open, onOpenChange, title, lead, wide, children }: { open: boolean; onOpenChange: (open: boolean) => void; title: string; lead?: ReactNode; wide?: boolean; children: ReactNode }) {
  return (
    <RadixDialog.Root open={open} onOpenChange={onOpenChange}>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className="fixed inset-0 z-40 bg-ink/30 data-[state=open]:appear" />
        <RadixDialog.Content className={`appear fixed top-[8vh] left-1/2 z-40 max-h-[84vh] ${wide ? "w-[min(64rem,92vw)]" : "w-[min(36rem,92vw)]"} -translate-x-1/2 overflow-auto border border-ink bg-sheet p-6`} {...(lead ? {} : { "aria-describedby": undefined })}>
          <RadixDialog.Title className="pr-8 text-lg font-semibold">{title}</RadixDialog.Title>
          {lead && <RadixDialog.Description className="mt-1 text-soft">{lead}</RadixDialog.Description>}
          <div className="mt-4">{children}</div>
          <RadixDialog.Close className="absolute top-5 right-5 p-1 text-soft hover:text-ink" aria-label="Close">
            <X className="size-4" aria-hidden />
          </RadixDialog.Close>
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}

/** Label and value pairs. */
export function Facts({ facts }: { facts: [string, ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[max-content_1fr] content-start gap-x-6 gap-y-1">
      {facts.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd className="min-w-0 break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

export function Check({ label, help, checked, onChange }: { label: string; help?: string; checked: boolean; onChange: (value: boolean) => void }) {
  return (
    <label className="flex items-center gap-2">
      <input type="checkbox" className="size-4 shrink-0 accent-(--span)" checked={checked} onChange={(e) => onChange(e.target.checked)} />
      <span>{label}{help && <span className="block text-sm text-soft">{help}</span>}</span>
    </label>
  );
}
