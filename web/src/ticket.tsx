// A ticket: who wants to do what and why, the values, and the three answers.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { exactly, get, parse, post, words, type FullTicket, type Ticket } from "./api";
import { span, value } from "./say";
import { Button, Note } from "./ui/ui";

const SchemaForm = lazy(() => import("./form"));

type Values = Record<string, unknown>;

export function TicketCard({ ticket, keys }: { ticket: Ticket; keys?: boolean }) {
  const queries = useQueryClient();
  const [mode, setMode] = useState<"look" | "change" | "refuse" | "happened">("look");
  const [because, setBecause] = useState("");
  const [result, setResult] = useState("");
  const [error, setError] = useState<string>();
  const [busy, setBusy] = useState(false);
  const [id] = useState(() => crypto.randomUUID());
  const full = useQuery({ queryKey: ["ticket", ticket.id], queryFn: () => get<FullTicket>(`/tickets/${ticket.id}`), enabled: mode === "change" });
  const [args, setArgs] = useState<Values>(ticket.args);
  const now = useNow();
  const outcome = ticket.form === "outcome";

  const settle = async (verb: string, more: Record<string, unknown> = {}) => {
    setBusy(true);
    setError(undefined);
    try {
      await post(`/tickets/${ticket.id}/settle`, { verb, id, shown: ticket.shown, ...more });
      await queries.invalidateQueries({ queryKey: ["tickets"] });
      await queries.invalidateQueries({ queryKey: ["run-tickets", ticket.run] });
    } catch (e) {
      setError(words(e));
      void queries.invalidateQueries({ queryKey: ["tickets"] });
    } finally {
      setBusy(false);
    }
  };
  const changed = (v: Values) => Object.fromEntries([...new Set([...Object.keys(v), ...Object.keys(ticket.args)])].filter((k) => JSON.stringify(v[k]) !== JSON.stringify((ticket.args as Values)[k])).map((k) => [k, v[k] ?? null]));

  useEffect(() => {
    if (!keys || outcome) return;
    const press = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement;
      if (e.key.toLowerCase() !== "a" || e.ctrlKey || e.metaKey || e.altKey || t.closest("input, textarea, select, [role=dialog], [role=listbox]")) return;
      e.preventDefault();
      void settle("allow");
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });

  return (
    <div role="group" aria-label={`Ticket ${ticket.id}`} className="rounded-sm border border-l-[5px] border-call bg-call-soft px-3 py-2.5">
      <b className="block text-base">{ticket.ask}</b>
      <div className="mt-0.5 text-[12px] text-ink-2">
        {ticket.agent} wants to call <span className="font-mono">{ticket.tool}</span> · {ticket.why}
        {ticket.reason && <span className="block">{ticket.agent} says: {ticket.reason}</span>}
        {!ticket.reason && <br />}
        {ticket.by.join(", ") || "anybody"} decides
        {ticket.due && <> · lapses in {span(Math.max(0, Date.parse(ticket.due) - now))}</>} · ticket {ticket.id}
      </div>
      {mode !== "change" && (
        <dl className="my-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
          {Object.entries(ticket.args as Values).map(([k, v]) => (
            <div key={k} className="contents">
              <dt className="text-ink-2">{k}</dt>
              <dd className="font-mono text-[12px] break-words">{value(v)}</dd>
            </div>
          ))}
        </dl>
      )}
      {error && <Note bad>{error}</Note>}
      {mode === "look" && !outcome && (
        <div className="mt-2.5 flex gap-1.5">
          <Button tone="call" disabled={busy} onClick={() => void settle("allow")}>
            Allow{keys && <kbd className="ml-2 font-mono text-[11px]">A</kbd>}
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
          <Button disabled={busy} onClick={() => void settle("not_happened")}>
            It did not: do it
          </Button>
          <Button disabled={busy} onClick={() => void settle("give_up")}>
            Give up
          </Button>
        </div>
      )}
      {mode === "refuse" && (
        <form
          className="mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            void settle("refuse", { because });
          }}
        >
          <label>
            <span className="label">Why? The agent passes it on.</span>
            <textarea className="field" rows={2} autoFocus required value={because} onChange={(e) => setBecause(e.target.value)} />
          </label>
          <div className="mt-1.5 flex gap-1.5">
            <Button tone="call" type="submit" disabled={busy || !because.trim()}>
              Refuse
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
              void settle("happened", { result: result.trim() ? (parse<unknown>(result, exactly)) : null });
            } catch {
              setError("The result is not JSON.");
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
            <SchemaForm id={`t${ticket.id}`} schema={full.data.schema as Values} value={args} onChange={setArgs} onSubmit={(v) => void settle("amend", { args: changed(v) })}>
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
