// A ticket: who wants to do what and why, the values, and the three answers.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { exactly, parse, words, type FullTicket, type Ticket } from "./api";
import { change, query, stale, useChange } from "./queries";
import { Link } from "react-router";
import { span, value } from "./say";
import { decides, useWho } from "./who";
import { Button, Difference, Note, Outside, Pick, Seen } from "./ui/ui";

const SchemaForm = lazy(() => import("./form"));

type Values = Record<string, unknown>;

// TicketCard begins anew when what it asks has changed.
// By is given where it is decided with a link.
interface By {
  settle: (v: Parameters<typeof change.settle>[0]) => Promise<unknown>;
  full: FullTicket;
  name: string;
}
export const TicketCard = ({ ticket, by }: { ticket: Ticket; by?: By }) => <Card key={ticket.shown} ticket={ticket} by={by} />;

function Card({ ticket, by }: { ticket: Ticket; by?: By }) {
  const me = useWho();
  const [mode, setMode] = useState<"look" | "change" | "refuse" | "back" | "happened" | "say">("look");
  const [because, setBecause] = useState("");
  const [result, setResult] = useState("");
  const [wrong, setWrong] = useState<string>();
  const [key] = useState(() => crypto.randomUUID());
  const decision = useChange<Parameters<typeof change.settle>[0], unknown>(by ? by.settle : change.settle, () => (by ? [] : stale.tickets));
  const busy = decision.isPending;
  const error = wrong ?? (decision.error ? words(decision.error) : undefined);
  const asked = useQuery({ ...query.ticket(ticket.id), enabled: !by });
  const full = by ? { data: by.full } : asked;
  const mayDecide = by !== undefined || decides(me, ticket);
  const actsAs = by === undefined && me.local;
  const free = ticket.by.filter((n) => !ticket.votes.some((v) => v.by === n));
  const [as, setAs] = useState<string>();
  const [spare, setSpare] = useState(false);
  const leads = (verb: string) => full.data?.leads[verb] ?? [];
  const [args, setArgs] = useState<Values>(ticket.args);
  const now = useNow();
  const outcome = ticket.form === "outcome";
  const question = ticket.form === "question";
  const limit = ticket.form === "limit";
  const pause = ticket.form === "pause";
  const text = ticket.form === "text" || pause;
  const may = (verb: string) => ticket.verbs.includes(verb);

  const settle = (verb: string, more: Record<string, unknown> = {}) => {
    setWrong(undefined);
    decision.mutate({ id: ticket.id, verb, key: `${key}-${ticket.votes.length}`, shown: ticket.shown, ...(actsAs ? { as: me.acts || (as ?? free[0]) } : {}), ...(spare && (verb === "allow" || verb === "amend") ? { spare } : {}), ...more });
  };
  const changed = (v: Values) => Object.fromEntries([...new Set([...Object.keys(v), ...Object.keys(ticket.args)])].filter((k) => JSON.stringify(v[k]) !== JSON.stringify((ticket.args as Values)[k])).map((k) => [k, v[k] ?? null]));

  // the letter decides only while the ticket itself has the focus
  const press = (e: React.KeyboardEvent) => {
    if (e.target !== e.currentTarget || outcome || question || busy || !mayDecide || mode !== "look" || e.key.toLowerCase() !== "a" || e.ctrlKey || e.metaKey || e.altKey) return;
    e.preventDefault();
    settle("allow");
  };

  return (
    <div role="group" aria-label={`Ticket ${ticket.id}`} tabIndex={0} onKeyDown={press} className="rounded-sm border border-l-[5px] border-call bg-call-soft px-3 py-2.5">
      <b className="block text-base"><Seen text={ticket.ask} /></b>
      <div className="mt-0.5 text-[12px] text-ink-2">
        {question || text || limit ? `${ticket.agent}: ${ticket.why}` : <>{ticket.agent} wants to call <span className="font-mono">{ticket.tool}</span> · {ticket.why}</>}
        {ticket.reason && <span className="block">{ticket.agent} says: <Seen text={ticket.reason} /></span>}
        {!ticket.reason && <br />}
        {ticket.need > 1 && `${ticket.need} of `}
        {ticket.by.join(ticket.need > 1 ? ", " : " or ") || "anybody"} {question ? "answers" : ticket.need > 1 ? "have to agree" : "decides"}
        {ticket.due && <> · lapses in {span(Math.max(0, Date.parse(ticket.due) - now))}</>} · {by ? `ticket ${ticket.id}` : <Link className="underline" to={`/tickets/${ticket.id}`}>ticket {ticket.id}</Link>}
        {ticket.escalates_at && <span className="block">{(ticket.escalate_to ?? []).join(", ")} may decide too in {span(Math.max(0, Date.parse(ticket.escalates_at) - now))}</span>}
        {ticket.barred && <span className="block">{ticket.barred} asked for it, and may not agree as well</span>}
      </div>
      {ticket.votes.length > 0 && (
        <ul aria-label="votes" className="mt-1.5 border-l-2 border-call pl-2 text-[12px]">
          {ticket.votes.map((v) => (
            <li key={v.by}>
              <b>{v.by}</b> {v.verb === "amend" ? "changed it, and agrees" : "agrees"}
              {v.because && <>: <Seen text={v.because} /></>}
            </li>
          ))}
        </ul>
      )}
      {actsAs && !me.acts && ticket.by.length > 1 && (
        <label className="mt-1.5 flex items-center gap-1.5 text-[12px] text-ink-2">
          you act as
          <Pick label="you act as" value={as ?? free[0] ?? ticket.by[0]!} onChange={setAs} options={ticket.by.map((n) => [n, n] as const)} />
        </label>
      )}
      {text && mode !== "change" && !!(ticket.args as Values).text && (
        <div role="document" aria-label="the text" tabIndex={0} className="my-2 max-h-80 overflow-auto rounded-sm bg-face px-3 py-2 whitespace-pre-wrap">
          <Seen text={String((ticket.args as Values).text ?? "")} />
        </div>
      )}
      {mode !== "change" && !question && !text && !limit && (
        <dl className="my-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
          {Object.entries(ticket.args as Values).map(([k, v]) => (
            <div key={k} className="contents">
              <dt className="text-ink-2">{k}</dt>
              {typeof v === "string" && v.includes("\n") ? (
                <dd className="min-w-0">
                  <pre className="max-h-72 overflow-auto rounded-sm bg-face px-2 py-1.5 font-mono text-[12px] whitespace-pre-wrap" tabIndex={0}><Seen text={v} /></pre>
                </dd>
              ) : (
                <dd className="min-w-0 font-mono text-[12px] break-words"><Seen text={value(v)} /></dd>
              )}
            </div>
          ))}
        </dl>
      )}
      {ticket.link && (
        <p className="my-1">
          <Outside url={ticket.link} name={ticket.tool} />
        </p>
      )}
      {ticket.diff && mode === "look" && (
        <section aria-label="difference" className="my-2 max-h-72 overflow-auto rounded-sm bg-face px-2 py-1.5" tabIndex={0}>
          <Difference text={ticket.diff} />
        </section>
      )}
      {error && <Note bad>{error}</Note>}
      {!mayDecide && <p className="mt-2 text-ink-2">{ticket.votes.some((v) => v.by === (me.acts || me.name)) ? "You have agreed; it waits for others." : "It waits for others to decide."}</p>}
      {mayDecide && mode === "look" && question && <Question ticket={ticket} busy={busy} onAnswer={(a) => settle("answer", { result: a })} onDecline={() => setMode("refuse")} />}
      {mayDecide && mode === "look" && !outcome && !question && (
        <div className="mt-2.5 flex flex-wrap gap-1.5">
          <Button tone="call" disabled={busy} onClick={() => settle("allow")}>
            {pause ? "Go on" : limit ? `Give ${String((ticket.args as Values).more)} more` : ticket.need > 1 ? "Agree" : "Allow"}<kbd className="ml-2 font-mono text-[11px]" title="while the ticket has the focus">A</kbd>
          </Button>
          {may("amend") && (
            <Button disabled={busy} onClick={() => setMode("change")}>
              Change…
            </Button>
          )}
          {pause && may("answer") && (
            <Button disabled={busy} onClick={() => setMode("say")}>
              Say something…
            </Button>
          )}
          {may("back") && (
            <Button disabled={busy} onClick={() => setMode("back")}>
              Send back…
            </Button>
          )}
          {may("happened") && (
            <Button disabled={busy} onClick={() => setMode("happened")}>
              Give its result…
            </Button>
          )}
          {may("refuse") && (
            <Button disabled={busy} onClick={() => setMode("refuse")}>
              Refuse…
            </Button>
          )}
          {ticket.spare && (
            <label className="flex items-center gap-1.5 text-[12px]">
              <input type="checkbox" checked={spare} onChange={(e) => setSpare(e.target.checked)} /> {ticket.stepwise ? "go on without looking at every step" : "do not ask again in this conversation"}
            </label>
          )}
          <Leads say={leads("allow")} />
        </div>
      )}
      {mayDecide && mode === "look" && outcome && (
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
          <Leads say={leads("refuse")} />
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || !because.trim()}>
              {question ? "Do not answer" : "Refuse"}
            </Button>
            <Button onClick={() => setMode("look")}>Back</Button>
          </div>
        </form>
      )}
      {mode === "say" && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            settle("answer", { result: because });
          }}
        >
          <label>
            <span className="label">Your line: {ticket.agent} hears it before the turn</span>
            <textarea className="field" rows={2} autoFocus required value={because} onChange={(e) => setBecause(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || !because.trim()}>
              Say it and go on
            </Button>
            <Button onClick={() => setMode("look")}>Back</Button>
          </div>
        </form>
      )}
      {mode === "back" && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            settle("back", { because });
          }}
        >
          <label>
            <span className="label">Your remarks: what is to be different?</span>
            <textarea className="field" rows={2} autoFocus required value={because} onChange={(e) => setBecause(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || !because.trim()}>
              Send back
            </Button>
            <Button onClick={() => setMode("look")}>Back</Button>
          </div>
        </form>
      )}
      {mode === "change" && text && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            settle("amend", { args });
          }}
        >
          <label>
            <span className="label">{pause ? "What is said, as it is to be" : "The text as it is to be"}</span>
            <textarea className="field" rows={10} autoFocus required value={String(args.text ?? "")} onChange={(e) => setArgs({ text: e.target.value })} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || args.text === (ticket.args as Values).text || !String(args.text ?? "").trim()}>
              {pause ? "Change and go on" : "Change and allow"}
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
            <span className="label">{outcome ? "Its result as JSON, if you know it" : "Its result as JSON: the tool is not called"}</span>
            <textarea className="field font-mono text-[12px]" rows={2} autoFocus value={result} onChange={(e) => setResult(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy}>
              {outcome ? "It happened" : "Take it as its result"}
            </Button>
            <Button onClick={() => setMode("look")}>Back</Button>
          </div>
        </form>
      )}
      {mode === "change" && !text && full.data && (
        <div className="mt-2.5">
          <Suspense fallback={<Note>…</Note>}>
            <SchemaForm id={`t${ticket.id}`} schema={full.data.schema as Values} value={args} onChange={setArgs} onSubmit={(v) => settle("amend", { args: changed(v) })}>
              <div className="flex gap-1.5">
                <Button tone="call" type="submit" disabled={busy || Object.keys(changed(args)).length === 0}>
                  Change and allow
                </Button>
                <Button onClick={() => setMode("look")}>Back</Button>
              </div>
              <Leads say={leads("amend")} />
            </SchemaForm>
          </Suspense>
        </div>
      )}
    </div>
  );
}

// Together lets the calls of one turn that wait go ahead with one click, one after another; it
// stops where one cannot be.
export function Together({ tickets }: { tickets: Ticket[] }) {
  const me = useWho();
  const decision = useChange(change.settle, () => stale.tickets);
  const turn = (t: Ticket) => `${t.run} ${t.step.replace(/\.[^.]*$/, "")}`;
  const gates = tickets.filter((t) => t.status === "open" && t.form === "gate" && t.need === 1 && !t.stepwise && decides(me, t));
  const turns = [...new Set(gates.map(turn))].map((at) => gates.filter((t) => turn(t) === at)).filter((of) => of.length > 1);
  const all = async (of: Ticket[]) => {
    for (const t of of) {
      try {
        await decision.mutateAsync({ id: t.id, verb: "allow", key: crypto.randomUUID(), shown: t.shown, ...(me.acts ? { as: me.acts } : me.local && t.by[0] ? { as: t.by[0] } : {}) });
      } catch {
        return; // what is wrong is shown below
      }
    }
  };
  return (
    <>
      {turns.map((of) => (
        <div key={turn(of[0]!)} role="group" aria-label="Calls of one turn" className="flex flex-wrap items-center gap-2 rounded-sm border border-call px-3 py-2">
          <span>
            {of.length} calls of one turn of {of[0]!.agent} wait.
          </span>
          <Button disabled={decision.isPending} onClick={() => void all(of)}>
            Allow all: {of.map((t) => t.id).join(", ")}
          </Button>
        </div>
      ))}
      {decision.error && <Note bad>{words(decision.error)}</Note>}
    </>
  );
}

// Question takes an answer: one of its choices by a click, a form, or words.
function Question({ ticket, busy, onAnswer, onDecline }: { ticket: Ticket; busy: boolean; onAnswer: (a: string) => void; onDecline: () => void }) {
  const [answer, setAnswer] = useState("");
  const [form, setForm] = useState<Values>({});
  const wants = ticket.wants as Values | undefined;
  const decline = (
    <Button disabled={busy} onClick={onDecline}>
      Do not answer…
    </Button>
  );
  if (Array.isArray(wants?.enum)) {
    return (
      <div className="mt-2 flex flex-wrap gap-1.5">
        {wants.enum.map((o, i) => (
          <Button key={i} tone="call" disabled={busy} onClick={() => onAnswer(typeof o === "string" ? o : JSON.stringify(o))}>
            <Seen text={value(o)} />
          </Button>
        ))}
        {decline}
      </div>
    );
  }
  if (wants) {
    const whole = wants.type === "object";
    return (
      <div className="mt-2">
        <Suspense fallback={<Note>…</Note>}>
          <SchemaForm id={`q${ticket.id}`} schema={whole ? wants : { type: "object", required: ["answer"], properties: { answer: wants } }} value={form} onChange={setForm} onSubmit={(v) => onAnswer(typeof v.answer === "string" && !whole ? v.answer : JSON.stringify(whole ? v : v.answer))}>
            <div className="flex gap-1.5">
              <Button tone="call" type="submit" disabled={busy}>
                Answer
              </Button>
              {decline}
            </div>
          </SchemaForm>
        </Suspense>
      </div>
    );
  }
  return (
    <form
      className="mt-2"
      onSubmit={(e) => {
        e.preventDefault();
        onAnswer(answer);
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
        {decline}
      </div>
    </form>
  );
}

// Leads says what a decision will lead to beyond the call itself.
function Leads({ say }: { say: string[] }) {
  if (say.length === 0) return null;
  return (
    <p role="note" className="w-full text-[12px] text-ink-2">
      {say.join(" ")}
    </p>
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
