// Map: agents, tools and relays and what leads where, or one relay; with the paths of runs.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { words, type Chart, type FileProblem } from "../api";
import { query } from "../queries";
import { count, short } from "../say";
import { Button, Note, Pick } from "../ui/ui";
import { can, useWho } from "../who";
import { Add, type Beginning } from "./add";

type Node = Chart["nodes"][number];
type Way = Chart["ways"][number];

const times = (taken?: number[]) => (taken?.some((n) => n > 0) ? ` (${taken.map((n) => `×${n}`).join(", ")})` : "");
const walked = (taken?: number[]) => !!taken?.some((n) => n > 0);
const label = (w: Way) => (["calls", "then", "when"].includes(w.link) ? (w.when ?? "") : w.link) + times(w.taken);

export function MapPage() {
  const { relay } = useParams();
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const runs = search.getAll("run");
  const project = useQuery(query.project());
  const recent = useQuery(query.runs("limit=30"));
  const chart = useQuery(query.map(relay, runs));
  const [selected, setSelected] = useState<string>();
  const builds = can(useWho(), "build");
  const [adding, setAdding] = useState<Beginning>();
  const pick = (i: number, id: string) => setSearch({ run: [...runs.slice(0, i), ...(id ? [id, ...runs.slice(i + 1)] : [])] });
  const options: (readonly [string, string])[] = [["", "no run"], ...(recent.data?.runs ?? []).map((r) => [r.id, `${r.id}  ${short(r.text, 60)}`] as const)];
  for (const r of runs) if (!options.some(([id]) => id === r)) options.push([r, r]);
  const c = chart.data;
  const node = c?.nodes.find((n) => n.id === selected);
  return (
    <div className="flex h-full flex-col">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5 border-b border-joint bg-face px-4 py-2">
        <h1 className="font-semibold">Map</h1>
        <span className="flex items-center gap-1">
          of <Pick label="What the map is of" value={relay ?? ""} onChange={(r) => void go({ pathname: r ? `/map/${r}` : "/map", search: search.toString() })} options={[["", `the project ${project.data?.name ?? ""}`], ...(project.data?.relays ?? []).map((r) => [r.id, `relay ${r.id}`] as const)]} />
        </span>
        <span className="flex items-center gap-1">
          with the path of <Pick label="Run whose path is shown" value={runs[0] ?? ""} onChange={(id) => pick(0, id)} options={options} />
        </span>
        {runs.length > 0 && (
          <span className="flex items-center gap-1">
            and <Pick label="A second run" value={runs[1] ?? ""} onChange={(id) => pick(1, id)} options={options} />
          </span>
        )}
        {c && <span className="text-ink-2">{c.summary}</span>}
      </div>
      <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_320px] max-md:block max-md:overflow-auto">
        <div className="min-h-0 overflow-auto bg-ground" tabIndex={0} aria-label="Drawing" role="region">
          {chart.error && (
            <div className="p-4">
              <Note bad>{words(chart.error)}</Note>
            </div>
          )}
          {c && <Drawing chart={c} selected={selected} onSelect={setSelected} />}
        </div>
        <aside aria-label="Definition" className="min-h-0 overflow-auto border-l border-joint-strong bg-face max-md:border-t max-md:border-l-0">
          {c && node ? (
            <Definition chart={c} node={node} onSelect={setSelected} onAdd={builds ? setAdding : undefined} />
          ) : (
            <div className="px-4 py-3">
              <p className="text-ink-2">{c?.nodes.length ? "Choose something on the map to read what it is, where it stands in the files, and what leads from it." : ""}</p>
              {!relay && project.data && (
                <section aria-label="Agents" className="mt-4">
                  <h2 className="label mb-1">{count(project.data.agents.length, "agent")}</h2>
                  {project.data.agents.map((a) => (
                    <button key={a.id} type="button" className="block cursor-pointer font-mono text-[12px] leading-6 underline" onClick={() => setSelected(`agent:${a.id}`)}>
                      {a.id}
                    </button>
                  ))}
                  {builds && (
                    <Button className="mt-2" onClick={() => setAdding({ kind: "agent" })}>
                      Add an agent…
                    </Button>
                  )}
                </section>
              )}
            </div>
          )}
          {adding && <Add of={adding} agents={project.data?.agents.map((a) => a.id) ?? []} onClose={() => setAdding(undefined)} />}
        </aside>
      </div>
    </div>
  );
}

// asides are the ways out of a leg that failed, or that a person did not allow.
const asides: ReadonlySet<Way["link"]> = new Set<Way["link"]>(["fails", "sent back", "refused", "lapsed"]);

function Drawing({ chart, selected, onSelect }: { chart: Chart; selected?: string; onSelect: (id: string) => void }) {
  const pathed = chart.ways.some((w) => walked(w.taken));
  const near = (w: Way) => selected === w.from || selected === w.to;
  const strong = (w: Way) => near(w) && !pathed;
  return (
    <svg width={chart.width} height={chart.height} viewBox={`0 0 ${chart.width} ${chart.height}`} className="block" aria-label={`The map of ${chart.title}`}>
      <defs>
        <marker id="head" viewBox="0 0 8 8" refX="8" refY="4" markerUnits="userSpaceOnUse" markerWidth="8" markerHeight="8" orient="auto">
          <path d="M0 0L8 4L0 8z" fill="var(--ink-3)" />
        </marker>
      </defs>
      {chart.ways.map((w, i) => (
        <path key={i} d={w.path} fill="none" markerEnd="url(#head)" stroke={walked(w.taken) || strong(w) ? "var(--ink)" : "var(--joint-strong)"} strokeWidth={walked(w.taken) ? 2 : strong(w) ? 1.5 : 1} strokeDasharray={asides.has(w.link) ? "4 3" : undefined} />
      ))}
      {chart.ways.map(
        (w, i) =>
          (chart.relay || walked(w.taken) || near(w)) &&
          label(w) && (
            <text key={i} x={w.x} y={w.y} textAnchor={chart.relay ? "start" : "middle"} fontSize="10.5" fill="var(--ink-2)" stroke="var(--ground)" strokeWidth="3" paintOrder="stroke">
              {short(label(w), 60)}
              <title>{label(w)}</title>
            </text>
          ),
      )}
      {chart.nodes.map((n) => (
        <g key={n.id} role="button" tabIndex={0} aria-pressed={selected === n.id} data-node={n.name} className="cursor-pointer" onClick={() => onSelect(n.id)} onKeyDown={(e) => (e.key === "Enter" || e.key === " ") && (e.preventDefault(), onSelect(n.id))}>
          <rect x={n.x - n.w / 2} y={n.y - 20} width={n.w} height={40} rx="3" fill={n.kind === "tool" || n.kind === "end" ? "var(--sunk)" : "var(--face)"} stroke={selected === n.id || n.start || walked(n.taken) ? "var(--ink)" : "var(--joint-strong)"} strokeWidth={selected === n.id ? 3 : n.start || walked(n.taken) ? 2 : 1} />
          <text x={n.x} y={n.y - 3} textAnchor="middle" fontSize="13" fontWeight={n.start ? 700 : 500} fill="var(--ink)">
            {n.name}
          </text>
          <text x={n.x} y={n.y + 13} textAnchor="middle" fontSize="11" fill="var(--ink-2)">
            {n.about + times(n.taken)}
          </text>
        </g>
      ))}
    </svg>
  );
}

function Definition({ chart, node, onSelect, onAdd }: { chart: Chart; node: Node; onSelect: (id: string) => void; onAdd?: (b: Beginning) => void }) {
  const problems = useQuery(query.problems());
  const name = (id: string) => chart.nodes.find((n) => n.id === id)?.name ?? id;
  const out = chart.ways.filter((w) => w.from === node.id);
  const into = chart.ways.filter((w) => w.to === node.id);
  const mine = (problems.data?.problems ?? []).filter((p) => about(p, node, chart));
  return (
    <div className="px-4 py-3">
      <h2 className="font-mono text-base font-bold">{node.name}</h2>
      <p className="text-ink-2">
        {node.about}
        {node.start && (chart.relay ? " · it begins here" : " · conversations start here")}
        {times(node.taken)}
      </p>
      {node.summary && <p className="mt-2">{node.summary}</p>}
      {node.place.file && (
        <p className="mt-2 font-mono text-[12px] text-ink-2">
          {node.place.file}:{node.place.line}
        </p>
      )}
      {node.kind === "relay" && (
        <p className="mt-2">
          <Link className="underline" to={`/map/${node.name}`}>
            the map of its legs
          </Link>
        </p>
      )}
      {node.kind === "tool" && (
        <p className="mt-2">
          <Link className="underline" to={`/bench/${node.name}`}>
            try it on the bench
          </Link>
        </p>
      )}
      {onAdd && (node.kind === "agent" || node.kind === "tool") && (
        <p className="mt-2">
          <Button onClick={() => onAdd({ kind: node.kind as Beginning["kind"], like: node.name })}>Another like it…</Button>
        </p>
      )}
      {mine.length > 0 && (
        <section aria-label="Its problems" className="mt-3">
          <h3 className="label mb-1">{count(mine.length, "problem")}</h3>
          {mine.map((p, i) => (
            <p key={i} className={`mb-2 border-l-4 bg-sunk px-3 py-1.5 text-[12px] ${p.grade === "error" ? "border-bad" : "border-joint-strong"}`}>
              <b>{p.grade}</b> {p.say}. {p.remedy}
            </p>
          ))}
        </section>
      )}
      {out.length > 0 && <Ways title="leads to" ways={out} name={name} onSelect={onSelect} />}
      {into.length > 0 && <Ways title="comes from" ways={into} back name={name} onSelect={onSelect} />}
    </div>
  );
}

// about says whether a problem of the files is about what a node stands for.
const about = (p: FileProblem, n: Node, c: Chart) => (p.tool ? n.kind === "tool" && p.tool === n.name : p.file === n.place.file && p.line !== undefined && n.place.line !== undefined && p.line >= n.place.line && !c.nodes.some((o) => o.place.file === n.place.file && (o.place.line ?? 0) > n.place.line! && (o.place.line ?? 0) <= p.line!));

// Ways lists what leads from a node, or to it (back): "consults dues", "desk consults".
function Ways({ title, ways, back, name, onSelect }: { title: string; ways: Way[]; back?: boolean; name: (id: string) => string; onSelect: (id: string) => void }) {
  const other = (w: Way) => (back ? w.from : w.to);
  const link = (w: Way) => (w.link !== "when" ? w.link : w.when ? "" : "otherwise");
  return (
    <section aria-label={title} className="mt-3">
      <h3 className="label mb-1">{title}</h3>
      <ul className="flex flex-col gap-1">
        {ways.map((w, i) => (
          <li key={i}>
            <button type="button" className="text-left hover:underline" onClick={() => onSelect(other(w))}>
              {!back && <span className="text-ink-2">{link(w)} </span>}
              <b>{name(other(w))}</b>
              {back && <span className="text-ink-2"> {link(w)}</span>}
              {times(w.taken)}
            </button>
            {w.when && (
              <div className="text-[12px] text-ink-2">
                when <span className="font-mono">{w.when}</span>
              </div>
            )}
            {w.held?.map((h, k) => (
              <div key={k} className="border-l-2 border-joint-strong pl-2 text-[12px]">
                visit {h.visit} of {h.run}: <span className="font-mono">{h.values.join(", ")}</span>
              </div>
            ))}
          </li>
        ))}
      </ul>
    </section>
  );
}
