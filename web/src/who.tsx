// Who asks: what the service knows of the person in front of the console, and the page on which they sign in.
import { useQuery } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { words, type Me, type Ticket } from "./api";
import { change, query, useChange } from "./queries";
import { Button, Dialog, Note } from "./ui/ui";

// Asking is the person in front of the console, and the name that the local person acts as in this tab; "" is their own.
type Asking = Me & { acts: string };

const Who = createContext<Asking>({ acts: "", name: "", rights: [], is: [], via: "", local: false, people: false, keyless: false, sign_in: true });

export const useWho = () => useContext(Who);
export const can = (me: Me, ...rights: Me["rights"][number][]) => rights.some((r) => me.rights.includes(r));

// decides says whether a person may settle a ticket, and has not agreed to it yet. The service has the last word.
export function decides(me: Asking, t: Ticket): boolean {
  if (me.keyless) return false;
  if (me.acts) return t.barred !== me.acts && !t.votes.some((v) => v.by === me.acts) && (t.by.length === 0 || t.by.includes(me.acts));
  if (me.local) return true;
  if (t.barred === me.name || t.votes.some((v) => v.by === me.name)) return false;
  if (t.by.length === 0) return can(me, "approve") || t.stepwise === true || !["gate", "text", "limit"].includes(t.form);
  return [me.name, ...me.is, ...me.rights].some((n) => t.by.includes(n));
}

// Known shows what is for people who are known, and to others the page on which they sign in.
export function Known({ children }: { children: ReactNode }) {
  const [key, setKey] = useState(keyOfLink);
  const enter = useChange(change.signIn);
  const { mutate } = enter;
  useEffect(() => {
    if (!key) return;
    history.replaceState(null, "", window.location.pathname + window.location.search); // it is nobody's to see
    mutate(key, { onSettled: () => setKey("") });
  }, [key, mutate]);
  const me = useQuery({ ...query.me(), enabled: !key });
  if (enter.error) return <main className="p-6"><Note bad>{words(enter.error)}</Note></main>;
  if (me.error) return <div className="p-6"><Note bad>{words(me.error)}</Note></div>;
  if (!me.data) return null;
  if (me.data.sign_in) return <SignIn />;
  return <Who.Provider value={{ ...me.data, acts: me.data.local ? (sessionStorage.getItem(tab) ?? "") : "" }}>{children}</Who.Provider>;
}

// keyOfLink gives the key of a link as `stonebaton console` prints it; "" where there is none.
const keyOfLink = () => /^#key=([\w.-]+)$/.exec(window.location.hash)?.[1] ?? "";

// Keyless says to the local person what it takes to do more than look and talk.
export function Keyless() {
  const me = useWho();
  if (!me.keyless) return null;
  return (
    <div role="status" className="border-b border-joint-strong bg-face px-4 py-1.5 text-[12px] text-ink-2">
      Here you look and talk. To settle and build, open the link that <code className="font-mono">stonebaton console</code> prints.
    </div>
  );
}

const tab = "stonebaton.acts"; // where a tab keeps as whom it acts

function act(as: string) {
  if (as) sessionStorage.setItem(tab, as);
  else sessionStorage.removeItem(tab);
  anew();
}

// Acting says plainly that what is done here is done in the name of another.
export function Acting() {
  const me = useWho();
  if (!me.acts) return null;
  return (
    <div role="status" className="flex flex-wrap items-center gap-2 border-b border-call bg-call-soft px-4 py-1 text-[12px]">
      <span>
        You act as <b>{me.acts}</b> in this tab: what you say is theirs, and you decide only what they may.
      </span>
      <Button onClick={() => act("")}>Act as yourself</Button>
    </div>
  );
}

// anew loads the page again, so that nothing stays of what another person saw.
const anew = () => window.location.reload();

function SignIn() {
  const [token, setToken] = useState("");
  const enter = useChange(change.signIn);
  return (
    <main className="grid min-h-full place-items-center p-5">
      <form
        className="w-full max-w-[420px] rounded-sm border border-joint-strong bg-face p-5"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate(token.trim(), {
            onSuccess: anew,
          });
        }}
      >
        <h1 className="mb-1 text-lg font-bold">Stone Baton</h1>
        <p className="mb-3 text-ink-2">Who you are is known by your token. Whoever runs this service gives you one.</p>
        <label>
          <span className="label">Your token</span>
          <input className="field font-mono text-[12px]" type="password" autoComplete="current-password" autoFocus required value={token} onChange={(e) => setToken(e.target.value)} />
        </label>
        {enter.error && <div className="mt-2"><Note bad>{words(enter.error)}</Note></div>}
        <div className="mt-3">
          <Button tone="ink" type="submit" disabled={enter.isPending || !token.trim()}>
            Sign in
          </Button>
        </div>
      </form>
    </main>
  );
}

// Myself names the person, and lets them out.
export function Myself() {
  const me = useWho();
  const [open, setOpen] = useState(false);
  const [token, setToken] = useState("");
  const [as, setAs] = useState(me.acts);
  const again = { onSuccess: anew };
  const leave = useChange(change.signOut);
  const enter = useChange(change.signIn);
  const error = leave.error ?? enter.error;
  return (
    <>
      <Button tone="quiet" onClick={() => setOpen(true)} aria-label={`You are ${me.name}`}>
        {me.name}
      </Button>
      <Dialog title={`You are ${me.name}`} open={open} onClose={() => setOpen(false)}>
        {me.keyless ? (
          <p>This service is on loopback, and you did not say who you are: you may look, and talk. The link that <code className="font-mono">stonebaton console</code> prints opens all else.</p>
        ) : me.local ? (
          <p>This service is on loopback, and you came with the key of its records: you may do everything, and act as anybody. The record says as whom.</p>
        ) : (
          <p>
            You may {me.rights.join(", ")}
            {me.is.length > 0 && `; for gates you are ${me.is.join(", ")}`}.
          </p>
        )}
        <p className="mt-3 flex flex-wrap gap-3">
          {can(me, "admin") && (
            <Link className="underline" to="/people" onClick={() => setOpen(false)}>
              People
            </Link>
          )}
          <Link className="underline" to="/record" onClick={() => setOpen(false)}>
            Record
          </Link>
        </p>
        {me.local && (
          <form
            className="mt-4"
            onSubmit={(e) => {
              e.preventDefault();
              act(as.trim());
            }}
          >
            <label>
              <span className="label">Act as another in this tab: their name, or an approver</span>
              <input className="field" required maxLength={100} value={as} onChange={(e) => setAs(e.target.value)} />
            </label>
            <Button className="mt-1.5" type="submit" disabled={!as.trim()}>
              Act as them
            </Button>
          </form>
        )}
        {me.local && me.people && (
          <form
            className="mt-4"
            onSubmit={(e) => {
              e.preventDefault();
              enter.mutate(token.trim(), again);
            }}
          >
            <label>
              <span className="label">Be one of the people: their token</span>
              <input className="field font-mono text-[12px]" type="password" required value={token} onChange={(e) => setToken(e.target.value)} />
            </label>
            <Button className="mt-1.5" type="submit" disabled={enter.isPending || !token.trim()}>
              Sign in
            </Button>
          </form>
        )}
        {error && <div className="mt-2"><Note bad>{words(error)}</Note></div>}
        <div className="mt-4 flex flex-wrap justify-end gap-1.5">
          {me.via === "sign-in" && (
            <>
              <Button disabled={leave.isPending} onClick={() => leave.mutate(true, again)}>
                Sign out everywhere
              </Button>
              <Button tone="ink" disabled={leave.isPending} onClick={() => leave.mutate(false, again)}>
                Sign out
              </Button>
            </>
          )}
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
      </Dialog>
    </>
  );
}
