// Live views: the stream of everything, and the stream of one run.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { get, type Change, type Delta, type Run, type RunRow, type Step, type Totals } from "./api";

// useLive keeps the lists up to date and says whether the service answers.
export function useLive(): { online: boolean; tickets: number } {
  const queries = useQueryClient();
  const [online, setOnline] = useState(true);
  const [tickets, setTickets] = useState(0);
  useEffect(() => {
    const source = new EventSource("/api/live");
    let lost = false;
    source.onopen = () => {
      setOnline(true);
      if (lost) void queries.invalidateQueries();
      lost = false;
    };
    source.onerror = () => {
      lost = true;
      setOnline(false);
    };
    source.addEventListener("tickets", (e) => {
      setTickets((JSON.parse(e.data) as { open: number }).open);
      void queries.invalidateQueries({ queryKey: ["tickets"] });
      void queries.invalidateQueries({ queryKey: ["ticket"] });
    });
    source.addEventListener("run", (e) => {
      const row = JSON.parse(e.data) as RunRow;
      queries.setQueryData<{ runs: RunRow[] }>(["runs"], (old) => old && { ...old, runs: old.runs.some((r) => r.id === row.id) ? old.runs.map((r) => (r.id === row.id ? row : r)) : [row, ...old.runs] });
      void queries.invalidateQueries({ queryKey: ["runs"] });
      void queries.invalidateQueries({ queryKey: ["sessions"] });
      void queries.invalidateQueries({ queryKey: ["session", row.session] });
    });
    source.addEventListener("changed", (e) => {
      const { topic } = JSON.parse(e.data) as { topic: string };
      if (topic === "all") return void queries.invalidateQueries();
      if (topic === "drills") return void queries.invalidateQueries({ queryKey: ["drills"] });
      for (const key of ["project", "problems", "tools", "drills"]) void queries.invalidateQueries({ queryKey: [key] });
    });
    return () => source.close();
  }, [queries]);
  return { online, tickets };
}

export interface RunView {
  steps: Step[];
  totals?: Totals;
  typing: Record<string, string>; // words of turns that are still coming, by step
  error?: unknown;
}

// useRun reads a run and follows it. What comes is drawn once a frame.
export function useRun(id?: string): RunView {
  const [view, setView] = useState<RunView & { id?: string }>({ steps: [], typing: {} });
  useEffect(() => {
    if (!id) return;
    let source: EventSource | undefined;
    let frame = 0;
    let gone = false;
    let steps: Step[] = [];
    let totals: Totals | undefined;
    let typing: Record<string, string> = {};
    const draw = () => {
      frame ||= requestAnimationFrame(() => {
        frame = 0;
        if (!gone) setView({ id, steps: [...steps], totals, typing: { ...typing } });
      });
    };
    const over = () => !!totals && ["done", "failed", "stopped"].includes(totals.status);
    get<Run>(`/runs/${encodeURIComponent(id)}`)
      .then((run) => {
        if (gone) return;
        steps = run.steps;
        totals = run.run;
        draw();
        if (over()) return;
        source = new EventSource(`/api/runs/${encodeURIComponent(id)}/events?after=${run.run.seq}`);
        source.addEventListener("event", (e) => {
          const change = JSON.parse(e.data) as Change;
          for (const s of change.steps) {
            steps[s.n - 1] = s;
            if (s.kind === "turn" && s.status !== "going") typing = Object.fromEntries(Object.entries(typing).filter(([id]) => id !== s.id));
          }
          totals = change.totals;
          if (over()) {
            typing = {};
            source?.close();
          }
          draw();
        });
        source.addEventListener("delta", (e) => {
          const d = JSON.parse(e.data) as Delta;
          typing[d.step] = (typing[d.step] ?? "") + d.text;
          draw();
        });
      })
      .catch((error: unknown) => !gone && setView({ id, steps: [], typing: {}, error }));
    return () => {
      gone = true;
      source?.close();
      cancelAnimationFrame(frame);
    };
  }, [id]);
  return view.id === id ? view : { steps: [], typing: {} };
}
