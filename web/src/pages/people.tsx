// People: who may use the service, with which rights. And the record of who did what.
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { words, type Me, type Person } from "../api";
import { change, query, record, stale, useChange } from "../queries";
import { when } from "../say";
import { useWho } from "../who";
import { Button, Note, Seen } from "../ui/ui";

type Right = Me["rights"][number];
const rights: readonly (readonly [Right, string])[] = [
  ["talk", "begin runs, and read their own"],
  ["view", "look at the project"],
  ["build", "try tools, run drills, change files"],
  ["approve", "settle tickets that name nobody"],
  ["admin", "people, the record, everybody's runs"],
];

interface Draft {
  name: string;
  rights: Right[];
  is: string;
  address: string;
}

const empty: Draft = { name: "", rights: ["talk"], is: "", address: "" };
const names = (list: string) => list.split(/[\s,]+/).filter(Boolean);

export function People() {
  const list = useQuery(query.people());
  const me = useWho();
  const [editing, setEditing] = useState<Person | "new">();
  const [token, setToken] = useState<{ name: string; token: string }>();
  const renew = useChange(change.newToken, () => stale.people);
  const revoke = useChange(change.revoke, () => stale.people);
  const error = list.error ?? renew.error ?? revoke.error;
  return (
    <div className="h-full overflow-auto" tabIndex={0} role="region" aria-label="People">
      <div className="mx-auto max-w-[980px] p-5">
        <div className="mb-4 flex flex-wrap items-baseline gap-x-3 gap-y-1">
          <h1 className="text-lg font-bold">People</h1>
          <span className="text-ink-2">Who may use this service, and what they may do.</span>
          <span className="ml-auto flex items-center gap-3">
            <Link className="underline" to="/record">
              Record
            </Link>
            <Button tone="ink" onClick={() => setEditing("new")}>
              Add somebody
            </Button>
          </span>
        </div>
        {error && <Note bad>{words(error)}</Note>}
        {token && (
          <section aria-label="New token" className="mb-4 rounded-sm border border-l-[5px] border-call bg-call-soft px-3 py-2.5">
            <b>The token of {token.name}.</b> It is not kept: give it to them now.
            <p className="mt-1.5 font-mono text-[12px] break-all select-all">{token.token}</p>
            <Button className="mt-2" onClick={() => setToken(undefined)}>
              They have it
            </Button>
          </section>
        )}
        {editing && (
          <Edit
            key={editing === "new" ? "" : editing.id}
            person={editing === "new" ? undefined : editing}
            first={list.data?.people.length === 0 && me.local}
            onDone={(name, made) => {
              setEditing(undefined);
              if (made) setToken({ name, token: made });
            }}
            onBack={() => setEditing(undefined)}
          />
        )}
        {list.data?.people.length === 0 && <Note>There is nobody. On this machine nobody has to sign in; from elsewhere nobody can.</Note>}
        <ul className="flex flex-col gap-2">
          {list.data?.people.map((p) => (
            <li key={p.id} aria-label={p.id} className="flex flex-wrap items-baseline gap-x-3 gap-y-1 rounded-sm border border-joint bg-face px-3 py-2">
              <b className="min-w-28 text-base">{p.id}</b>
              <span className="min-w-0 flex-1 basis-60">
                {p.rights.join(", ")}
                {p.is.length > 0 && <span className="block text-ink-2">is {p.is.join(", ")}</span>}
                {p.address && <span className="block text-ink-2">{p.address}</span>}
                {p.vouches && <span className="block text-ink-2">an application that says for whom it asks</span>}
              </span>
              <span className="text-[12px] text-ink-3">since {when(p.since)}</span>
              <span className="flex flex-wrap gap-1.5">
                <Button onClick={() => setEditing(p)}>Change…</Button>
                {!p.vouches && (
                  <Button disabled={renew.isPending} onClick={() => renew.mutate(p.id, { onSuccess: (t) => t.token && setToken({ name: p.id, token: t.token }) })}>
                    New token
                  </Button>
                )}
                {p.id !== me.name && <Sure say={`Take ${p.id} out?`} onSure={() => revoke.mutate(p.id)} />}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}

// Sure asks once more before somebody is out.
function Sure({ say, onSure }: { say: string; onSure: () => void }) {
  const [asked, setAsked] = useState(false);
  if (!asked) return <Button onClick={() => setAsked(true)}>Take out…</Button>;
  return (
    <span className="flex items-center gap-1.5">
      {say}
      <Button tone="call" onClick={onSure}>
        Yes
      </Button>
      <Button onClick={() => setAsked(false)}>No</Button>
    </span>
  );
}

function Edit({ person, first, onDone, onBack }: { person?: Person; first: boolean; onDone: (name: string, token?: string) => void; onBack: () => void }) {
  const [d, setD] = useState<Draft>(person ? { name: person.id, rights: person.rights, is: person.is.join(", "), address: person.address ?? "" } : first ? { ...empty, rights: ["talk", "admin"] } : empty);
  const save = useChange(person ? change.person : change.addPerson, () => stale.people);
  const toggle = (r: Right) => setD({ ...d, rights: d.rights.includes(r) ? d.rights.filter((x) => x !== r) : [...d.rights, r] });
  return (
    <form
      aria-label={person ? `Change ${person.id}` : "Add somebody"}
      className="mb-4 rounded-sm border border-joint-strong bg-face px-3 py-2.5"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate({ name: d.name, rights: d.rights, is: names(d.is), address: d.address.trim() }, { onSuccess: (t) => onDone(d.name, t.token) });
      }}
    >
      {first && <p className="mb-2">From the first person on everybody has to sign in, so the first one needs the right admin. Keep their token: you will need it at once.</p>}
      <div className="grid grid-cols-2 gap-3 max-md:grid-cols-1">
        <label>
          <span className="label">name</span>
          <input className="field" required disabled={!!person} pattern="[a-z][a-z0-9_\-]*" title="small letters, digits, _ and -" value={d.name} onChange={(e) => setD({ ...d, name: e.target.value })} />
        </label>
        <label>
          <span className="label">the approvers that they are, with commas</span>
          <input className="field" value={d.is} placeholder="harbourmaster" onChange={(e) => setD({ ...d, is: e.target.value })} />
        </label>
        <label>
          <span className="label">where notices go</span>
          <input className="field" value={d.address} onChange={(e) => setD({ ...d, address: e.target.value })} />
        </label>
        <fieldset>
          <legend className="label">rights</legend>
          {rights.map(([r, say]) => (
            <label key={r} className="flex items-center gap-1.5">
              <input type="checkbox" checked={d.rights.includes(r)} onChange={() => toggle(r)} /> <b>{r}</b> <span className="text-ink-2">{say}</span>
            </label>
          ))}
        </fieldset>
      </div>
      {save.error && <div className="mt-2"><Note bad>{words(save.error)}</Note></div>}
      <div className="mt-2.5 flex gap-1.5">
        <Button tone="ink" type="submit" disabled={save.isPending || d.rights.length === 0}>
          {person ? "Save" : "Add"}
        </Button>
        <Button onClick={onBack}>Back</Button>
      </div>
    </form>
  );
}

export function RecordPage() {
  const [person, setPerson] = useState("");
  const pages = useInfiniteQuery({ queryKey: ["record", person], queryFn: ({ pageParam }) => record(person, pageParam), initialPageParam: "", getNextPageParam: (last) => last.next || undefined });
  const list = pages.data?.pages.flatMap((p) => p.entries) ?? [];
  const me = useWho();
  return (
    <div className="h-full overflow-auto" tabIndex={0} role="region" aria-label="Record">
      <div className="mx-auto max-w-[980px] p-5">
        <div className="mb-4 flex flex-wrap items-baseline gap-x-3 gap-y-1">
          <h1 className="text-lg font-bold">Record</h1>
          <span className="text-ink-2">Who did what, the newest first. Nothing in it is ever changed.</span>
          {me.rights.includes("admin") && (
            <label className="ml-auto flex items-center gap-1.5 text-ink-2">
              of <input className="field !w-36" aria-label="Only what this person did" placeholder="everybody" value={person} onChange={(e) => setPerson(e.target.value.trim())} />
            </label>
          )}
        </div>
        {pages.error && <Note bad>{words(pages.error)}</Note>}
        {pages.data && list.length === 0 && <Note>Nothing yet.</Note>}
        <table className="w-full text-left max-md:[&_td:nth-child(5)]:hidden max-md:[&_th:nth-child(5)]:hidden">
          <thead>
            <tr className="text-xs text-ink-3">
              <th className="py-1 font-medium">when</th>
              <th className="font-medium">who</th>
              <th className="font-medium">did</th>
              <th className="font-medium">about</th>
              <th className="font-medium">known by</th>
            </tr>
          </thead>
          <tbody>
            {list.map((e) => (
              <tr key={e.n} className="border-t border-joint align-top">
                <td className="py-1.5 pr-3 whitespace-nowrap text-ink-2">{when(e.at)}</td>
                <td className="pr-3 font-semibold"><Seen text={e.person} /></td>
                <td className="pr-3">{e.did}</td>
                <td className="pr-3 break-words">
                  <About text={e.about} />
                  {e.detail && <span className="block text-ink-2"><Seen text={e.detail} /></span>}
                </td>
                <td className="text-ink-3">{e.via}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {pages.hasNextPage && (
          <Button className="mt-3" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            Earlier
          </Button>
        )}
      </div>
    </div>
  );
}

// About links to what an entry is about, where that has a page.
function About({ text }: { text: string }) {
  const at = /^(run|ticket) ([a-z0-9-]+)$/.exec(text);
  if (!at) return <Seen text={text} />;
  return (
    <Link className="underline" to={`/${at[1]}s/${at[2]}`}>
      {text}
    </Link>
  );
}
