// A run: its track, its steps, and the inspector of the one that is chosen.
import { useEffect, useMemo, useState } from "react";
import type { RunView as View } from "./live";
import { words, type Step, type Totals } from "./api";
import { Inspector } from "./inspector";
import { Steps } from "./steps";
import { Track } from "./track";
import { around, atFirst, lanesOf, seen, type Tree } from "./tree";
import { Note } from "./ui/ui";

// useTree gives the part of a run that is seen, and folds and unfolds what a lane consults.
export function useTree(totals: Totals | undefined, steps: Step[], agents?: readonly string[]): [Tree, (lane: string) => void] {
  const [said, setSaid] = useState<{ run?: string; folded?: ReadonlySet<string> }>({});
  const run = totals?.id;
  const lanes = useMemo(() => lanesOf(totals, agents), [totals, agents]);
  const folded = useMemo(() => (said.run === run ? said.folded : undefined) ?? atFirst(steps.length, lanes), [said, run, steps.length, lanes]);
  const tree = useMemo(() => seen(lanes, steps, folded), [lanes, steps, folded]);
  const fold = (lane: string) => {
    const next = new Set(folded);
    if (!next.delete(lane)) next.add(lane);
    setSaid({ run, folded: next });
  };
  return [tree, fold];
}

export function RunPanel({ view, agents, title }: { view: View; agents?: readonly string[]; title?: string }) {
  const [picked, setPicked] = useState<{ run?: string; n?: number }>({});
  const run = view.totals?.id;
  const [tree, fold] = useTree(view.totals, view.steps, agents);
  // until one is chosen, the newest that has something to show is
  const n = around(tree, view.steps, picked.run === run && picked.n ? picked.n : view.steps.findLast((s) => s.status !== "going")?.n);
  const choose = (k: number) => setPicked({ run, n: k });
  useEffect(() => {
    setPicked((p) => (p.run === run ? p : {}));
  }, [run]);
  return (
    <section aria-label="Run" className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <div className="min-w-0">
        <Track totals={view.totals} tree={tree} selected={n} onSelect={choose} onFold={fold} title={view.totals ? undefined : title} />
        {view.trouble && (
          <div className="px-4 py-2">
            <Note bad>{view.trouble.slice(0, 1).toUpperCase() + view.trouble.slice(1)}.</Note>
          </div>
        )}
      </div>
      {view.error ? (
        <div className="p-4">
          <Note bad>{words(view.error)}</Note>
        </div>
      ) : (
        <div className="grid min-h-0 grid-cols-[minmax(0,1fr)_minmax(300px,392px)] max-md:grid-cols-[minmax(0,1fr)] max-md:grid-rows-[minmax(16rem,auto)_minmax(20rem,auto)]">
          {view.steps.length ? <Steps steps={tree.steps} folds={tree.folds} onFold={fold} lines={view.lines} selected={n} onSelect={choose} /> : <div className="border-r border-joint-strong p-4 text-ink-2">The steps of the run will stand here: who did what, why it came next, how long it took and what it cost.</div>}
          <Inspector run={run} step={n ? view.steps[n - 1] : undefined} lines={view.lines} onSelect={choose} />
        </div>
      )}
    </section>
  );
}
