// A run: its track, its steps, and the inspector of the one that is chosen.
import { useEffect, useState } from "react";
import type { RunView as View } from "./live";
import { words } from "./api";
import { Inspector } from "./inspector";
import { Steps } from "./steps";
import { Track } from "./track";
import { Note } from "./ui/ui";

export function RunPanel({ view, agents, title }: { view: View; agents?: readonly string[]; title?: string }) {
  const [picked, setPicked] = useState<{ run?: string; n?: number }>({});
  const run = view.totals?.id;
  // until one is chosen, the newest that has something to show is
  const n = picked.run === run && picked.n ? picked.n : view.steps.findLast((s) => s.status !== "going")?.n;
  const choose = (k: number) => setPicked({ run, n: k });
  useEffect(() => {
    setPicked((p) => (p.run === run ? p : {}));
  }, [run]);
  return (
    <section aria-label="Run" className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <Track totals={view.totals} steps={view.steps} selected={n} onSelect={choose} agents={agents} title={view.totals ? undefined : title} />
      {view.error ? (
        <div className="p-4">
          <Note bad>{words(view.error)}</Note>
        </div>
      ) : (
        <div className="grid min-h-0 grid-cols-[minmax(0,1fr)_minmax(300px,392px)] max-md:grid-cols-[minmax(0,1fr)] max-md:grid-rows-[minmax(16rem,auto)_minmax(20rem,auto)]">
          {view.steps.length ? <Steps steps={view.steps} lines={view.lines} selected={n} onSelect={choose} /> : <div className="border-r border-joint-strong p-4 text-ink-2">The steps of the run will stand here: who did what, why it came next, how long it took and what it cost.</div>}
          <Inspector run={run} step={n ? view.steps[n - 1] : undefined} lines={view.lines} />
        </div>
      )}
    </section>
  );
}
