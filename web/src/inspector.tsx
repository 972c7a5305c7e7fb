// Everything about one step: what went in and out, the words, the exact request, the state.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { parse, words, type Detail, type Step } from "./api";
import { query } from "./queries";
import { named, below, span, spaced, verbs, when } from "./say";
import { Link } from "react-router";
import { MakeStub } from "./pages/bench";
import { can, useWho } from "./who";
import { Picture, Pictures } from "./files";
import { SentView } from "./sent";
import { Json, Note, Outside, Tabs } from "./ui/ui";

export function Inspector({ run, step, lines, onSelect }: { run?: string; step?: Step; lines?: Record<string, string>; onSelect?: (n: number) => void }) {
  const [tab, setTab] = useState("out");
  const detail = useQuery(query.step(run, step));
  if (!step) {
    return (
      <aside aria-label="Step" className="bg-face p-4 text-ink-2">
        Choose a step on the track or in the list to see what went in, what came out, and the exact request.
      </aside>
    );
  }
  const d = detail.data;
  const loading = detail.isPending ? <Note>…</Note> : detail.error ? <Note bad>{words(detail.error)}</Note> : undefined;
  const tabs =
    step.kind === "turn"
      ? [
          { id: "in", name: "In", body: run ? <Request run={run} step={step} part="messages" /> : loading },
          { id: "out", name: "Out", body: loading ?? <TurnOut d={d!} /> },
          { id: "request", name: "Request", body: run ? <Request run={run} step={step} part="all" /> : loading },
          { id: "state", name: "State", body: loading ?? <State d={d!} /> },
        ]
      : step.kind === "consult"
        ? [
            { id: "in", name: "Question", body: loading ?? <p className="px-4 py-3 whitespace-pre-wrap">{d!.question || step.asked?.question}</p> },
            { id: "out", name: "Answer", body: loading ?? <Answer d={d!} /> },
            { id: "thread", name: "Thread", body: loading ?? <Thread d={d!} onSelect={onSelect} /> },
            { id: "words", name: "Words for the model", body: loading ?? <p className="px-4 py-3 whitespace-pre-wrap">{d!.words || "None yet."}</p> },
            { id: "state", name: "State", body: loading ?? <State d={d!} /> },
          ]
        : step.asked
          ? [
              { id: "in", name: "In", body: loading ?? (d!.in !== undefined ? <Json value={d!.in} /> : <p className="px-4 py-3 whitespace-pre-wrap">{d!.question || step.why}</p>) },
              { id: "out", name: "Out", body: loading ?? (d!.out !== undefined && typeof d!.out !== "string" ? <Json value={d!.out} /> : <Answer d={d!} />) },
              ...(step.asked.course ? [{ id: "course", name: "Plan", body: <Plan course={step.asked.course} over={!!step.ended} taken={(d?.thread ?? []).filter((s) => s.kind === "step")} onSelect={onSelect} /> }] : []),
              { id: "thread", name: "Steps", body: loading ?? <Thread d={d!} onSelect={onSelect} /> },
              { id: "state", name: "State", body: loading ?? <State d={d!} /> },
            ]
          : [
          { id: "in", name: "In", body: loading ?? <CallIn d={d!} /> },
          { id: "out", name: "Out", body: loading ?? <CallOut d={d!} run={run!} lines={lines?.[step.id]} /> },
          { id: "words", name: "Words for the model", body: loading ?? <p className="px-4 py-3 whitespace-pre-wrap">{d!.words || "None yet."}</p> },
          { id: "proof", name: "Sent", body: loading ?? <Proof d={d!} run={run!} /> },
          { id: "state", name: "State", body: loading ?? <State d={d!} /> },
        ];
  const shown = tabs.some((t) => t.id === tab) ? tab : "out";
  return (
    <aside aria-label={`Step ${step.n}`} className="flex min-h-0 flex-col bg-face">
      <div className="px-4 pt-2.5">
        <b className="text-base">
          {step.n} · {step.kind === "consult" ? `${step.agent} ${named(step)}` : named(step)}
        </b>{" "}
        <span className="text-ink-3">
          {step.status}
          {step.ms > 0 && ` in ${span(step.ms)}`}
          {step.attempts > 1 && ` · attempt ${step.attempts}`}
          {step.model && ` · ${step.model}${step.answered && step.answered !== step.model ? ` as ${step.answered}` : ""}`}
          {step.effect && ` · ${step.effect}`}
          {step.rung && ` · rung ${step.rung}`}
          {step.stub && " · by a stub"}
          {step.undone_at && ` · undone ${when(step.undone_at)}`}
          {step.asked && step.asked.turns > 0 && ` · ${below(step.asked)}`}
          {step.asked?.kept && " · it remembers"}
          {step.kind === "call" && !!step.cost && ` · costs ${step.cost.toFixed(4)}`}
          {!!step.reads && ` · about ${step.reads} tokens read`}
        </span>
        <div className="text-[12px] text-ink-2">why: {step.why}</div>
        {step.link && (
          <div className="text-[12px]">
            <Outside url={step.link} name={step.name} />
          </div>
        )}
        {step.because && <div className="text-[12px] text-ink-2">{step.agent} says: {step.because}</div>}
        {step.repairs?.map((r) => (
          <div key={r} className="text-[12px] text-ink-2">
            repaired: {r}
          </div>
        ))}
        {step.wait && (
          <div className={`mt-1 border-l-4 pl-2 text-[12px] ${step.wait.settled_at ? "border-joint-strong" : "border-call"}`}>
            {step.wait.ask}
            <span className="block text-ink-2">
              {step.wait.settled_at ? `${verbs[step.wait.verb ?? ""]} by ${step.wait.settled_by || "nobody"}, ${when(step.wait.settled_at)}, after ${span(Date.parse(step.wait.settled_at) - Date.parse(step.wait.raised_at))}` : `waits for ${step.wait.by.join(", ") || "anybody"}`}
              {step.wait.because && `: ${step.wait.because}`}
            </span>
          </div>
        )}
      </div>
      <Tabs value={shown} onChange={setTab} tabs={tabs} />
    </aside>
  );
}

function TurnOut({ d }: { d: Detail }) {
  if (!d.text && !d.calls?.length) return <p className="px-4 py-3 text-ink-2">{d.words || "Nothing yet."}</p>;
  return (
    <div className="py-1">
      {d.reasoning && (
        <details className="px-4 py-2" open={d.reasoning.length < 3000}>
          <summary className="label">its reasoning, which came apart from the answer</summary>
          <p className="mt-1 text-ink-2 whitespace-pre-wrap">{d.reasoning}</p>
        </details>
      )}
      {d.text && <p className="px-4 py-2 whitespace-pre-wrap">{d.text}</p>}
      {d.calls?.map((c, i) => (
        <div key={i} className="border-t border-joint first:border-0">
          <div className="px-4 pt-2 font-mono text-[12px]">calls {c.tool}</div>
          <Raw text={c.args} />
        </div>
      ))}
    </div>
  );
}

// Raw shows arguments as they came: JSON where they are, else the text.
function Raw({ text }: { text: string }) {
  try {
    return <Json value={parse(text)} />;
  } catch {
    return <pre className="px-4 py-2 font-mono text-[12px] whitespace-pre-wrap text-bad">{text}</pre>;
  }
}

function Answer({ d }: { d: Detail }) {
  const how = d.step.asked?.outcome;
  if (!how && !d.answer && !d.words) return <p className="px-4 py-3 text-ink-2">Nothing yet.</p>;
  return (
    <div className="px-4 py-3">
      {how && how !== "done" && <p className="mb-1 font-semibold text-bad">{how === "handed_back" ? "handed back" : how}</p>}
      <p className="whitespace-pre-wrap">{d.answer || d.words}</p>
    </div>
  );
}

// Plan shows the course of a plan: its aim, the steps that were taken, and what is ahead.
function Plan({ course, over, taken, onSelect }: { course: NonNullable<NonNullable<Step["asked"]>["course"]>; over: boolean; taken: Step[]; onSelect?: (n: number) => void }) {
  return (
    <div className="px-4 py-3">
      <p>
        <span className="label">aim</span> {course.aim || "not said"}
      </p>
      <ol className="mt-2 flex flex-col gap-1">
        {taken.map((s) => (
          <li key={s.id}>
            <button type="button" className="w-full truncate text-left hover:underline" onClick={() => onSelect?.(s.n)}>
              <b>{s.name}</b> <span className="text-ink-2">{s.title} → {s.brief || s.status}</span>
            </button>
          </li>
        ))}
        {!over &&
          course.ahead.map((a, i) => (
            <li key={`ahead ${i}`} className="text-ink-2">
              ahead: <b>{a.who}</b> {a.ask}
            </li>
          ))}
      </ol>
      <p className="mt-2 text-[12px] text-ink-2">
        {course.n} of at most {course.of} steps
      </p>
    </div>
  );
}

// Thread lists what happened on the thread of a consult; each step leads to its own page, with its exact request.
function Thread({ d, onSelect }: { d: Detail; onSelect?: (n: number) => void }) {
  if (!d.thread?.length) return <p className="px-4 py-3 text-ink-2">No thread was opened.</p>;
  return (
    <ol className="py-1">
      {d.thread.map((s) => (
        <li key={s.id} className="border-b border-joint">
          <button type="button" className="grid w-full grid-cols-[32px_70px_1fr_auto] gap-x-2 px-4 py-1 text-left hover:bg-sunk" onClick={() => onSelect?.(s.n)}>
            <span className="font-mono text-[12px]">{s.n}</span>
            <span className="truncate">{s.agent}</span>
            <span className="min-w-0 truncate">
              {named(s)} <span className="text-ink-2">{s.brief || s.title}</span>
            </span>
            <span className="font-mono text-[12px] text-ink-2">{s.status === "returned" ? span(s.ms) : s.status}</span>
          </button>
        </li>
      ))}
    </ol>
  );
}

function CallIn({ d }: { d: Detail }) {
  return (
    <div>
      <Json value={d.in ?? null} />
      {d.args !== undefined && (
        <div className="border-t border-joint">
          <div className="px-4 pt-2 font-semibold">sent on after {d.step.wait?.settled_by} changed it</div>
          <Json value={d.args} />
        </div>
      )}
    </div>
  );
}

function CallOut({ d, run, lines }: { d: Detail; run: string; lines?: string }) {
  const me = useWho();
  if (lines) return <pre className="px-4 py-3 text-[12px] break-words whitespace-pre-wrap" aria-live="polite">{lines}</pre>;
  const stub = d.step.kind === "call" && !d.step.stub && ["returned", "failed"].includes(d.step.status) ? <MakeStub tool={d.step.name} body={{ run, step: d.step.id }} /> : null;
  const again = stub && can(me, "build") ? (
    <p className="px-4 pb-3 text-[12px]">
      <Link className="underline" to={`/bench/${d.step.name}`} state={{ args: d.args ?? d.in }}>
        Change it, and call it again on the bench
      </Link>
    </p>
  ) : null;
  if (d.out === undefined) return <><p className="px-4 py-3 text-ink-2">{d.note || d.words || "Nothing yet."}</p>{again}{stub}</>;
  return (
    <div>
      <Json value={d.out} />
      <Pictures of={`runs/${encodeURIComponent(run)}`} files={d.sent?.files} />
      {d.note && <Note bad>{d.note}</Note>}
      {again}
      {stub}
    </div>
  );
}

function Proof({ d, run }: { d: Detail; run: string }) {
  return (
    <>
      <SentView of={`runs/${encodeURIComponent(run)}`} sent={d.sent} undoable undone={d.step.undone_at} />
      {d.handle && <p className="px-4 pb-3 text-[12px] text-ink-2">The model read a part; <span className="font-mono">{d.handle}</span> names the whole in later calls.</p>}
    </>
  );
}

function State({ d }: { d: Detail }) {
  const before = (d.before ?? {}) as Record<string, unknown>;
  const after = (d.after ?? {}) as Record<string, unknown>;
  const names = [...new Set([...Object.keys(before), ...Object.keys(after)])].sort();
  if (!names.length) return <p className="px-4 py-3 text-ink-2">The state is empty.</p>;
  return (
    <table className="w-full text-left">
      <thead>
        <tr className="text-xs text-ink-3">
          <th className="px-4 py-1.5 font-medium">fact</th>
          <th className="font-medium">before</th>
          <th className="font-medium">after</th>
        </tr>
      </thead>
      <tbody className="font-mono text-[12px]">
        {names.map((n) => {
          const changed = JSON.stringify(before[n]) !== JSON.stringify(after[n]);
          return (
            <tr key={n} className={`border-t border-joint ${changed ? "bg-sunk" : ""}`}>
              <td className="px-4 py-1">{n}</td>
              <td>{JSON.stringify(before[n]) ?? "—"}</td>
              <td className={changed ? "font-bold" : ""}>
                {JSON.stringify(after[n]) ?? "—"}
                {changed && <span className="sr-only"> changed</span>}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Request({ run, step, part }: { run: string; step: Step; part: "messages" | "all" }) {
  const [wire, setWire] = useState(false);
  const r = useQuery(query.request(run, step));
  if (r.error) return <Note bad>{words(r.error)}</Note>;
  if (!r.data) return <Note>…</Note>;
  const q = r.data;
  return (
    <div className="flex flex-col">
      {part === "all" && (
        <p className="flex items-baseline gap-2 px-4 py-2 text-[12px] text-ink-2">
          <span className={q.same ? "text-ok" : "text-bad"}>{q.same ? "exactly as sent; this program would build the same today" : `exactly as sent; built today it would differ: ${q.differs}`}</span>
          {q.wire && (
            <button type="button" className="ml-auto underline" onClick={() => setWire(!wire)}>
              {wire ? "in parts" : "as JSON"}
            </button>
          )}
        </p>
      )}
      {wire && part === "all" ? (
        <Json value={q.wire} />
      ) : (
        <>
          {part === "all" && <Part who="system">{q.system.trim()}</Part>}
          {part === "all" && q.parts && q.parts.length > 0 && (
            <Part who="where it comes from, tokens about">
              <ul className="font-mono text-[12px]">
                {q.parts.map((p, i) => (
                  <li key={i} className="grid grid-cols-[52px_1fr_auto] gap-x-2">
                    <span className="text-right">{spaced(p.tokens)}</span>
                    <span className="truncate">{p.name}</span>
                    <span className="truncate text-ink-2">{p.place.file ? `${p.place.file}:${p.place.line}` : ""}</span>
                  </li>
                ))}
              </ul>
            </Part>
          )}
          {q.messages.map((m, i) => (
            <Part key={i} who={[m.role, m.agent, m.tool].filter(Boolean).join(" · ")}>
              {m.text}
              {m.pictures?.map((f) => <Picture key={f.hash} of={`runs/${encodeURIComponent(run)}`} file={f} />)}
              {m.calls?.map((c, j) => (
                <span key={j} className="block font-mono text-[12px]">
                  calls {c.tool} {c.args}
                </span>
              ))}
            </Part>
          ))}
          {part === "all" && (
            <Part who={`${q.tools.length} tools`}>
              {q.tools.map((t) => (
                <details key={t.name} className="mb-1">
                  <summary>
                    <span className="font-mono text-[12px]">{t.name}</span> {t.summary}
                  </summary>
                  <Json value={t.parameters} />
                </details>
              ))}
            </Part>
          )}
        </>
      )}
    </div>
  );
}

function Part({ who, children }: { who: string; children: React.ReactNode }) {
  return (
    <div className="border-t border-joint px-4 py-2">
      <div className="label mb-0.5">{who}</div>
      <div className="whitespace-pre-wrap">{children}</div>
    </div>
  );
}
