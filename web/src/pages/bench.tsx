// Bench: each tool alone, with its contract, a form, what left and came back, the words the model would read, and the history of tries.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useDeferredValue, useState, type FormEvent } from "react";
import { NavLink, useLocation, useParams } from "react-router";
import { words, type Tool, type Tried } from "../api";
import { change, query, stale, useChange } from "../queries";
import { Pictures } from "../files";
import { SentView } from "../sent";
import { count, span, when } from "../say";
import { Button, Json, Note, Segments, Status, Tabs } from "../ui/ui";
import { Dropped } from "./sources";
import { History } from "./tries";

const SchemaForm = lazy(() => import("../form"));
type Values = Record<string, unknown>;

export function Bench() {
  const { tool: name } = useParams();
  const list = useQuery(query.tools());
  const [text, setText] = useState("");
  const wanted = useDeferredValue(text.toLowerCase());
  const tools = list.data?.tools ?? [];
  const shown = tools.filter((t) => !wanted || `${t.id} ${t.summary} ${t.handler} ${t.source ?? ""}`.toLowerCase().includes(wanted));
  const tool = tools.find((t) => t.id === name) ?? (name ? undefined : tools[0]);
  const sources = useQuery(query.sources());
  const looked = useChange(change.functions);
  const [file, setFile] = useState("");
  const take = async (f?: File) => {
    if (!f) return;
    setFile(f.name);
    looked.mutate({ file: f.name, text: await f.text() });
  };
  return (
    <div
      className="grid h-full grid-cols-[244px_minmax(0,1fr)] max-md:block max-md:overflow-auto"
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        void take(e.dataTransfer.files[0]);
      }}
    >
      <nav aria-label="Tools" className="flex min-h-0 flex-col border-r border-joint-strong bg-face max-md:max-h-56 max-md:border-r-0 max-md:border-b">
        {tools.length > 8 && (
          <div className="border-b border-joint p-2">
            <input aria-label="Find a tool" placeholder="find…" className="field" value={text} onChange={(e) => setText(e.target.value)} />
          </div>
        )}
        <div className="min-h-0 flex-1 overflow-auto py-1">
          {shown.map((t) => (
            <NavLink key={t.id} to={`/bench/${t.id}`} className={`block px-4 py-1.5 ${t === tool ? "bg-ground shadow-[inset_4px_0_0_var(--ink)]" : "hover:bg-ground"}`}>
              <span className="font-mono text-[12px]">{t.id}</span>
              <span className="block text-[12px] text-ink-3">
                {t.effect} · {t.handler} · <Rung of={t.rung} />
                {t.gate && " · gate"}
                {t.problems.length > 0 && <span className="font-semibold whitespace-nowrap text-ink"> · {count(t.problems.length, "problem")}</span>}
              </span>
            </NavLink>
          ))}
          {tools.length > 0 && shown.length === 0 && <p className="px-4 py-2 text-ink-2">No tool fits.</p>}
        </div>
        <div className="border-t border-joint px-4 py-2 text-[12px] text-ink-2 max-md:hidden">
          {(sources.data?.sources ?? []).length > 0 && (
            <p className="mb-1">
              sources:{" "}
              {sources.data!.sources.map((s, i) => (
                <span key={s.id}>
                  {i > 0 && ", "}
                  <NavLink className="font-mono underline" to={`/bench/source/${s.id}`}>
                    {s.id}
                  </NavLink>
                </span>
              ))}
            </p>
          )}
          <label className="block cursor-pointer">
            Drop a file of functions here, or <span className="underline">choose one</span>, to see what it would bring.
            <input type="file" aria-label="A file of functions" accept=".py,.js,.mjs,.cjs,.ts,.mts" className="sr-only" onChange={(e) => void take(e.target.files?.[0])} />
          </label>
        </div>
      </nav>
      {looked.data || looked.error || looked.isPending ? (
        <div className="overflow-auto p-5">
          {looked.isPending && <Note>{file} is being looked at…</Note>}
          {looked.error && <Note bad>{words(looked.error)}</Note>}
          {looked.data && <Dropped file={file} of={looked.data} onClose={() => looked.reset()} />}
        </div>
      ) : list.error ? (
        <div className="p-5">
          <Note bad>{words(list.error)}</Note>
        </div>
      ) : tool ? (
        <One key={tool.id} tool={tool} />
      ) : (
        <div className="p-5">{list.data && <Note>{name ? `Unknown tool ${name}.` : "The project has no tools."}</Note>}</div>
      )}
    </div>
  );
}

// Rung says how far a tool is let, in the words of the files.
export function Rung({ of }: { of: string }) {
  return <span title={{ stub: "answered by its stubs", read: "live if it only reads", ask: "live, and a person agrees to what is not a read", free: "live" }[of]}>rung {of}</span>;
}

function One({ tool }: { tool: Tool }) {
  const from = useLocation().state as { args?: Values } | null; // of a step that is to be called again
  const [args, setArgs] = useState<Values>(from?.args ?? {});
  const [live, setLive] = useState<"live" | "stubs">(tool.handler === "stub" || (tool.effect !== "read" && tool.stubs > 0) ? "stubs" : "live");
  const [picked, setPicked] = useState<Tried>(); // of the tries before
  const [tab, setTab] = useState("result");
  const tried = useChange(change.try, () => stale.tries(tool.id));
  const done = picked ?? tried.data;
  const error = tried.error && !picked ? words(tried.error) : undefined;
  const call = (v: Values) => {
    setPicked(undefined);
    setTab((t) => (t === "tries" ? "result" : t));
    tried.mutate({ tool: tool.id, args: v, tools: live });
  };
  const again = (t: Tried) => {
    setArgs(t.args as Values);
    setLive(t.tools);
    setPicked(t);
    setTab("result");
  };
  return (
    <div className="grid min-h-0 grid-cols-[minmax(0,5fr)_minmax(0,6fr)] max-md:block">
      <section aria-label="Contract and form" tabIndex={0} className="overflow-auto border-r border-joint-strong p-5">
        <h1 className="font-mono text-base font-bold">{tool.id}</h1>
        <p className="mb-2 text-base">{tool.summary}</p>
        <About tool={tool} />
        {tool.problems.map((p, i) => (
          <p key={i} className={`mb-2 border-l-4 bg-sunk px-3 py-1.5 text-[12px] ${p.grade === "error" ? "border-bad" : "border-joint-strong"}`}>
            <b>{p.grade}</b>{" "}
            <span className="font-mono">
              {p.file}:{p.line}
            </span>
            {p.text && <code className="mt-0.5 block truncate font-mono" title={p.text}>{p.text}</code>}
            <span className="block">
              {p.say}. {p.remedy}
            </span>
          </p>
        ))}
        <Suspense fallback={<Note>…</Note>}>
          <SchemaForm id="bench" schema={tool.input as Values} value={args} onChange={setArgs} onSubmit={call} unchecked>
            <div className="mt-3 flex flex-wrap items-center gap-3">
              <Button tone="ink" type="submit" disabled={tried.isPending}>
                Call it
              </Button>
              <Segments label="Live or stub" value={live} onChange={setLive} options={[["live", "live"], ["stubs", "stub"]]} />
              {live === "live" && tool.effect !== "read" && <b>this will really happen</b>}
            </div>
          </SchemaForm>
        </Suspense>
        <details open className="mt-6">
          <summary className="label">the contract, as models see it</summary>
          <Json value={tool.contract} />
        </details>
      </section>
      <section aria-label="Result" aria-live="polite" className="flex min-h-0 flex-col bg-face">
        <Tabs
          label="Parts of the try"
          value={tab}
          onChange={setTab}
          tabs={[
            { id: "result", name: "Result", body: error ? <div className="p-4"><Note bad>{error}</Note></div> : done ? <Outcome done={done} /> : <Empty /> },
            { id: "sent", name: "Sent and received", body: done ? <SentView key={done.id} of={done.id === undefined ? undefined : `tries/${done.id}`} sent={done.sent} undoable /> : <Empty /> },
            { id: "chosen", name: "Chosen?", body: <Chosen tool={tool} /> },
            ...(tool.runs?.startsWith("outbox.") ? [{ id: "outbox", name: "Outbox", body: <Outbox /> }] : []),
            { id: "tries", name: "Tries", body: <History tool={tool.id} onPick={again} /> },
          ]}
        />
      </section>
    </div>
  );
}

// Chosen says whether the stand-in model would choose the tool for a request, and which words of its description earn it.
function Chosen({ tool }: { tool: Tool }) {
  const [text, setText] = useState("");
  const [agent, setAgent] = useState(tool.agents[0] ?? "");
  const chosen = useChange(change.choose);
  const ask = (e: FormEvent) => {
    e.preventDefault();
    if (text.trim()) chosen.mutate({ text, agent });
  };
  if (!agent) return <p className="p-4 text-ink-2">No agent has this tool, so none can choose it.</p>;
  return (
    <div>
      <form onSubmit={ask} className="border-b border-joint px-4 py-3">
        <label className="block">
          <span className="label">what somebody would ask</span>
          <input className="field mt-1" value={text} onChange={(e) => setText(e.target.value)} placeholder="as people write in a hurry" />
        </label>
        <div className="mt-2 flex flex-wrap items-center gap-3">
          <Button tone="ink" type="submit" disabled={chosen.isPending || !text.trim()}>
            Weigh it
          </Button>
          {tool.agents.length > 1 && (
            <select aria-label="Agent" className="field w-auto" value={agent} onChange={(e) => setAgent(e.target.value)}>
              {tool.agents.map((a) => (
                <option key={a}>{a}</option>
              ))}
            </select>
          )}
          <span className="text-[12px] text-ink-3">the stand-in model weighs all tools of {agent}; nothing is called</span>
        </div>
      </form>
      {chosen.error && (
        <div className="p-4">
          <Note bad>{words(chosen.error)}</Note>
        </div>
      )}
      {chosen.data?.goals.map((g, i) => (
        <section key={i} aria-label={`Candidates for ${g.clause}`}>
          <h2 className="label px-4 pt-3">for “{g.clause}”</h2>
          <ol>
            {g.candidates.map((c) => (
              <li key={c.tool} className={`grid grid-cols-[3.5rem_minmax(0,1fr)] border-b border-joint px-4 py-2 ${c.tool === tool.id ? "bg-ground shadow-[inset_4px_0_0_var(--ink)]" : ""}`}>
                <span className="font-mono tabular-nums">{c.score.toFixed(1)}</span>
                <div className="min-w-0">
                  <span className={`font-mono text-[12px] ${c.enough ? "font-semibold" : "text-ink-2"}`}>{c.tool}</span>
                  {!c.enough && <span className="text-[12px] text-ink-3"> not enough</span>}
                  <span className="block text-[12px] text-ink-2">
                    {c.words.map((w) => `${w.word} ${w.points < 0 ? "−" : "+"}${Math.abs(w.points).toFixed(1)}${w.by && ` (${w.by})`}`).join(", ")}
                  </span>
                  {c.args && c.args !== "{}" && <code className="block font-mono text-[12px] break-words">fills {c.args}</code>}
                  {c.lacks && c.lacks.length > 0 && <span className="block text-[12px]">lacks {c.lacks.join(", ")}</span>}
                </div>
              </li>
            ))}
          </ol>
        </section>
      ))}
      {chosen.data && (
        <div className="px-4 py-3">
          {chosen.data.notes.map((n) => (
            <p key={n} className="text-[12px] text-ink-2">
              {n}
            </p>
          ))}
          {chosen.data.calls.map((c) => (
            <p key={c.id} className="font-mono text-[12px] break-words">
              It calls {c.tool} {c.args}
            </p>
          ))}
          {chosen.data.text && <p className="whitespace-pre-wrap">It says: {chosen.data.text}</p>}
        </div>
      )}
    </div>
  );
}

// Outbox shows the messages that tools have sent: they are kept, and go nowhere.
function Outbox() {
  const list = useQuery(query.outbox());
  if (list.error) return <div className="p-4"><Note bad>{words(list.error)}</Note></div>;
  if (!list.data?.messages.length) return <p className="p-4 text-ink-2">The outbox is empty. What tools send is kept here, and goes nowhere.</p>;
  return (
    <ul>
      {[...list.data.messages].reverse().map((m) => (
        <li key={m.id} className="border-b border-joint px-4 py-2">
          <p className="text-[12px] text-ink-3">
            {m.id} · {when(m.at)} · {m.tool} {m.run && `· ${m.run}`}
          </p>
          <p>
            <b>to {m.to}</b>
            {m.subject && `: ${m.subject}`}
          </p>
          <p className="whitespace-pre-wrap">{m.text}</p>
        </li>
      ))}
    </ul>
  );
}

const Empty = () => <p className="p-4 text-ink-2">Call the tool to see its result, what was sent and received, and the words that a model would read.</p>;

function About({ tool }: { tool: Tool }) {
  return (
    <p className="mb-4 text-[12px] text-ink-2">
      {tool.effect}
      {tool.resend && `, resend: ${tool.resend}`} · <Rung of={tool.rung} /> · {tool.handler}
      {tool.source && ` from ${tool.source}`} · {tool.stubs === 1 ? "1 stub" : `${tool.stubs} stubs`} · {tool.timeout} at most · used by{" "}
      {[...tool.agents, ...tool.relays, ...tool.hooks.map((a) => `hook of ${a}`), ...tool.gates.map((t) => `gate of ${t}`)].join(", ") || "nobody"}
      <span className="mt-0.5 block font-mono">
        {tool.place.file}:{tool.place.line}
      </span>
      {tool.runs && <span className="mt-0.5 block truncate font-mono" title={tool.runs}>{tool.runs}</span>}
      {(tool.reason_first || tool.direct || tool.rate || tool.price) && (
        <span className="block">
          {[tool.reason_first && "the model says why first", tool.direct && "its result is the answer", tool.rate && `at most ${tool.rate}`, tool.price && `${tool.price} a call`].filter(Boolean).join(" · ")}
        </span>
      )}
      {tool.gate && (
        <span className="block font-semibold">
          gate: {tool.gate}; {tool.by.join(", ") || "anybody"} decides
        </span>
      )}
    </p>
  );
}

export function Outcome({ done }: { done: Tried }) {
  return (
    <>
      <p className="border-b border-joint px-4 py-2">
        <Status of={done.status} /> in {span(done.ms)} · {done.tools === "stubs" ? "by a stub" : "live"} · {count(done.bytes, "byte")} · about {count(done.tokens, "token")} for the model
        {done.id && <span className="text-ink-3"> · try {done.id}</span>}
        {done.gate && <span className="block font-semibold">{done.gate}</span>}
        {done.repairs?.map((r) => (
          <span key={r} className="block text-[12px] text-ink-2">
            repaired: {r}
          </span>
        ))}
      </p>
      {done.error && (
        <div className="px-4 pt-3">
          <Note bad>
            {done.error}{" "}
            <span className="font-mono text-[12px]">
              ({done.class}, {done.outcome?.replace("_", " ")})
            </span>
          </Note>
        </div>
      )}
      <h2 className="label px-4 pt-2">the words the model would read{done.cut && ", cut"}</h2>
      <p tabIndex={0} className="max-h-80 overflow-auto border-b border-joint px-4 pt-1 pb-2 text-base break-words whitespace-pre-wrap">{done.words}</p>
      {done.result !== undefined && done.result !== null && (
        <>
          <h2 className="label px-4 pt-2">result</h2>
          <Json value={done.result} />
        </>
      )}
      {done.id !== undefined && <Pictures of={`tries/${done.id}`} files={done.sent?.files} />}
      {done.sets && Object.keys(done.sets).length > 0 && (
        <>
          <h2 className="label px-4 pt-1">sets in the state</h2>
          <Json value={done.sets} />
        </>
      )}
      {done.id !== undefined && done.status !== "refused" && done.tools === "live" && <MakeStub tool={done.tool} body={{ try: done.id }} />}
    </>
  );
}

// MakeStub writes what came back into the tool's file, as a stub for calls alike.
export function MakeStub({ tool, body }: { tool: string; body: { try?: number; run?: string; step?: string } }) {
  const stub = useChange(change.stub, () => stale.tools);
  const said = stub.data;
  return (
    <div className="px-4 py-3">
      {said ? (
        <p className="text-ok">
          A stub was made of it: <span className="font-mono text-[12px]">{said.file}:{said.line}</span>
        </p>
      ) : (
        <Button disabled={stub.isPending} onClick={() => stub.mutate({ tool, ...body })}>Make a stub of it</Button>
      )}
      {stub.error && <Note bad>{words(stub.error)}</Note>}
    </div>
  );
}
