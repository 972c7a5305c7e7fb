// Try: the conversation, the track of its newest run, the inspector.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { words, type Project, type Relay, type Said, type Session } from "../api";
import { change, query, stale, useChange } from "../queries";
import { useRun } from "../live";
import { Markdown } from "../markdown";
import { BesidePanel } from "../beside";
import { RunPanel } from "../runview";
import { RungSwitch, type Rungs } from "../rungs";
import { count, lane } from "../say";
import { TicketCard, Together } from "../ticket";
import { Button, Dialog, Note, Outside, Pick, Status } from "../ui/ui";
import { can, useWho } from "../who";

const SchemaForm = lazy(() => import("../form"));

type Values = Record<string, unknown>;

export function Try() {
  const { session: id } = useParams();
  const go = useNavigate();
  const queries = useQueryClient();
  const me = useWho();
  const builds = can(me, "build");
  const project = useQuery(query.project());
  const session = useQuery(query.session(id));
  const [shown, setShown] = useState<string>(); // a run other than the newest
  const [tools, setTools] = useState("live");
  const [waits, setWaits] = useState("");
  const [rung, setRung] = useState("");
  const [rungs, setRungs] = useState<Rungs>({});
  const [model, setModel] = useState("");
  const said = useChange(change.say, (b) => (b ? stale.session(b.session) : []));
  const [draft, setDraft] = useState("");
  const [through, setThrough] = useState(""); // a relay to go through, or @ and the agent to begin with, in place of the one who has the baton
  const [beside, setBeside] = useState(false);
  const runID = id ? (shown ?? session.data?.last) : undefined;
  const view = useRun(runID);
  const waiting = view.steps.filter((s) => s.wait && !s.wait.settled_at && s.status === "waiting").map((s) => s.id);
  const open = waiting.length;
  const tickets = useQuery(query.ticketsOf(runID, waiting.join(" ")));
  const seq = view.totals?.seq;
  useEffect(() => {
    if (id && seq) void queries.invalidateQueries({ queryKey: ["session", id] });
  }, [id, seq, queries]);
  useEffect(() => {
    setShown(undefined);
  }, [id]);

  const say = async (text: string, relay?: string, input?: Values) => {
    try {
      const b = await said.mutateAsync({ text, relay, input, agent: !id && through.startsWith("@") ? through.slice(1) : undefined, session: id, person: me.acts || undefined, tools, rung: rung || undefined, rungs: Object.keys(rungs).length ? rungs : undefined, model: model || undefined, person_at: waits ? waits.split(",") : undefined });
      setShown(undefined);
      if (b.session !== id) void go(`/try/${b.session}`);
      return true;
    } catch {
      return false; // the mutation has the error
    }
  };
  const holder = view.totals?.agent ?? session.data?.agent ?? (project.data?.start || "the agents");
  const relays = project.data?.relays ?? [];
  const lanes = (view.totals?.lanes ?? []).map((l) => l.id);
  const agents = useMemo(() => [...(project.data?.agents ?? [])].sort((a, b) => Number(b.status === "start") - Number(a.status === "start")).map((a) => a.id), [project.data]);
  return (
    <div className="grid h-full grid-cols-[352px_minmax(0,1fr)] max-md:block max-md:overflow-auto">
      <section aria-label="Conversation" className="flex min-h-0 flex-col border-r border-joint-strong bg-face max-md:h-[70vh] max-md:border-r-0 max-md:border-b">
        <h1 className="flex items-baseline justify-between gap-2 border-b border-joint px-4 py-2.5 font-semibold">
          <span className="truncate">{session.data?.title ?? "A new session"}</span>
          {id && session.data ? (
            <span className="flex shrink-0 items-baseline gap-2 font-normal">
              <button type="button" className="text-ink-2 underline" aria-expanded={beside} onClick={() => setBeside(!beside)}>
                beside
              </button>
              {me.people && <Share session={session.data} />}
              <Link to="/try" className="text-ink-2 underline">
                new
              </Link>
            </span>
          ) : null}
        </h1>
        <Talk talk={session.data?.talk ?? []} typing={mainOnly(view.typing)} holder={holder} lanes={lanes} waiting={session.data?.waiting ?? []} runID={runID} onRun={setShown} status={view.totals?.status}>
          {open > 0 && <Together tickets={tickets.data?.tickets ?? []} />}
          {open > 0 && tickets.data?.tickets.map((t) => <TicketCard key={t.id} ticket={t} />)}
          {session.data?.aside.map((run) => <Beside key={run} run={run} />)}
          {!id && project.data && <Welcome project={project.data} onPick={setDraft} />}
          {session.error && <Note bad>{words(session.error)}</Note>}
        </Talk>
        {said.data?.broken && !said.isPending && (
          <p role="status" className="border-t border-joint bg-sunk px-4 py-1.5 text-[12px]">
            Answered by the last good version of the project. <span className="font-mono">{said.data.broken}</span>
          </p>
        )}
        <Composer holder={holder} busy={said.isPending} onSay={say} error={said.error ? words(said.error) : undefined} autoFocus={!id} text={draft} setText={setDraft} relay={relays.find((r) => r.id === through)}>
          {(relays.length > 0 || !id) && (
            <span className="flex items-center gap-1">
              to <Pick small label="Whom it is for" value={id && through.startsWith("@") ? "" : through} onChange={setThrough} options={[["", holder], ...(id ? [] : agents.filter((a) => a !== holder).map((a) => [`@${a}`, a] as const)), ...relays.map((r) => [r.id, `relay ${r.id}`] as const)]} />
            </span>
          )}
          {builds && <span className="flex items-center gap-1">
            tools <Pick small label="How tools are carried out" value={tools} onChange={setTools} options={[["live", "live"], ["stubs", "stubs"], ["off", "off"]]} />
          </span>}
          {builds && tools === "live" && <RungSwitch all={rung} setAll={setRung} each={rungs} setEach={setRungs} />}
          {builds && <span className="flex items-center gap-1">
            model <Pick small label="Model" value={model} onChange={setModel} options={[["", "as the agents say"], ...(project.data?.models ?? []).map((m) => [m.id, m.id] as const)]} />
          </span>}
          {builds && <span className="flex items-center gap-1">
            waits <Pick small label="Where the run waits" value={waits} onChange={setWaits} options={[["", "at gates"], ["turns,calls", "at each turn and call"], ["calls", "at each call"], ["answer", "before its answer"]]} />
          </span>}
          {view.totals && ["going", "held"].includes(view.totals.status) && <StopButton run={view.totals.id} />}
        </Composer>
      </section>
      <div className="grid min-h-0 min-w-0 grid-rows-[minmax(0,1fr)_auto]">
        <RunPanel view={view} agents={agents} />
        {beside && id && (
          <aside aria-label="Beside the talk" className="max-h-[45vh] overflow-auto border-t border-joint-strong bg-face" tabIndex={0}>
            <BesidePanel session={id} state={session.data?.state ?? {}} steps={view.steps} />
          </aside>
        )}
      </div>
    </div>
  );
}

// Beside shows a call of the conversation that waits for people while it goes on.
function Beside({ run }: { run: string }) {
  const tickets = useQuery(query.ticketsOf(run, "aside"));
  return (
    <>
      {tickets.data?.tickets.map((t) => (
        <div key={t.id}>
          <span className="label">waits aside; you are told what becomes of it</span>
          <TicketCard ticket={t} />
        </div>
      ))}
    </>
  );
}

// Share lets others read the session, and go on in it.
function Share({ session }: { session: Session }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const share = useChange(change.share, () => stale.session(session.id));
  return (
    <>
      <button type="button" className="text-ink-2 underline" onClick={() => setOpen(true)}>
        {session.shared.length > 0 ? "shared" : "share"}
      </button>
      <Dialog title="Who may read this, and go on in it" open={open} onClose={() => setOpen(false)}>
        <p className="mb-3 text-ink-2">It is {session.person}'s. Others see nothing of it, unless it is shared with them.</p>
        <ul className="mb-3 flex flex-col gap-1.5">
          {session.shared.map((n) => (
            <li key={n} className="flex items-baseline justify-between">
              <b>{n}</b>
              <Button disabled={share.isPending} onClick={() => share.mutate({ session: session.id, without: [n] })}>
                No more
              </Button>
            </li>
          ))}
        </ul>
        <form
          className="flex gap-1.5"
          onSubmit={(e) => {
            e.preventDefault();
            share.mutate({ session: session.id, with: [name.trim()] }, { onSuccess: () => setName("") });
          }}
        >
          <input className="field" aria-label="The name of a person" placeholder="name" value={name} onChange={(e) => setName(e.target.value)} />
          <Button tone="ink" type="submit" disabled={share.isPending || !name.trim()}>
            Share
          </Button>
        </form>
        {share.error && <div className="mt-2"><Note bad>{words(share.error)}</Note></div>}
        <div className="mt-4 text-right">
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
      </Dialog>
    </>
  );
}

function Welcome({ project, onPick }: { project: Project; onPick: (text: string) => void }) {
  const drills = useQuery(query.drills());
  const sessions = useQuery(query.sessions());
  // what the drills say is what the project is for
  const samples = [...new Set((drills.data?.drills ?? []).map((d) => d.messages[0] ?? ""))].filter(Boolean).slice(0, 4);
  const recent = (sessions.data?.sessions ?? []).slice(0, 5);
  return (
    <div className="flex flex-col gap-3 text-ink-2">
      <p className="text-base text-ink">{project.summary || project.name}</p>
      <p>Say something to {project.start || "the agents"}. Every step of the loop appears on the track as it happens.</p>
      <ul className="flex flex-col gap-2">
        {[...project.agents].sort((a, b) => Number(b.status === "start") - Number(a.status === "start")).map((a) => (
          <li key={a.id} className="border-l-4 border-joint-strong pl-2">
            <b className="text-ink">{a.id}</b>
            <br />
            {a.summary}
          </li>
        ))}
      </ul>
      {samples.length > 0 && (
        <section aria-label="Messages of the drills">
          <h2 className="label mb-1">from its drills</h2>
          {samples.map((m) => (
            <button key={m} type="button" className="mb-1 block w-full rounded-sm border border-joint px-2 py-1 text-left text-ink hover:bg-ground" onClick={() => onPick(m)}>
              {m}
            </button>
          ))}
        </section>
      )}
      {recent.length > 0 && (
        <section aria-label="Sessions">
          <h2 className="label mb-1">continue</h2>
          <ul>
            {recent.map((s) => (
              <li key={s.id} className="flex items-baseline gap-2">
                <Status of={s.status} />
                <Link to={`/try/${s.id}`} className="truncate text-ink underline">
                  {s.title}
                </Link>
                <span className="ml-auto shrink-0 text-[12px] text-ink-3">
                  {count(s.runs, "run")}
                  {s.cost > 0 && `, ${s.cost.toFixed(4)}`}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

// mainOnly leaves out what agents say to one another.
const mainOnly = (typing: Record<string, string>) => Object.fromEntries(Object.entries(typing).filter(([step]) => /^t\d+$/.test(step)));

function Talk({ talk, typing, holder, lanes, waiting, runID, onRun, status, children }: { talk: Said[]; typing: Record<string, string>; holder: string; lanes: readonly string[]; waiting: string[]; runID?: string; onRun: (id: string) => void; status?: string; children: React.ReactNode }) {
  const end = useRef<HTMLDivElement>(null);
  const live = Object.entries(typing).filter(([step]) => !talk.some((t) => t.run === runID && t.step === step));
  const size = talk.length + live.map(([, t]) => t.length).join() + String(status);
  useEffect(() => {
    end.current?.scrollIntoView({ block: "end" });
  }, [size]);
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-3.5 overflow-auto px-4 py-3.5" tabIndex={0} role="log" aria-label="Messages">
      {talk.map((t, i) => (
        <Message key={i} t={t} lanes={lanes} other={t.run !== runID} onRun={onRun} />
      ))}
      {live.map(([step, text]) => (
        <div key={step}>
          <Who name={holder} colour={lane(lanes, holder)} />
          <Markdown text={text + "▌"} />
        </div>
      ))}
      {status === "going" && !live.length && <p className="text-ink-2">{holder} is at work…</p>}
      {children}
      {waiting.map((w, i) => (
        <div key={i} className="rounded-sm border border-dashed border-joint-strong px-2.5 py-1.5">
          <span className="label">waits until the run before it is over</span>
          <p className="text-base">{w}</p>
        </div>
      ))}
      <div ref={end} />
    </div>
  );
}

function Who({ name, colour }: { name: string; colour?: string }) {
  return (
    <div className="mb-0.5 flex items-center gap-1.5 text-xs text-ink-3">
      {colour && <i className="h-[3px] w-2.5 rounded-[1px]" style={{ background: colour }} />}
      {name}
    </div>
  );
}

function Message({ t, lanes, other, onRun }: { t: Said; lanes: readonly string[]; other: boolean; onRun: (id: string) => void }) {
  switch (t.who) {
    case "note":
      return (
        <p className="rounded-sm border border-joint bg-sunk px-2.5 py-1.5 text-ink-2">
          {t.text}
          {other && (
            <button type="button" className="ml-2 text-xs underline" onClick={() => onRun(t.run)}>
              show run {t.run}
            </button>
          )}
        </p>
      );
    case "user":
      return (
        <div>
          <div className="flex justify-between">
            <Who name="you" />
            {other && (
              <button type="button" className="text-xs text-ink-2 underline" onClick={() => onRun(t.run)}>
                show run {t.run}
              </button>
            )}
          </div>
          <p className="rounded-sm bg-sunk px-2.5 py-1.5 text-base leading-normal whitespace-pre-wrap">{t.text}</p>
        </div>
      );
    case "pass":
      return (
        <div className="flex items-center gap-2 text-xs text-ink-2 before:h-px before:flex-1 before:bg-joint after:h-px after:flex-1 after:bg-joint">
          {t.agent} hands over to {t.to}
        </div>
      );
    case "leg":
      return (
        <div className="border-l-2 border-joint pl-2.5 text-ink-2">
          <span className="text-xs">{t.text ? t.agent : `${t.agent} is done`}</span>
          {t.text && <Markdown text={t.text} />}
        </div>
      );
    case "problem":
      return <Note bad>{t.status === "stopped" ? `The run was ${t.text}.` : `The run failed: ${t.text}`}</Note>;
  }
  return (
    <div>
      <Who name={t.agent ?? ""} colour={lane(lanes, t.agent ?? "")} />
      <Markdown text={t.text} />
      {t.links?.map((l) => (
        <p key={l.url} className="mt-1 text-[12px]">
          <Outside url={l.url} name={l.tool} />
        </p>
      ))}
    </div>
  );
}

function Composer({ relay, error, children, ...words }: { holder: string; busy: boolean; onSay: (t: string, relay?: string, input?: Values) => Promise<boolean>; error?: string; autoFocus: boolean; text: string; setText: (t: string) => void; relay?: Relay; children: React.ReactNode }) {
  return (
    <div className="max-h-[60%] shrink-0 overflow-auto border-t border-joint px-4 pt-2.5 pb-3">
      {error && (
        <div className="mb-2">
          <Note bad>{error}</Note>
        </div>
      )}
      {relay ? <RelayForm key={relay.id} relay={relay} busy={words.busy} onGo={(input) => words.onSay("", relay.id, input)} /> : <Words {...words} />}
      <div className="mt-2 flex flex-wrap items-center gap-x-3.5 gap-y-1 text-[12px] text-ink-2">{children}</div>
    </div>
  );
}

// RelayForm is a form made from the input of a relay.
function RelayForm({ relay, busy, onGo }: { relay: Relay; busy: boolean; onGo: (input: Values) => void }) {
  const [input, setInput] = useState<Values>({});
  return (
    <div aria-label={`Input of ${relay.id}`} role="group">
      <p className="mb-2 text-ink-2">
        {relay.summary} <span className="text-[12px] text-ink-3">{relay.legs.join(" → ")}</span>
      </p>
      <Suspense fallback={<p className="text-ink-2">…</p>}>
        <SchemaForm id={`relay-${relay.id}`} schema={relay.input} value={input} onChange={setInput} onSubmit={onGo} unchecked>
          <div className="mt-2">
            <Button type="submit" disabled={busy}>
              Go through it
            </Button>
          </div>
        </SchemaForm>
      </Suspense>
    </div>
  );
}

function Words({ holder, busy, onSay, autoFocus, text, setText }: { holder: string; busy: boolean; onSay: (t: string) => Promise<boolean>; autoFocus: boolean; text: string; setText: (t: string) => void }) {
  const send = async () => {
    if (text.trim() && (await onSay(text))) setText("");
  };
  return (
    <form
      className="flex items-end gap-1.5"
      onSubmit={(e) => {
        e.preventDefault();
        void send();
      }}
    >
      <textarea
        aria-label={`Say something to ${holder}`}
        placeholder={`Say something to ${holder}…`}
        className="field resize-none text-base"
        rows={2}
        autoFocus={autoFocus}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === "Enter" && !e.shiftKey && !e.nativeEvent.isComposing) {
            e.preventDefault();
            void send();
          }
        }}
      />
      <Button type="submit" disabled={busy || !text.trim()}>
        Say
      </Button>
    </form>
  );
}

export function StopButton({ run }: { run: string }) {
  const stop = useChange(change.stop);
  return (
    <span className="ml-auto flex items-center gap-2">
      {stop.error && <span className="text-bad">{words(stop.error)}</span>}
      <Button tone="quiet" className="!px-1.5 !py-0 text-[12px]" disabled={stop.isPending} onClick={() => stop.mutate(run)}>
        Stop the run
      </Button>
    </span>
  );
}
