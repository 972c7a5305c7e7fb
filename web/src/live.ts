// Live views: the stream of everything, and the stream of one run.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { stale } from "./queries";
import { get, parse, type Change, type Delta, type Run, type RunRow, type Step, type Totals } from "./api";

// Note is what the stream of everything brings. A browser opens six connections to a host and no more, so of all
// tabs one reads the stream and tells the others.
type Note = { kind: "online"; online: boolean; again?: boolean } | { kind: "tickets"; open: number } | { kind: "run"; row: RunRow } | { kind: "changed"; topic: string } | { kind: "hello" };

// useLive keeps the lists up to date and says whether the service answers.
export function useLive(): { online: boolean; tickets: number } {
  const queries = useQueryClient();
  const [online, setOnline] = useState(true);
  const [tickets, setTickets] = useState(0);
  useEffect(() => {
    const others = new BroadcastChannel("stonebaton");
    const end = new AbortController();
    const last: Partial<Record<Note["kind"], Note>> = {};
    let leads = false;
    const fresh = (keys: readonly (readonly unknown[])[]) => keys.forEach((queryKey) => void queries.invalidateQueries({ queryKey }));
    const hear = (n: Note) => {
      switch (n.kind) {
        case "hello": // a tab has opened; the one that reads tells it how things are
          if (leads) for (const k of ["online", "tickets"] as const) if (last[k]) others.postMessage(last[k]);
          return;
        case "online":
          setOnline(n.online);
          if (n.again) void queries.invalidateQueries();
          return;
        case "tickets":
          setTickets(n.open);
          return fresh(stale.tickets);
        case "run":
          return fresh([...stale.session(n.row.session), ...stale.runs]);
        case "changed":
          if (n.topic === "all") return void queries.invalidateQueries();
          return fresh(n.topic === "drills" ? stale.drills : stale.project);
      }
    };
    const tell = (n: Note) => {
      last[n.kind] = n;
      hear(n);
      others.postMessage(n);
    };
    others.onmessage = (e: MessageEvent<Note>) => hear(e.data);
    others.postMessage({ kind: "hello" } satisfies Note);
    navigator.locks
      .request("stonebaton-live", { signal: end.signal }, () => {
        leads = true;
        const source = new EventSource("/api/live");
        let lost = false;
        source.onopen = () => {
          tell({ kind: "online", online: true, again: lost });
          lost = false;
        };
        source.onerror = () => {
          lost = true;
          tell({ kind: "online", online: false });
        };
        source.addEventListener("tickets", (e) => tell({ kind: "tickets", ...(JSON.parse(e.data) as { open: number }) }));
        source.addEventListener("run", (e) => tell({ kind: "run", row: JSON.parse(e.data) as RunRow }));
        source.addEventListener("changed", (e) => tell({ kind: "changed", ...(JSON.parse(e.data) as { topic: string }) }));
        return new Promise<void>((done) =>
          end.signal.addEventListener("abort", () => {
            source.close();
            done();
          }),
        );
      })
      .catch(() => undefined); // the page went before it was its turn
    return () => {
      end.abort();
      others.close();
    };
  }, [queries]);
  return { online, tickets };
}

const without = (all: Record<string, string>, id: string) => (id in all ? Object.fromEntries(Object.entries(all).filter(([step]) => step !== id)) : all);

export interface RunView {
  steps: Step[];
  totals?: Totals;
  typing: Record<string, string>; // words of turns that are still coming, by step
  lines: Record<string, string>; // what calls under way say of themselves, by step
  trouble?: string; // what keeps it from going on for now
  error?: unknown;
}

// useRun reads a run and follows it while the page is seen. What comes is drawn once a frame.
export function useRun(id?: string): RunView {
  const [view, setView] = useState<RunView & { id?: string }>({ steps: [], typing: {}, lines: {} });
  useEffect(() => {
    if (!id) return;
    let source: EventSource | undefined;
    let frame = 0;
    let gone = false;
    let steps: Step[] = [];
    let totals: Totals | undefined;
    let typing: Record<string, string> = {};
    let lines: Record<string, string> = {};
    let trouble: string | undefined;
    const draw = () => {
      frame ||= requestAnimationFrame(() => {
        frame = 0;
        if (!gone) setView({ id, steps: [...steps], totals, typing: { ...typing }, lines: { ...lines }, trouble });
      });
    };
    const over = () => !!totals && ["done", "failed", "stopped"].includes(totals.status);
    const follow = () => {
      source?.close();
      source = undefined;
      if (gone || !totals || over() || document.hidden) return; // a hidden page needs no stream: it resumes where it was when it is seen
      source = new EventSource(`/api/runs/${encodeURIComponent(id)}/events?cursor=${totals.seq}`);
      source.addEventListener("event", (e) => {
        const change = parse<Change>(e.data);
        for (const s of change.steps) {
          steps[s.n - 1] = s;
          if (s.status === "going") continue;
          typing = without(typing, s.id);
          lines = without(lines, s.id);
        }
        totals = change.totals;
        trouble = undefined;
        if (over()) {
          typing = {};
          lines = {};
          source?.close();
        }
        draw();
      });
      source.addEventListener("delta", (e) => {
        const d = JSON.parse(e.data) as Delta;
        if (d.step === "") {
          trouble = d.trouble;
          draw();
          return;
        }
        const of = steps.findLast((s) => s.id === d.step)?.kind === "call" ? lines : typing;
        of[d.step] = ((of[d.step] ?? "") + d.text).slice(-100_000);
        draw();
      });
    };
    get<Run>(`/runs/${encodeURIComponent(id)}`)
      .then((run) => {
        if (gone) return;
        steps = run.steps;
        totals = run.run;
        draw();
        follow();
      })
      .catch((error: unknown) => !gone && setView({ id, steps: [], typing: {}, lines: {}, error }));
    document.addEventListener("visibilitychange", follow);
    window.addEventListener("pagehide", follow);
    return () => {
      gone = true;
      source?.close();
      document.removeEventListener("visibilitychange", follow);
      window.removeEventListener("pagehide", follow);
      cancelAnimationFrame(frame);
    };
  }, [id]);
  return view.id === id ? view : { steps: [], typing: {}, lines: {} };
}
