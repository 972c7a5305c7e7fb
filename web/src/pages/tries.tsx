// The history of a tool's tries: any number of them, and two side by side.
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import { get, words, type Tried } from "../api";
import { query, tries, triesKey, useChange } from "../queries";
import { span, spaced, when } from "../say";
import { Button, Json, Note, Status } from "../ui/ui";

const grid = "grid grid-cols-[26px_52px_84px_minmax(0,1fr)_64px_60px_96px] items-center gap-x-2 px-3 max-md:grid-cols-[26px_40px_84px_minmax(0,1fr)_60px] max-md:[&>:nth-child(n+6)]:hidden";

export function History({ tool, onPick }: { tool: string; onPick: (t: Tried) => void }) {
  const pages = useInfiniteQuery({
    queryKey: triesKey(tool),
    queryFn: ({ pageParam }) => tries(tool, pageParam),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const list = pages.data?.pages.flatMap((p) => p.tries) ?? [];
  const count = pages.data?.pages[0]?.count ?? 0;
  const [picked, setPicked] = useState<number[]>([]);
  const [compared, setCompared] = useState(false);
  const opened = useChange((id: number) => get<Tried>(`/tries/${id}`).then(onPick));
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({ count: list.length, getScrollElement: () => box.current, estimateSize: () => 32, overscan: 15 });
  const last = rows.getVirtualItems().at(-1)?.index ?? 0;
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (last >= list.length - 30 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [last, list.length, hasNextPage, isFetchingNextPage, fetchNextPage]);
  const pick = (id: number) => setPicked((p) => (p.includes(id) ? p.filter((x) => x !== id) : [...p.slice(-1), id]));
  if (pages.error) return <div className="p-4"><Note bad>{words(pages.error)}</Note></div>;
  if (pages.data && count === 0) return <p className="p-4 text-ink-2">No tries yet. Each call on the bench is kept here.</p>;
  if (compared && picked.length === 2) return <Compare ids={[Math.min(...picked), Math.max(...picked)]} onBack={() => setCompared(false)} />;
  return (
    <div className="flex h-full min-h-0 flex-col">
      <p className="flex items-center gap-3 border-b border-joint px-3 py-1.5 text-[12px] text-ink-2">
        {spaced(count)} tries, the newest first
        <Button className="ml-auto" disabled={picked.length !== 2} onClick={() => setCompared(true)}>
          Compare two
        </Button>
      </p>
      {opened.error && <Note bad>{words(opened.error)}</Note>}
      <div ref={box} className="min-h-0 flex-1 overflow-auto" role="list" aria-label="Tries" tabIndex={0}>
        <div role="presentation" style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((v) => {
            const t = list[v.index]!;
            return (
              <div key={t.id} role="listitem" aria-posinset={v.index + 1} aria-setsize={count} className={`${grid} absolute inset-x-0 border-b border-joint`} style={{ top: v.start, height: v.size }}>
                <input type="checkbox" aria-label={`Compare try ${t.id}`} checked={picked.includes(t.id)} onChange={() => pick(t.id)} />
                <span className="font-mono text-[12px] text-ink-3">{t.id}</span>
                <Status of={t.status} />
                <button type="button" className="truncate text-left hover:underline" title={t.words} onClick={() => opened.mutate(t.id)}>
                  <span className="font-mono text-[12px]">{JSON.stringify(t.args)}</span>
                </button>
                <span className="text-right text-[12px] text-ink-2">{span(t.ms)}</span>
                <span className="text-right text-[12px] text-ink-2">{t.tools === "stubs" ? "stub" : "live"}</span>
                <span className="text-right text-[12px] text-ink-3">{when(t.at)}</span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

function Compare({ ids, onBack }: { ids: [number, number]; onBack: () => void }) {
  const one = useQuery(query.try(ids[0]));
  const two = useQuery(query.try(ids[1]));
  const error = one.error ?? two.error;
  if (error) return <div className="p-4"><Note bad>{words(error)}</Note></div>;
  if (!one.data || !two.data) return <Note>…</Note>;
  const pair = [one.data, two.data] as const;
  const parts = [
    ["status", (t: Tried) => t.status + (t.error ? `: ${t.error}` : "")],
    ["time", (t: Tried) => span(t.ms)],
    ["tokens", (t: Tried) => spaced(t.tokens)],
    ["arguments", (t: Tried) => t.args],
    ["words", (t: Tried) => t.words],
    ["result", (t: Tried) => t.result],
  ] as const;
  return (
    <div className="flex flex-col">
      <p className="flex items-center gap-3 border-b border-joint px-3 py-1.5">
        <Button onClick={onBack}>Back to the tries</Button> try {ids[0]} beside try {ids[1]}; what differs is marked
      </p>
      {parts.map(([name, of]) => {
        const [a, b] = pair.map(of);
        const differs = name !== "time" && JSON.stringify(a) !== JSON.stringify(b); // no two take the same time
        return (
          <section key={name} aria-label={`${name}${differs ? ", differs" : ""}`} className={`border-b border-joint ${differs ? "bg-sunk" : ""}`}>
            <h2 className="label px-3 pt-1.5">
              {name}
              {differs && " · differs"}
            </h2>
            <div className="grid grid-cols-2 gap-x-2">
              {[a, b].map((v, i) => (typeof v === "string" ? <p key={i} className="px-3 py-1 break-words whitespace-pre-wrap">{v}</p> : <Json key={i} value={v ?? null} />))}
            </div>
          </section>
        );
      })}
    </div>
  );
}
