// Bench: each tool by itself, with its contract, a form, the result and the words the model would read.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { NavLink, useParams } from "react-router";
import { get, post, words, type Tool, type Tried } from "../api";
import { span } from "../say";
import { Button, Json, Note, Segments, Status } from "../ui/ui";

const SchemaForm = lazy(() => import("../form"));
type Values = Record<string, unknown>;

export function Bench() {
  const { tool: name } = useParams();
  const list = useQuery({ queryKey: ["tools"], queryFn: () => get<{ tools: Tool[] }>("/tools") });
  const tools = list.data?.tools ?? [];
  const tool = tools.find((t) => t.id === name) ?? (name ? undefined : tools[0]);
  return (
    <div className="grid h-full grid-cols-[240px_minmax(0,1fr)]">
      <nav aria-label="Tools" className="overflow-auto border-r border-joint-strong bg-face py-1.5">
        {tools.map((t) => (
          <NavLink key={t.id} to={`/bench/${t.id}`} className={`block px-4 py-1.5 ${t === tool ? "bg-ground shadow-[inset_4px_0_0_var(--ink)]" : "hover:bg-ground"}`}>
            <span className="font-mono text-[12px]">{t.id}</span>
            <span className="block text-[12px] text-ink-3">
              {t.effect} · {t.handler}
              {t.gate && " · gate"}
            </span>
          </NavLink>
        ))}
      </nav>
      {list.error ? (
        <div className="p-5"><Note bad>{words(list.error)}</Note></div>
      ) : tool ? (
        <One key={tool.id} tool={tool} />
      ) : (
        <div className="p-5">{list.data && <Note>{name ? `There is no tool ${name}.` : "The project has no tools."}</Note>}</div>
      )}
    </div>
  );
}

function One({ tool }: { tool: Tool }) {
  const [args, setArgs] = useState<Values>({});
  const [live, setLive] = useState<"live" | "stubs">(tool.handler === "stub" || tool.effect !== "read" ? "stubs" : "live");
  const [done, setDone] = useState<Tried>();
  const [error, setError] = useState<string>();
  const [busy, setBusy] = useState(false);
  const call = async (v: Values) => {
    setBusy(true);
    setError(undefined);
    try {
      setDone(await post<Tried>(`/tools/${tool.id}/try`, { args: v, tools: live }));
    } catch (e) {
      setError(words(e));
    } finally {
      setBusy(false);
    }
  };
  return (
    <div className="grid min-h-0 grid-cols-2">
      <section aria-label="Contract and form" tabIndex={0} className="overflow-auto border-r border-joint-strong p-5">
        <h1 className="font-mono text-base font-bold">{tool.id}</h1>
        <p className="mb-2 text-base">{tool.summary}</p>
        <p className="mb-4 text-[12px] text-ink-2">
          {tool.effect}
          {tool.replay && `, replay: ${tool.replay}`} · {tool.handler} · {tool.stubs} stubs · used by {tool.agents.join(", ") || "nobody"} · <span className="font-mono">{tool.place.file}:{tool.place.line}</span>
          {tool.gate && (
            <span className="block text-call">
              gate: {tool.gate}; {tool.by.join(", ") || "anybody"} decides
            </span>
          )}
        </p>
        <Suspense fallback={<Note>…</Note>}>
          <SchemaForm id="bench" schema={tool.input as Values} value={args} onChange={setArgs} onSubmit={(v) => void call(v)} unchecked>
            <div className="mt-3 flex items-center gap-3">
              <Button tone="call" type="submit" disabled={busy}>
                Call it
              </Button>
              <Segments label="Live or stub" value={live} onChange={setLive} options={[["live", "live"], ["stubs", "stub"]]} />
              {live === "live" && tool.effect !== "read" && <span className="text-call">this will really happen</span>}
            </div>
          </SchemaForm>
        </Suspense>
        <details className="mt-6">
          <summary className="label">the contract, as models see it</summary>
          <Json value={tool.contract} />
        </details>
      </section>
      <section aria-label="Result" aria-live="polite" tabIndex={0} className="overflow-auto bg-face">
        {error && <div className="p-5"><Note bad>{error}</Note></div>}
        {!done && !error && <p className="p-5 text-ink-2">Call the tool to see its result, and the words that a model would read.</p>}
        {done && !error && (
          <>
            <p className="border-b border-joint px-4 py-2.5">
              <Status of={done.status} /> in {span(done.ms)}
              {done.gate && <span className="text-call"> · {done.gate}</span>}
            </p>
            {done.error && (
              <div className="px-4 pt-3">
                <Note bad>
                  {done.error} <span className="font-mono text-[12px]">({done.class}, {done.outcome?.replace("_", " ")})</span>
                </Note>
              </div>
            )}
            <h2 className="label px-4 pt-3">the words the model would read</h2>
            <p className="border-b border-joint px-4 pt-1 pb-3 text-base whitespace-pre-wrap">{done.words}</p>
            {done.result !== undefined && (
              <>
                <h2 className="label px-4 pt-3">result</h2>
                <Json value={done.result} />
              </>
            )}
            {done.sets && Object.keys(done.sets).length > 0 && (
              <>
                <h2 className="label px-4 pt-1">sets in the state</h2>
                <Json value={done.sets} />
              </>
            )}
            {done.sent && (
              <>
                <h2 className="label px-4 pt-1">proof</h2>
                <pre className="px-4 py-2 font-mono text-[12px] break-all whitespace-pre-wrap">
                  {done.sent.method} {done.sent.url} {done.sent.status ? `→ ${done.sent.status}, ${done.sent.bytes ?? 0} bytes` : ""}
                  {done.sent.body && `\n${done.sent.body}`}
                  {done.sent.log && `\n${done.sent.log}`}
                </pre>
              </>
            )}
          </>
        )}
      </section>
    </div>
  );
}
