// Sources: what one offers, ticked into the project; and what a file of functions would bring that is dropped here.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { words, type Inspected } from "../api";
import { change, query, stale, useChange } from "../queries";
import { count } from "../say";
import { Button, Note } from "../ui/ui";

type Offer = Inspected["offers"][number];

export function SourcePage() {
  const { source = "" } = useParams();
  const offers = useQuery(query.source(source));
  return (
    <div className="h-full overflow-auto" tabIndex={0} role="region" aria-label={`Source ${source}`}>
      <div className="mx-auto max-w-[980px] p-5">
        <p className="mb-2">
          <Link className="underline" to="/bench">
            Bench
          </Link>
        </p>
        <h1 className="font-mono text-lg font-bold">{source}</h1>
        {offers.error && <Note bad>{words(offers.error)}</Note>}
        {!offers.data && !offers.error && <p className="mt-2 text-ink-2">It is being asked…</p>}
        {offers.data?.installing && <Installing of={offers.data.installing} />}
        {offers.data && !offers.data.installing && <Ticked key={source + offers.dataUpdatedAt} source={source} of={offers.data} />}
      </div>
    </div>
  );
}

// Installing says how far the package is that a tool server comes in.
function Installing({ of }: { of: NonNullable<Inspected["installing"]> }) {
  return (
    <div role="status" className="mt-3">
      <p>
        <b className="font-mono">{of.package}</b> is being installed, since {new Date(of.since).toLocaleTimeString([], { hour12: false })}. That may take minutes; its tools are listed here when it is there.
      </p>
      {of.line && <p className="mt-1 break-all font-mono text-[12px] text-ink-2">{of.line}</p>}
    </div>
  );
}

// Ticked is the list of what a source offers, with what the project has of it ticked.
function Ticked({ source, of }: { source: string; of: Inspected }) {
  const project = useQuery(query.project());
  const taken = of.offers.filter((o) => o.status === "taken").map((o) => o.name);
  const [take, setTake] = useState<string[]>(taken);
  const [effects, setEffects] = useState<Record<string, string>>({});
  const [to, setTo] = useState<string[]>([]);
  const write = useChange(change.take, () => [...stale.project, ["source", source]]);
  const fresh = take.filter((n) => !taken.includes(n));
  const unsaid = fresh.filter((n) => !effects[n] && !of.offers.find((o) => o.name === n)?.effect);
  const changed = fresh.length > 0 || taken.some((n) => !take.includes(n)) || Object.keys(effects).length > 0;
  return (
    <>
      <p className="mt-1 text-ink-2">
        {of.from} · {count(of.offers.length, "tool")}, {`${taken.length} taken`}
      </p>
      {of.broken.map((b, i) => (
        <div key={i} className="mt-2">
          <Note bad>
            {b.at.file}:{b.at.line} {b.say}. {b.remedy}
          </Note>
        </div>
      ))}
      <ul className="mt-4 flex flex-col gap-2">
        {of.offers.map((o) => (
          <li key={o.name} aria-label={o.id} className="rounded-sm border border-joint bg-face px-3 py-2">
            <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
              <label className="flex items-baseline gap-2 font-mono text-[13px] font-bold">
                <input type="checkbox" disabled={o.status === "broken"} checked={take.includes(o.name)} onChange={(e) => setTake(e.target.checked ? [...take, o.name] : take.filter((n) => n !== o.name))} />
                {o.id}
              </label>
              {take.includes(o.name) && !o.effect && (
                <label className="flex items-baseline gap-1.5 text-[12px]">
                  it is a
                  <select className="field w-auto py-0.5" value={effects[o.name] ?? ""} onChange={(e) => setEffects(e.target.value ? { ...effects, [o.name]: e.target.value } : Object.fromEntries(Object.entries(effects).filter(([k]) => k !== o.name)))}>
                    <option value="">{taken.includes(o.name) ? "as the file says" : "…"}</option>
                    <option value="read">read</option>
                    <option value="write">write</option>
                    <option value="irreversible">irreversible write</option>
                  </select>
                </label>
              )}
              <Says offer={o} />
            </div>
            <About offer={o} />
          </li>
        ))}
      </ul>
      <div className="sticky bottom-0 mt-4 border-t border-joint-strong bg-ground py-3">
        {fresh.length > 0 && (
          <fieldset className="mb-2">
            <legend className="label">Who gets {fresh.join(", ")}</legend>
            <div className="flex flex-wrap gap-x-4 gap-y-1">
              {project.data?.agents.map((a) => (
                <label key={a.id} className="flex items-center gap-1.5">
                  <input type="checkbox" checked={to.includes(a.id)} onChange={(e) => setTo(e.target.checked ? [...to, a.id] : to.filter((x) => x !== a.id))} />
                  {a.id}
                </label>
              ))}
            </div>
          </fieldset>
        )}
        {write.error && <Note bad>{words(write.error)}</Note>}
        <span className="flex flex-wrap items-center gap-3">
          <Button tone="ink" disabled={!changed || unsaid.length > 0 || write.isPending} onClick={() => write.mutate({ source, take, effects, to })}>
            Write it into the files
          </Button>
          {unsaid.length > 0 && <span className="text-ink-2">Say first what {unsaid.join(", ")} does to the world.</span>}
          {write.data && !changed && <span role="status">Written: {write.data.edits.map((e) => `${e.file}:${e.line}`).join(", ")}</span>}
        </span>
      </div>
    </>
  );
}

// Says tells what a source says of an effect: a hint, unless it is the project's own file.
function Says({ offer: o }: { offer: Offer }) {
  const place = o.place?.file ? `${o.place.file}:${o.place.line}` : o.request;
  const says = o.effect ? `its file says: ${o.effect}` : o.says ? `it calls itself a ${o.says}` : "";
  return (
    <span className="text-[12px] text-ink-3">
      {place && <span className="font-mono">{place}</span>} {says}
    </span>
  );
}

function About({ offer: o }: { offer: Offer }) {
  return (
    <>
      {o.fault ? <p className="mt-1 text-bad">cannot be taken: {o.fault}</p> : <p className="mt-1">{o.summary || <span className="text-ink-3">It has no description.</span>}</p>}
      {o.remarks.map((r, i) => (
        <p key={i} className="mt-1 border-l-4 border-joint-strong pl-2 text-[12px] text-ink-2">
          <b>{r.grade}</b> {r.say}. {r.remedy}
        </p>
      ))}
    </>
  );
}

// Dropped shows what a file of functions would bring, which is of no project yet.
export function Dropped({ file, of, onClose }: { file: string; of: Inspected; onClose: () => void }) {
  const name = file.replace(/\.[^.]*$/, "").toLowerCase().replace(/[^a-z0-9]+/g, "_").replace(/^[^a-z]+/, "") || "functions";
  return (
    <section aria-label={`What ${file} would bring`} className="mb-5 rounded-sm border border-joint-strong bg-face px-4 py-3">
      <div className="flex items-baseline justify-between gap-3">
        <h1 className="font-semibold">
          <span className="font-mono">{file}</span> would bring {count(of.offers.length, "tool")}
        </h1>
        <Button onClick={onClose}>Close</Button>
      </div>
      {of.broken.map((b, i) => (
        <Note key={i} bad>
          {b.at.file}:{b.at.line} {b.say}. {b.remedy}
        </Note>
      ))}
      <ul className="mt-2 flex flex-col gap-2">
        {of.offers.map((o) => (
          <li key={o.name} aria-label={o.id}>
            <b className="font-mono text-[13px]">{o.id}</b> <Says offer={o} />
            <About offer={o} />
          </li>
        ))}
      </ul>
      {of.offers.length > 0 && (
        <p className="mt-3 text-ink-2">
          Nothing was kept. To have them, put the file into the project's folder tools, and write beside it:
          <code className="mt-1 block font-mono text-[12px] whitespace-pre text-ink">{`source: ${name}\ncode: {file: tools/${file}}\nagents: []   # who has them`}</code>
        </p>
      )}
    </section>
  );
}
