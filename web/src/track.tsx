// The track: one lane for each agent, time to the right, the baton going from lane to lane. What a lane consults
// stands below it, indented, and can be folded away.
import { useEffect, useMemo, useRef, useState } from "react";
import type { Lane, Step, Totals } from "./api";
import { chose, course, named, below, count, lane, short, span, spaced, verbs } from "./say";
import type { Tree } from "./tree";
import { Segments } from "./ui/ui";

const LABEL = 132;
const LANE = 74;
const TOP = 22;
const H = 38;
const GAP = 14;

type Axis = "even" | "real";

// Block is where a step stands on the track.
interface Block {
  step: Step;
  x: number;
  w: number;
  y: number;
  wait?: { x: number; w: number }; // the gap of a wait that is over
}

const title = (s: Step) => (s.kind === "pass" ? s.name : named(s));
const width = (s: Step) => (s.kind === "pass" ? 104 : Math.min(s.asked ? 230 : 150, Math.max(92, 26 + Math.max(title(s).length * 6.9, sub(s).length * 7))));

// sub is the second line of a block.
function sub(s: Step): string {
  if (s.status === "waiting" && s.wait && !s.wait.settled_at) return "waits";
  if (s.asked && s.asked.open > 0) return "a person is asked";
  if (s.asked?.course && !s.ended) return short(course(s.asked.course), 34);
  if (s.status === "going" || s.status === "retrying" || s.status === "lost" || s.status === "refused" || s.status === "failed") return s.status;
  if (s.status === "aside") return "waits aside";
  if (s.kind === "consult" && s.asked) return s.asked.turns ? below(s.asked) : "answered by a stub";
  if (s.asked) return chose(s) || (s.asked.turns ? below(s.asked) : short(s.brief || s.title, 28));
  if (s.tokens) return `${spaced(s.tokens.in)} → ${spaced(s.tokens.out)}`;
  return short(s.brief || s.title, 18);
}

function place(steps: readonly Step[], lanes: readonly string[], axis: Axis, room: number): { blocks: Block[]; end: number } {
  const blocks: Block[] = [];
  let x = GAP;
  const first = steps[0];
  const t0 = first ? Date.parse(first.began) : 0;
  const t1 = Math.max(t0 + 1, ...steps.slice(-50).map((s) => (s.ended ? Date.parse(s.ended) : Date.now())));
  const scale = Math.max((room - 160) / (t1 - t0), 0.000001);
  const ends = new Map<string, number[]>(); // in real time, where what goes side by side on a lane ends
  for (const step of steps) {
    const y = TOP + Math.max(0, lanes.indexOf(step.lane)) * LANE;
    const settled = step.wait?.settled_at && step.kind === "call" ? step.wait : undefined;
    if (axis === "even") {
      const b: Block = { step, x, w: width(step), y };
      if (settled) {
        b.wait = { x, w: 104 };
        b.x = x + 104 + GAP;
      }
      blocks.push(b);
      x = b.x + b.w + (step.kind === "pass" ? 0 : GAP);
    } else {
      const began = settled ? Date.parse(settled.settled_at!) : Date.parse(step.began);
      const ended = step.ended ? Date.parse(step.ended) : Math.max(began, t1);
      const b: Block = { step, x: GAP + (began - t0) * scale, w: Math.max(7, (ended - began) * scale), y };
      if (settled) b.wait = { x: GAP + (Date.parse(settled.raised_at) - t0) * scale, w: Math.max(3, (Date.parse(settled.settled_at!) - Date.parse(settled.raised_at)) * scale) };
      const rows = ends.get(step.lane) ?? [];
      const free = rows.findIndex((at) => at <= b.x + 1);
      const row = Math.min(free < 0 ? rows.length : free, 2);
      rows[row] = GAP + (ended - t0) * scale;
      ends.set(step.lane, rows);
      if (step.kind !== "pass") b.y += row * 17;
      blocks.push(b);
      x = Math.max(x, b.x + b.w + GAP);
    }
  }
  return { blocks, end: x + 20 };
}

// threads draws, for each step in sight that opens one, a thin line from it down to its thread and along it.
function threads(blocks: Block[]): string {
  const from = new Map(blocks.filter((b) => b.step.asked).map((b) => [b.step.id, b]));
  const last = new Map<string, { x: number; y: number }>();
  let d = "";
  for (const b of blocks) {
    const id = b.step.thread;
    if (!id) continue;
    const y = b.y + H / 2;
    const before = last.get(id);
    const opener = from.get(id);
    if (before) d += `M${before.x} ${before.y}L${Math.max(before.x, b.x)} ${y}`;
    else if (opener) d += `M${opener.x + 14} ${opener.y + H}V${y - 8}q0 8 8 8H${Math.max(b.x, opener.x + 22)}`;
    last.set(id, { x: b.x + b.w, y });
  }
  return d;
}

// baton draws the line through the blocks from one to the next.
function baton(blocks: Block[]): string {
  let d = "";
  let last: { x: number; y: number } | undefined;
  for (const b of blocks) {
    if (b.step.depth > 0) continue; // the baton is the main thread's
    const y = b.y + H / 2;
    if (!last) d += `M${Math.max(0, b.x - GAP)} ${y}`;
    else if (last.y === y) d += `H${b.x}`;
    else d += `C${last.x + 22} ${last.y} ${last.x + 10} ${y} ${last.x + 32} ${y}H${Math.max(last.x + 32, b.x)}`;
    d += `H${b.x + (b.step.kind === "pass" ? 30 : b.w)}`;
    last = { x: b.x + (b.step.kind === "pass" ? 30 : b.w), y };
  }
  return d;
}

// shape is the outline of a block: failures and refusals are notched, not only coloured.
function shape(b: Block): string {
  const { x, y, w } = b;
  const bad = ["failed", "refused", "lost"].includes(b.step.status);
  if (!bad) return `M${x + 3} ${y}H${x + w - 3}q3 0 3 3V${y + H - 3}q0 3 -3 3H${x + 3}q-3 0 -3 -3V${y + 3}q0 -3 3 -3Z`;
  const n = Math.min(12, w / 2);
  return `M${x} ${y}H${x + w - n}L${x + w} ${y + n}V${y + H}H${x + n}L${x} ${y + H - n}Z`;
}

export function Track({ totals, tree, selected, onSelect, onFold, title }: { totals?: Totals; tree: Tree; selected?: number; onSelect: (n: number) => void; onFold: (lane: string) => void; title?: string }) {
  const { lanes: shown, steps, folds, all } = tree;
  const [axis, setAxis] = useState<Axis>("even");
  const [hover, setHover] = useState<number>();
  const [view, setView] = useState({ left: 0, width: 900, top: 0, height: 600 });
  const box = useRef<HTMLDivElement>(null);
  const lanes = useMemo(() => shown.map((l) => l.id), [shown]);
  const { blocks, end: used } = useMemo(() => place(steps, lanes, axis, view.width - LABEL), [steps, lanes, axis, view.width]);
  const end = Math.max(used, view.width - LABEL - 2);
  const byN = useMemo(() => new Map(blocks.map((b) => [b.step.n, b])), [blocks]);
  const follow = useRef(true);

  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const look = () => setView({ left: el.scrollLeft, width: el.clientWidth, top: el.scrollTop, height: el.clientHeight });
    const seen = new ResizeObserver(look);
    seen.observe(el);
    el.addEventListener("scroll", look, { passive: true });
    return () => {
      seen.disconnect();
      el.removeEventListener("scroll", look);
    };
  }, []);
  useEffect(() => {
    const el = box.current;
    if (el && follow.current && axis === "even") el.scrollLeft = el.scrollWidth;
  }, [end, axis]);
  useEffect(() => {
    const b = selected ? byN.get(selected) : undefined;
    const el = box.current;
    if (b && el && (b.x < el.scrollLeft || b.x + b.w + LABEL > el.scrollLeft + el.clientWidth)) el.scrollLeft = Math.max(0, b.x - el.clientWidth / 2);
  }, [selected, byN]);

  const height = TOP + Math.max(1, lanes.length) * LANE + 22;
  const from = view.left - 100;
  const to = view.left + view.width + 100;
  // only what is in sight is a picture: one of a whole long run would be too large to move
  const x0 = Math.max(0, from - LABEL);
  const x1 = Math.max(x0 + 1, Math.min(end, to));
  const y0 = Math.max(0, view.top - 2 * LANE);
  const y1 = Math.max(y0 + 1, Math.min(height, view.top + view.height + 2 * LANE));
  const bottom = Math.min(height, view.top + view.height);
  const inSight = (y: number) => y + LANE > y0 && y < y1;
  // what is in sight, and one on each side so that the line runs on; a run of any length stays quick
  let lo = blocks.findIndex((b) => b.x + b.w >= from);
  if (lo < 0) lo = Math.max(0, blocks.length - 1);
  lo = Math.max(0, lo - 1);
  let hi = lo;
  while (hi < blocks.length && blocks[hi]!.x <= to && hi - lo < 400) hi++;
  const seen = blocks.slice(lo, Math.min(blocks.length, hi + 1));
  const why = byN.get(hover ?? selected ?? 0);

  const keys = (e: React.KeyboardEvent) => {
    const at = steps.findIndex((s) => s.n === selected) + 1;
    const next = e.key === "ArrowRight" ? at + 1 : e.key === "ArrowLeft" ? at - 1 : e.key === "Home" ? 1 : e.key === "End" ? steps.length : 0;
    const step = steps[next - 1];
    if (step) {
      e.preventDefault();
      onSelect(step.n);
    }
  };
  const state = totals ? (totals.status === "held" ? "held" : totals.status) : "";
  return (
    <section aria-label="Track" className="min-w-0 border-b border-joint-strong pt-2.5 pb-1">
      <div className="mb-1 flex flex-wrap items-baseline gap-x-3.5 gap-y-1 px-4 text-ink-2">
        <b className="text-base text-ink">{title ?? (totals ? `Run ${totals.id}` : "No run yet")}</b>
        {totals && (
          <>
            <span className={state === "held" ? "font-semibold text-call" : state === "failed" ? "font-semibold text-bad" : ""}>{state === "held" ? "held: a person is asked" : state}</span>
            <span>{count(totals.turns, "turn")}</span>
            <span>{count(totals.calls, "call")}</span>
            <span className="font-mono text-[12px]">{spaced(totals.tokens.in + totals.tokens.out)} tok</span>
            {totals.cost > 0 && <span className="font-mono text-[12px]">{totals.cost.toFixed(4)}</span>}
            <span className="font-mono text-[12px]">{span(totals.ms)}</span>
            {totals.models.length > 0 && <span>{totals.models.join(", ")}</span>}
            {totals.tools !== "live" && <span className="font-semibold">tools {totals.tools}</span>}
          </>
        )}
        <span className="ml-auto">
          <Segments label="Time axis" value={axis} onChange={setAxis} options={[["even", "even steps"], ["real", "real time"]]} />
        </span>
      </div>
      <div
        ref={box}
        className="relative max-h-[46dvh] overflow-auto"
        tabIndex={0}
        role="group"
        aria-label="Steps in time; the arrow keys go from step to step"
        onKeyDown={keys}
        onScroll={(e) => (follow.current = e.currentTarget.scrollLeft + e.currentTarget.clientWidth > e.currentTarget.scrollWidth - 60)}
      >
        <div style={{ width: end + LABEL, height }} className="relative">
          <div className="sticky left-0 z-10 w-[128px] bg-ground" style={{ height }}>
            {shown.map((l, i) => inSight(TOP + i * LANE) && <LaneLabel key={l.id} lane={l} top={TOP + i * LANE - 1} colour={lane(all, l.id)} fold={folds.get(l.id)} onFold={onFold} />)}
          </div>
          <svg width={x1 - x0} height={y1 - y0} viewBox={`${x0} ${y0} ${x1 - x0} ${y1 - y0}`} className="absolute" style={{ left: LABEL + x0, top: y0 }} role="img" aria-label={`${steps.length} steps on ${lanes.length} lanes; the list below tells them one by one`}>
            <defs>
              <pattern id="wait" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                <rect width="7" height="7" fill="var(--call-soft)" />
                <rect width="2.2" height="7" fill="var(--call)" />
              </pattern>
              <pattern id="waited" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                <rect width="7" height="7" fill="var(--sunk)" />
                <rect width="2.2" height="7" fill="var(--joint-strong)" />
              </pattern>
            </defs>
            {lanes.map((id, i) => inSight(TOP + i * LANE) && <path key={id} d={`M${x0} ${TOP + i * LANE + H / 2}H${x1}`} stroke="var(--joint)" />)}
            <path d={`M${x0} ${bottom - 18}H${x1}`} stroke="var(--joint)" />
            <path d={threads(seen)} fill="none" stroke="var(--ink-3)" strokeWidth="1.5" />
            <path d={baton(seen)} fill="none" stroke="var(--ink)" strokeWidth="3" />
            {seen.map((b) => inSight(b.y) && (
              <BlockShape key={b.step.id} b={b} lanes={lanes} colour={lane(all, b.step.lane)} axis={axis} on={selected === b.step.n} onSelect={onSelect} onHover={setHover} foot={bottom - 5} />
            ))}
          </svg>
          {why && (
            <div className="pointer-events-none absolute z-20 max-w-[340px] rounded-sm bg-ink px-2.5 py-1 text-[12px] text-face" style={{ left: Math.min(Math.max(LABEL + why.x, view.left + LABEL + 4), view.left + view.width - 350), top: why.y + H + 7 }}>
              why: {why.step.why}
            </div>
          )}
        </div>
      </div>
    </section>
  );
}

// LaneLabel names a lane; where it consults others, it folds and unfolds them.
function LaneLabel({ lane: l, top, colour, fold, onFold }: { lane: Lane; top: number; colour: string; fold?: { folded: boolean; count: number }; onFold: (lane: string) => void }) {
  return (
    <div className="absolute right-0 flex h-[40px] flex-col justify-center overflow-hidden border-l-4 pl-2" style={{ top, left: 16 + Math.min(l.depth, 4) * 10, borderColor: colour }}>
      <span className="flex items-baseline gap-1">
        <b className="truncate text-[14px] leading-tight">{l.agent}</b>
        {fold && (
          <button type="button" className="ml-auto shrink-0 rounded-sm px-1 text-[12px] text-ink-2 hover:bg-sunk" aria-expanded={!fold.folded} aria-label={`${fold.folded ? "Show" : "Fold"} what ${l.agent} asked`} title={fold.folded ? "show what it asked" : "fold what it asked"} onClick={() => onFold(l.id)}>
            {fold.folded ? "▸" : "▾"}
          </button>
        )}
      </span>
      {l.turns + l.calls > 0 && (
        <span className="truncate text-[11px] text-ink-3">
          {[(l.times ?? 0) > 1 && `×${l.times}`, l.turns > 0 && count(l.turns, "turn"), l.calls > 0 && count(l.calls, "call")].filter(Boolean).join(" · ")}
        </span>
      )}
    </div>
  );
}

function BlockShape({ b, lanes, colour, axis, on, onSelect, onHover, foot }: { b: Block; lanes: readonly string[]; colour: string; axis: Axis; on: boolean; onSelect: (n: number) => void; onHover: (n?: number) => void; foot: number }) {
  const { step: s, x, y, w } = b;
  const open = s.status === "waiting" && s.wait && !s.wait.settled_at;
  const bad = ["failed", "refused", "lost"].includes(s.status);
  const busy = s.status === "going" || s.status === "retrying";
  const solid = (s.kind === "call" || s.kind === "consult") && !open && !bad && !busy;
  const ink = solid ? "var(--on-lane)" : "var(--ink)";
  const mouse = { onClick: () => onSelect(s.n), onMouseEnter: () => onHover(s.n), onMouseLeave: () => onHover(undefined), style: { cursor: "pointer" } };
  const letters = Math.floor((w - 18) / 7);
  if (s.kind === "pass") {
    const to = lanes.indexOf(s.lane.slice(0, s.lane.length - s.agent.length) + (s.to ?? ""));
    const down = to > lanes.indexOf(s.lane) || to < 0;
    return (
      <g {...mouse} data-step={s.n} data-kind="pass">
        <rect x={x} y={y - 4} width={Math.max(w, 20)} height={LANE} fill="transparent" />
        <g transform={`translate(${x + 45} ${y + H / 2 + (down ? 1 : -1) * (s.status === "returned" ? LANE / 2 : 0)}) rotate(${s.status === "returned" ? (down ? 72 : -72) : 0})`}>
          <path d="M-17 -6H17L21 0L17 6H-17L-21 0Z" fill={bad ? "var(--bad)" : "var(--ink)"} stroke={on ? "var(--joint-strong)" : undefined} strokeWidth={on ? 4 : undefined} paintOrder="stroke" />
          <path d="M-7 -6V6M7 -6V6" stroke="var(--ground)" strokeWidth="1.6" />
        </g>
        {axis === "even" && <text x={x + 62} y={y + H / 2 + (down ? LANE / 2 + 4 : -LANE / 2 + 4)} fontSize="11" fill="var(--ink-2)">{s.to ? `to ${s.to}` : s.name}</text>}
        {axis === "even" && <text x={x + 24} y={foot} fontSize="11" fontFamily="var(--font-mono)" fill="var(--ink-3)">{s.n}</text>}
      </g>
    );
  }
  return (
    <g {...mouse} data-step={s.n} data-kind={s.kind} data-status={s.status}>
      {b.wait && (
        <>
          <rect x={b.wait.x} y={y} width={b.wait.w} height={H} rx="3" fill="url(#waited)" stroke="var(--joint-strong)" />
          {b.wait.w > 60 && (
            <>
              <rect x={b.wait.x + 5} y={y + 5} width={b.wait.w - 10} height={H - 10} fill="var(--sunk)" />
              <text x={b.wait.x + 10} y={y + 17} fontSize="10.5" fill="var(--ink)">{s.wait?.verb === "amend" ? "changed by" : short(`${verbs[s.wait?.verb ?? ""] ?? ""} by`, 15)}</text>
              <text x={b.wait.x + 10} y={y + 29} fontSize="10.5" fontWeight="650" fill="var(--ink)">{short(s.wait?.settled_by || "nobody", 15)}</text>
            </>
          )}
        </>
      )}
      <path d={shape(b)} className={busy ? "going" : undefined} fill={open ? "url(#wait)" : solid ? colour : bad ? "var(--bad-soft)" : "var(--face)"} stroke={on ? "var(--ink)" : open ? "var(--call)" : bad ? "var(--bad)" : solid && axis === "real" ? "var(--ground)" : colour} strokeWidth={on ? 2.6 : 1.6} />
      {open && w > 40 && <rect x={x + 6} y={y + 5} width={w - 12} height={H - 10} fill="var(--call-soft)" />}
      {w > 40 && (
        <>
          <text x={x + 10} y={y + 16} fontSize="12" fontWeight="650" fill={ink}>{short(title(s), letters)}</text>
          <text x={x + 10} y={y + 30} fontSize="11" fontFamily="var(--font-mono)" fill={solid ? "var(--on-lane)" : open ? "var(--call)" : bad ? "var(--bad)" : "var(--ink-3)"}>{short(sub(s), letters)}</text>
        </>
      )}
      {w > 40 && <text x={x} y={foot} fontSize="11" fontFamily="var(--font-mono)" fill={open ? "var(--call)" : "var(--ink-3)"}>{s.n}</text>}
    </g>
  );
}
