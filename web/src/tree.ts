// A run is a tree of threads: what of it is seen when some of its lanes are folded.
import type { Lane, Step, Totals } from "./api";

// Tree is the part of a run that is seen.
export interface Tree {
  lanes: Lane[]; // seen, from top to bottom
  steps: Step[]; // seen, in order
  folds: Map<string, { folded: boolean; count: number }>; // lanes that consult, with how many lanes are below them
  all: readonly string[]; // the ids of all lanes, for their colours
}

// many is the number of steps from which a run is shown folded at first.
export const many = 400;

// open says which lanes are folded before anybody has said so.
export const atFirst = (steps: number, lanes: readonly Lane[]): ReadonlySet<string> => new Set(steps > many ? lanes.filter((l) => lanes.some((x) => x.under === l.id)).map((l) => l.id) : []);

export function seen(lanes: readonly Lane[], steps: readonly Step[], folded: ReadonlySet<string>): Tree {
  const byID = new Map(lanes.map((l) => [l.id, l]));
  const hidden = (l: Lane): boolean => l.under !== undefined && (folded.has(l.under) || hidden(byID.get(l.under)!));
  const out = new Set(lanes.filter(hidden).map((l) => l.id));
  const folds = new Map<string, { folded: boolean; count: number }>();
  for (const l of lanes) for (let up = l.under; up !== undefined; up = byID.get(up)!.under) folds.set(up, { folded: folded.has(up), count: (folds.get(up)?.count ?? 0) + 1 });
  return { lanes: lanes.filter((l) => !out.has(l.id)), steps: out.size ? steps.filter((s) => !out.has(s.lane)) : (steps as Step[]), folds, all: lanes.map((l) => l.id) };
}

// around gives a step that is seen for one that may be folded away: itself, or the consult that it is part of.
export function around(tree: Tree, steps: readonly Step[], n?: number): number | undefined {
  if (n === undefined) return undefined;
  const shown = new Set(tree.lanes.map((l) => l.id));
  let s: Step | undefined = steps[n - 1];
  while (s && !shown.has(s.lane)) s = steps.find((x) => x.id === s!.thread);
  return s?.n;
}

// lanesOf gives the lanes of a run, or those that its project would begin with.
export const lanesOf = (totals?: Totals, agents?: readonly string[]): Lane[] => totals?.lanes ?? (agents ?? []).map((a) => ({ id: a, agent: a, depth: 0, turns: 0, calls: 0 }));
