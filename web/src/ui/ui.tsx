// Our own components over Radix.
import { Dialog as RDialog, Select as RSelect, Tabs as RTabs, ToggleGroup, Tooltip as RTooltip } from "radix-ui";
import type { ButtonHTMLAttributes, ReactNode } from "react";
import { pieces } from "../marked";

// A button is plain, or what the page is for (ink), or a person's decision that others wait for (call).
type Tone = "plain" | "ink" | "call" | "quiet";
export function Button({ tone = "plain", className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: Tone }) {
  const look = { plain: "border-joint-strong bg-face hover:bg-ground text-ink", ink: "border-ink bg-ink text-face hover:opacity-90", call: "border-call bg-call text-on-call hover:opacity-90", quiet: "border-transparent text-ink-2 hover:text-ink hover:bg-sunk" }[tone];
  return <button type="button" {...rest} className={`rounded-sm border px-2.5 py-1 font-semibold whitespace-nowrap ${look} ${className}`} />;
}

export function Segments<T extends string>({ label, value, options, onChange }: { label: string; value: T; options: readonly (readonly [T, string])[]; onChange: (v: T) => void }) {
  return (
    <ToggleGroup.Root type="single" aria-label={label} value={value} onValueChange={(v) => v && onChange(v as T)} className="inline-flex overflow-hidden rounded-sm border border-joint-strong">
      {options.map(([v, name]) => (
        <ToggleGroup.Item key={v} value={v} className="px-2 py-px text-[12px] text-ink-2 data-[state=on]:bg-ink data-[state=on]:text-face">
          {name}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

export function Pick({ label, value, options, onChange, small }: { label: string; value: string; options: readonly (readonly [string, string])[]; onChange: (v: string) => void; small?: boolean }) {
  const none = "\u0000";
  return (
    <RSelect.Root value={value || none} onValueChange={(v) => onChange(v === none ? "" : v)}>
      <RSelect.Trigger aria-label={label} className={small ? "inline-flex whitespace-nowrap items-center gap-1 rounded-sm text-[12px] font-semibold hover:bg-sunk px-1 -mx-1" : "field inline-flex !w-auto items-center gap-2"}>
        <RSelect.Value />
        <RSelect.Icon className="text-ink-3">▾</RSelect.Icon>
      </RSelect.Trigger>
      <RSelect.Portal>
        <RSelect.Content position="popper" sideOffset={4} className="z-50 rounded-sm border border-joint-strong bg-face shadow-lg">
          <RSelect.Viewport className="p-1">
            {options.map(([v, name]) => (
              <RSelect.Item key={v || none} value={v || none} className="cursor-pointer rounded-sm px-2 py-1 outline-none data-[highlighted]:bg-sunk data-[state=checked]:font-semibold">
                <RSelect.ItemText>{name}</RSelect.ItemText>
              </RSelect.Item>
            ))}
          </RSelect.Viewport>
        </RSelect.Content>
      </RSelect.Portal>
    </RSelect.Root>
  );
}

export function Tabs({ label = "Parts of the step", value, onChange, tabs }: { label?: string; value: string; onChange: (v: string) => void; tabs: readonly { id: string; name: string; body: ReactNode }[] }) {
  return (
    <RTabs.Root value={value} onValueChange={onChange} className="flex min-h-0 flex-1 flex-col">
      <RTabs.List aria-label={label} className="flex gap-4 border-b border-joint px-4 pt-1.5">
        {tabs.map((t) => (
          <RTabs.Trigger key={t.id} value={t.id} className="-mb-px border-b-[3px] border-transparent pb-1.5 text-ink-2 data-[state=active]:border-ink data-[state=active]:font-semibold data-[state=active]:text-ink">
            {t.name}
          </RTabs.Trigger>
        ))}
      </RTabs.List>
      {tabs.map((t) => (
        <RTabs.Content key={t.id} value={t.id} tabIndex={0} className="min-h-0 flex-1 overflow-auto">
          {t.body}
        </RTabs.Content>
      ))}
    </RTabs.Root>
  );
}

export function Dialog({ title, open, onClose, children }: { title: string; open: boolean; onClose: () => void; children: ReactNode }) {
  return (
    <RDialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <RDialog.Portal>
        <RDialog.Overlay className="fixed inset-0 z-40 bg-[#0006]" />
        <RDialog.Content aria-describedby={undefined} className="fixed top-1/2 left-1/2 z-50 max-h-[85vh] w-[460px] max-w-[92vw] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-sm border border-joint-strong bg-face p-5 shadow-xl">
          <RDialog.Title className="mb-3 text-base font-bold">{title}</RDialog.Title>
          {children}
        </RDialog.Content>
      </RDialog.Portal>
    </RDialog.Root>
  );
}

export function Tip({ text, children }: { text: string; children: ReactNode }) {
  return (
    <RTooltip.Root>
      <RTooltip.Trigger asChild>{children}</RTooltip.Trigger>
      <RTooltip.Portal>
        <RTooltip.Content sideOffset={6} className="z-50 max-w-80 rounded-sm bg-ink px-2.5 py-1 text-[12px] text-face">
          {text}
        </RTooltip.Content>
      </RTooltip.Portal>
    </RTooltip.Root>
  );
}

export const TipProvider = RTooltip.Provider;

// Seen shows a text, and marks in it what a reader would not see.
export function Seen({ text }: { text: string }) {
  return pieces(text).map((p, i) =>
    p.mark ? (
      <mark key={i} className="mark-odd font-mono" title={p.mark}>
        {p.text} <span className="sr-only">{p.mark}</span>
      </mark>
    ) : (
      <span key={i}>{p.text}</span>
    ),
  );
}

// Difference shows a unified diff.
export function Difference({ text }: { text: string }) {
  return (
    <pre className="font-mono text-[12px] whitespace-pre-wrap">
      {text.trimEnd().split("\n").map((l, i) => (
        <span key={i} className={`block ${/^(---|\+\+\+) /.test(l) ? "text-ink-3" : l.startsWith("+") ? "bg-ok-soft" : l.startsWith("-") ? "bg-bad-soft" : "text-ink-2"}`}>
          <Seen text={l || " "} />
        </span>
      ))}
    </pre>
  );
}

// Note tells of an error, or that something is not there.
// Outside opens the record of another service that a call is about.
export function Outside({ url, name }: { url: string; name: string }) {
  return (
    <a className="underline" href={url} target="_blank" rel="noreferrer noopener" title={url}>
      {name}: open the record
    </a>
  );
}

export function Note({ bad, children }: { bad?: boolean; children: ReactNode }) {
  return (
    <p role={bad ? "alert" : undefined} className={bad ? "rounded-sm border-l-4 border-bad bg-bad-soft px-3 py-2 text-bad" : "px-1 py-2 text-ink-2"}>
      {children}
    </p>
  );
}

const marks: Record<string, string> = { going: "◔", held: "▨", done: "■", returned: "■", passed: "■", failed: "◣", broken: "◣", refused: "◣", stopped: "◧", lost: "◣", waiting: "▨", aside: "▨", retrying: "◔", new: "□" };
export function Status({ of }: { of: string }) {
  const tone = of === "held" || of === "waiting" ? "text-call font-semibold" : of === "failed" || of === "broken" || of === "lost" ? "text-bad" : of === "done" || of === "passed" ? "text-ok" : "text-ink-2";
  return (
    <span className={tone}>
      <span aria-hidden className="mr-1 font-mono text-[11px]">
        {marks[of] ?? "■"}
      </span>
      {of}
    </span>
  );
}

// Json shows a value with its keys, texts and numbers told apart.
export function Json({ value }: { value: unknown }) {
  const parts = (JSON.stringify(value, null, 2) ?? "").split(/("(?:\\.|[^"\\])*"(?:\s*:)?|-?\b\d[\d.eE+-]*\b)/);
  return (
    <pre className="px-4 py-2.5 font-mono text-[12px] leading-[1.55] break-words whitespace-pre-wrap">
      {parts.map((p, i) => (i % 2 === 0 ? p : <span key={i} className={p.endsWith(":") ? "json-k" : p.startsWith('"') ? "json-s" : "json-n"}>{p}</span>))}
    </pre>
  );
}
