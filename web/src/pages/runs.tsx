// Runs: the list, which follows; and one run with its track.
import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useMemo, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { words } from "../api";
import { query } from "../queries";
import { next, sorted, type Column, type Sort } from "../sorting";
import { useRun } from "../live";
import { RunPanel } from "../runview";
import { span, spaced, when } from "../say";
import { Note, Pick, Status } from "../ui/ui";
import { StopButton } from "./try";

const columns = "grid grid-cols-[88px_86px_130px_minmax(0,1fr)_54px_54px_66px_60px_66px_104px] gap-x-3 px-4 items-baseline max-md:grid-cols-[80px_80px_minmax(0,1fr)]";

export function Runs() {
  const [params, setParams] = useSearchParams();
  const [text, setText] = useState(params.get("text") ?? "");
  const wanted = useDeferredValue(text);
  const project = useQuery(query.project());
  const tools = useQuery(query.tools());
  const [sort, setSort] = useState<Sort>({ by: "opened_at", down: true });
  const filter = new URLSearchParams({ limit: "500" });
  for (const k of ["status", "agent", "tool"]) if (params.get(k)) filter.set(k, params.get(k)!);
  if (params.get("since")) filter.set("since", new Date(Date.now() - Number(params.get("since")) * 3_600_000).toISOString().slice(0, 17) + "00Z");
  if (wanted) filter.set("text", wanted);
  const runs = useQuery(query.runs(filter.toString()));
  const set = (k: string) => (v: string) =>
    setParams((p) => {
      if (v) p.set(k, v);
      else p.delete(k);
      return p;
    });
  const list = useMemo(() => sorted(runs.data?.runs ?? [], sort), [runs.data, sort]);
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({ count: list.length, getScrollElement: () => box.current, estimateSize: () => 34, overscan: 15 });
  const head = (by: Column, name: string, right?: boolean, narrow?: boolean) => (
    <span role="columnheader" aria-sort={sort.by !== by ? "none" : sort.down ? "descending" : "ascending"} className={`${right ? "text-right" : ""} ${narrow ? "" : "max-md:hidden"}`}>
      <button type="button" className={sort.by === by ? "font-bold text-ink" : ""} onClick={() => setSort((s) => next(s, by))}>
        {name}
        {sort.by === by && <span aria-hidden> {sort.down ? "↓" : "↑"}</span>}
      </button>
    </span>
  );
  const any = params.size > 0 || wanted;
  return (
    <div className="flex h-full flex-col">
      <h1 className="sr-only">Runs</h1>
      <div className="flex flex-wrap items-center gap-2 border-b border-joint bg-face px-4 py-2">
        <input aria-label="Text in message, answer or problem" placeholder="text…" className="field !w-52" value={text} onChange={(e) => setText(e.target.value)} />
        <Pick label="Status" value={params.get("status") ?? ""} onChange={set("status")} options={[["", "any status"], ...["going", "held", "done", "failed", "stopped"].map((s) => [s, s] as const)]} />
        <Pick label="Agent" value={params.get("agent") ?? ""} onChange={set("agent")} options={[["", "any agent"], ...(project.data?.agents ?? []).map((a) => [a.id, a.id] as const), ...(project.data?.relays ?? []).map((r) => [r.id, `relay ${r.id}`] as const)]} />
        <Pick label="Tool" value={params.get("tool") ?? ""} onChange={set("tool")} options={[["", "any tool"], ...(tools.data?.tools ?? []).map((t) => [t.id, t.id] as const)]} />
        <Pick label="Time" value={params.get("since") ?? ""} onChange={set("since")} options={[["", "any time"], ["1", "the last hour"], ["24", "the last day"], ["168", "the last week"]]} />
        <span className="ml-auto text-ink-2">
          {list.length} {runs.data?.next ? "newest " : ""}shown; the list follows
        </span>
      </div>
      {runs.error && <div className="p-4"><Note bad>{words(runs.error)}</Note></div>}
      <div role="table" aria-label="Runs" aria-rowcount={runs.data?.next ? -1 : list.length + 1} className="flex min-h-0 flex-1 flex-col">
        <div role="rowgroup">
          <div role="row" aria-rowindex={1} className={`${columns} border-b border-joint py-1.5 text-xs text-ink-3`}>
            {head("id", "run", false, true)}
            {head("status", "status", false, true)}
            {head("path", "agents")}
            {head("text", "message", false, true)}
            {head("turns", "turns", true)}
            {head("calls", "calls", true)}
            {head("tokens", "tokens", true)}
            {head("cost", "cost", true)}
            {head("ms", "worked", true)}
            {head("opened_at", "opened", true)}
          </div>
        </div>
        <div ref={box} role="rowgroup" className="min-h-0 flex-1 overflow-auto">
          {list.length === 0 && !runs.isPending && !runs.error && (
            <div role="row">
              <div role="cell" className="p-4 text-ink-2">{any ? "No run fits." : <>No runs yet. <Link className="underline" to="/try">Say something</Link> to begin one.</>}</div>
            </div>
          )}
          <div role="presentation" style={{ height: rows.getTotalSize(), position: "relative" }}>
            {rows.getVirtualItems().map((v) => {
              const r = list[v.index]!;
              return (
                <div role="row" key={r.id} aria-rowindex={v.index + 2} className={`${columns} absolute inset-x-0 border-b border-joint py-1.5 hover:bg-face ${r.status === "held" ? "bg-call-soft" : ""}`} style={{ top: v.start, height: v.size }}>
                  <span role="cell" className="truncate">
                    <Link to={`/runs/${r.id}`} className="font-mono text-[12px] underline">
                      {r.id}
                    </Link>
                  </span>
                  <span role="cell"><Status of={r.status} /></span>
                  <span role="cell" className="truncate max-md:hidden">{r.path.join(" → ")}</span>
                  <span role="cell" className="truncate">
                    {r.text} {(r.problem || r.answer) && <span className={r.problem ? "text-bad" : "text-ink-3"}>— {r.problem?.say ?? r.answer.replace(/[*|]|(-{3,})/g, "")}</span>}
                  </span>
                  <span role="cell" className="max-md:hidden text-right font-mono text-[12px]">{r.turns}</span>
                  <span role="cell" className="max-md:hidden text-right font-mono text-[12px]">{r.calls}</span>
                  <span role="cell" className="max-md:hidden text-right font-mono text-[12px]">{spaced(r.tokens.in + r.tokens.out)}</span>
                  <span role="cell" className="max-md:hidden text-right font-mono text-[12px]">{r.cost > 0 ? r.cost.toFixed(4) : ""}</span>
                  <span role="cell" className="max-md:hidden text-right font-mono text-[12px]">{span(r.ms)}</span>
                  <span role="cell" className="max-md:hidden text-right whitespace-nowrap">{when(r.opened_at)}</span>
                </div>
              );
            })}
          </div>
        </div>
      </div>
    </div>
  );
}

export function RunPage() {
  const { id } = useParams();
  const view = useRun(id);
  const t = view.totals;
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr] max-md:block max-md:overflow-auto">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b border-joint bg-face px-4 py-2">
        <h1 className="sr-only">Run {id}</h1>
        <Link to="/runs" className="underline">
          Runs
        </Link>
        {t && (
          <>
            <Status of={t.status} />
            <span className="min-w-0 truncate">
              {t.person}: {t.text}
            </span>
            <Link to={`/try/${t.session}`} className="ml-auto shrink-0 underline">
              the conversation
            </Link>
            {["going", "held"].includes(t.status) && <StopButton run={t.id} />}
          </>
        )}
        {t?.problem && (
          <p className="w-full text-bad">
            {t.problem.say.replace(/\.$/, "")}. {t.problem.remedy}
          </p>
        )}
      </div>
      <RunPanel view={view} title={`Run ${id}`} />
    </div>
  );
}
