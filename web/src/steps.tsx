// The steps as a list, for reading: a row each, any number of them.
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef } from "react";
import type { Step } from "./api";
import type { Tree } from "./tree";
import { below, chose, course, named, span, spaced, verbs } from "./say";

const bad = (s: Step) => ["failed", "refused", "lost"].includes(s.status);
const open = (s: Step) => s.status === "waiting" && s.wait && !s.wait.settled_at;
const grid = "grid grid-cols-[44px_74px_1fr_74px_64px] gap-x-2 max-md:grid-cols-[24px_60px_1fr_60px_48px]";

function what(s: Step): string {
  if (s.kind === "pass") return s.to ? `hands over to ${s.to}` : s.name;
  return named(s);
}

function say(s: Step, lines?: string): string {
  if (lines) return lines.trimEnd().split("\n").at(-1)!;
  if (open(s)) return `${s.wait!.why}, waits for ${s.wait!.by.join(", ") || "anybody"}`;
  if (bad(s)) return `${s.status}: ${s.brief}`;
  if (s.kind === "leg" && s.status === "returned" && s.asked && !s.asked.turns) return chose(s) ? `${chose(s)}: ${s.brief}` : s.brief;
  if (s.asked) {
    if (s.asked.course && !s.ended) return course(s.asked.course);
    if (s.asked.open) return "a person is asked in the middle of it";
    if (s.status === "returned") return `${s.brief}${s.asked.turns ? ` · ${below(s.asked)}` : ""}${s.asked.kept ? " · it remembers" : ""}`;
  }
  if (s.status === "retrying") return `attempt ${s.attempts} failed: ${s.brief}`;
  return s.why + (s.wait?.settled_at ? ` · ${verbs[s.wait.verb ?? ""] ?? ""} by ${s.wait.settled_by || "nobody"}` : "");
}

export function Steps({ steps, folds, onFold, lines, selected, onSelect }: { steps: readonly Step[]; folds: Tree["folds"]; onFold: (lane: string) => void; lines?: Record<string, string>; selected?: number; onSelect: (n: number) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const place = steps.findIndex((s) => s.n === selected);
  const rows = useVirtualizer({ count: steps.length, getScrollElement: () => box.current, estimateSize: () => 47, overscan: 4 });
  useEffect(() => {
    if (place >= 0) rows.scrollToIndex(place, { align: "auto" });
  }, [place, rows]);
  const keys = (e: React.KeyboardEvent) => {
    const at = place + 1;
    const next = e.key === "ArrowDown" ? at + 1 : e.key === "ArrowUp" ? at - 1 : e.key === "Home" ? 1 : e.key === "End" ? steps.length : e.key === "PageDown" ? Math.min(steps.length, at + 10) : e.key === "PageUp" ? Math.max(1, at - 10) : 0;
    const step = steps[next - 1];
    const turn = steps[place];
    if (turn?.asked && (e.key === "ArrowLeft" || e.key === "ArrowRight") && folds.get(turn.lane)?.folded === (e.key === "ArrowRight")) {
      e.preventDefault();
      onFold(turn.lane);
    } else if (step) {
      e.preventDefault();
      onSelect(step.n);
    }
  };
  return (
    <section aria-label="Steps" className="flex min-h-0 flex-col border-r border-joint-strong max-md:min-h-64 max-md:border-r-0">
      <div aria-hidden className={`${grid} border-b border-joint py-1.5 pr-2 pl-4 text-xs text-ink-3`}>
        <span>#</span>
        <span>who</span>
        <span>what, and why it came</span>
        <span className="text-right">time</span>
        <span className="text-right">tokens</span>
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-auto" role="listbox" aria-label="Steps in order" tabIndex={0} onKeyDown={keys} aria-activedescendant={selected ? `step-${selected}` : undefined}>
        <div role="presentation" style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((r) => {
            const s = steps[r.index]!;
            const on = s.n === selected;
            return (
              <div
                key={s.id}
                id={`step-${s.n}`}
                role="option"
                aria-selected={on}
                aria-posinset={r.index + 1}
                aria-setsize={steps.length}
                data-kind={s.kind}
                onClick={() => onSelect(s.n)}
                className={`${grid} absolute inset-x-0 cursor-pointer border-b border-joint py-1 pr-2 pl-4 ${open(s) ? "bg-call-soft" : on ? "bg-face" : ""} ${on ? "shadow-[inset_4px_0_0_var(--ink)]" : ""}`}
                style={{ top: r.start, height: r.size }}
              >
                <span className="font-mono text-[12px]">{s.n}</span>
                <span className="truncate" style={{ paddingLeft: Math.min(s.depth, 4) * 9 }}>{s.agent}</span>
                <span className="min-w-0">
                  <span className="block truncate">
                    <span className={s.kind === "call" ? "font-mono text-[12px]" : ""}>{what(s)}</span> <span className="text-ink-2">{s.title}</span>
                    {s.asked && folds.get(s.lane)?.folded && <span className="text-ink-3"> · folded</span>}
                    {s.stub && <span className="text-ink-3"> · stub</span>}
                    {s.undone_at && <span className="text-ink-3"> · undone</span>}
                    {s.rung && s.rung !== "free" && <span className="text-ink-3"> · rung {s.rung}</span>}
                  </span>
                  <span className={`block truncate text-[12px] ${open(s) ? "text-call" : bad(s) ? "text-bad" : "text-ink-3"}`}>{say(s, lines?.[s.id])}</span>
                </span>
                <span className="text-right font-mono text-[12px] text-ink-2">{open(s) ? "held" : s.status === "going" ? "…" : span(s.ms)}</span>
                <span className="text-right font-mono text-[12px] text-ink-2">{s.tokens ? spaced(s.tokens.in + s.tokens.out) : s.asked?.turns ? spaced(s.asked.tokens.in + s.asked.tokens.out) : ""}</span>
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}
