// A ticket: who wants to do what and why, the values, and the three answers.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { exactly, parse, words, type Ticket } from "./api";
import { change, query, stale, useChange } from "./queries";
import { span, value } from "./say";
import { Button, Difference, Note, Seen } from "./ui/ui";

const SchemaForm = lazy(() => import("./form"));

type Values = Record<string, unknown>;

export function TicketCard({ ticket }: { ticket: Ticket }) {
  const [mode, setMode] = useState<"look" | "change" | "refuse" | "happened" | "answer">("look");
  const [because, setBecause] = useState("");
  const [result, setResult] = useState("");
  const [wrong, setWrong] = useState<string>();
  const [key] = useState(() => crypto.randomUUID());
  const decision = useChange(change.settle, () => stale.tickets);
  const busy = decision.isPending;
  const error = wrong ?? (decision.error ? words(decision.error) : undefined);
  const full = useQuery({ ...query.ticket(ticket.id), enabled: mode === "change" });
  const [args, setArgs] = useState<Values>(ticket.args);
  const now = useNow();
  const outcome = ticket.form === "outcome";
  const question = ticket.form === "question";
  const [answer, setAnswer] = useState("");

  const settle = (verb: string, more: Record<string, unknown> = {}) => {
    setWrong(undefined);
    decision.mutate({ id: ticket.id, verb, key, shown: ticket.shown, ...more });
  };
  const changed = (v: Values) => Object.fromEntries([...new Set([...Object.keys(v), ...Object.keys(ticket.args)])].filter((k) => JSON.stringify(v[k]) !== JSON.stringify((ticket.args as Values)[k])).map((k) => [k, v[k] ?? null]));

  // the letter decides only while the ticket itself has the focus
  const press = (e: React.KeyboardEvent) => {
    if (e.target !== e.currentTarget || outcome || question || busy || mode !== "look" || e.key.toLowerCase() !== "a" || e.ctrlKey || e.metaKey || e.altKey) return;
    e.preventDefault();
    settle("allow");
  };

  return (
    <div role="group" aria-label={`Ticket ${ticket.id}`} tabIndex={0} onKeyDown={press} className="rounded-sm border border-l-[5px] border-call bg-call-soft px-3 py-2.5">
      <b className="block text-base"><Seen text={ticket.ask} /></b>
      <div className="mt-0.5 text-[12px] text-ink-2">
        {question ? ticket.why : <>{ticket.agent} wants to call <span className="font-mono">{ticket.tool}</span> · {ticket.why}</>}
        {ticket.reason && <span className="block">{ticket.agent} says: <Seen text={ticket.reason} /></span>}
        {!ticket.reason && <br />}
        {ticket.by.join(", ") || "anybody"} {question ? "answers" : "decides"}
        {ticket.due && <> · lapses in {span(Math.max(0, Date.parse(ticket.due) - now))}</>} · ticket {ticket.id}
      </div>
      {mode !== "change" && !question && (
        <dl className="my-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
          {Object.entries(ticket.args as Values).map(([k, v]) => (
            <div key={k} className="contents">
              <dt className="text-ink-2">{k}</dt>
              <dd className="min-w-0 font-mono text-[12px] break-words"><Seen text={value(v)} /></dd>
            </div>
          ))}
        </dl>
      )}
      {ticket.diff && mode === "look" && (
        <section aria-label="difference" className="my-2 max-h-72 overflow-auto rounded-sm bg-face px-2 py-1.5" tabIndex={0}>
          <Difference text={ticket.diff} />
        </section>
      )}
      {error && <Note bad>{error}</Note>}
      {mode === "look" && question && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            settle("answer", { result: answer });
          }}
        >
          <label>
            <span className="label">Your answer</span>
            <textarea className="field" rows={2} required value={answer} onChange={(e) => setAnswer(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || !answer.trim()}>
              Answer
            </Button>
            <Button disabled={busy} onClick={() => setMode("refuse")}>
              Do not answer…
            </Button>
          </div>
        </form>
      )}
      {mode === "look" && !outcome && !question && (
        <div className="mt-2.5 flex flex-wrap gap-1.5">
          <Button tone="call" disabled={busy} onClick={() => settle("allow")}>
            Allow<kbd className="ml-2 font-mono text-[11px]" title="while the ticket has the focus">A</kbd>
          </Button>
          <Button disabled={busy} onClick={() => setMode("change")}>
            Change…
          </Button>
          <Button disabled={busy} onClick={() => setMode("refuse")}>
            Refuse…
          </Button>
        </div>
      )}
      {mode === "look" && outcome && (
        <div className="mt-2.5 flex flex-wrap gap-1.5">
          <Button tone="call" disabled={busy} onClick={() => setMode("happened")}>
            It happened…
          </Button>
          <Button disabled={busy} onClick={() => settle("not_happened")}>
            It did not: do it
          </Button>
          <Button disabled={busy} onClick={() => settle("give_up")}>
            Give up
          </Button>
        </div>
      )}
      {mode === "refuse" && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            settle("refuse", { because });
          }}
        >
          <label>
            <span className="label">Why? The agent passes it on.</span>
            <textarea className="field" rows={2} autoFocus required value={because} onChange={(e) => setBecause(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || !because.trim()}>
              {question ? "Do not answer" : "Refuse"}
            </Button>
            <Button onClick={() => setMode("look")}>Back</Button>
          </div>
        </form>
      )}
      {mode === "happened" && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            try {
              settle("happened", { result: result.trim() ? (parse<unknown>(result, exactly)) : null });
            } catch {
              setWrong("The result is not JSON.");
            }
          }}
        >
          <label>
            <span className="label">Its result as JSON, if you know it</span>
            <textarea className="field font-mono text-[12px]" rows={2} autoFocus value={result} onChange={(e) => setResult(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy}>
              It happened
            </Button>
            <Button onClick={() => setMode("look")}>Back</Button>
          </div>
        </form>
      )}
      {mode === "change" && full.data && (
        <div className="mt-2.5">
          <Suspense fallback={<Note>…</Note>}>
            <SchemaForm id={`t${ticket.id}`} schema={full.data.schema as Values} value={args} onChange={setArgs} onSubmit={(v) => settle("amend", { args: changed(v) })}>
              <div className="flex gap-1.5">
                <Button tone="call" type="submit" disabled={busy || Object.keys(changed(args)).length === 0}>
                  Change and allow
                </Button>
                <Button onClick={() => setMode("look")}>Back</Button>
              </div>
            </SchemaForm>
          </Suspense>
        </div>
      )}
    </div>
  );
}

function useNow(): number {
  const [now, setNow] = useState(Date.now);
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(t);
  }, []);
  return now;
}
