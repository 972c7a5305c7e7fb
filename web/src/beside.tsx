// Beside: the live state of a session, and what the project shows beside it, asked for again after each write.
import { useQuery } from "@tanstack/react-query";
import { words, type Step } from "./api";
import { query } from "./queries";
import { Json, Note } from "./ui/ui";

type Values = Record<string, unknown>;

// Beside shows what is known while one talks. The writes that have ended are part of the question, so that each asks anew.
export function BesidePanel({ session, state, steps }: { session?: string; state: Values; steps: Step[] }) {
  const writes = steps.filter((s) => s.effect && s.effect !== "read" && s.status === "returned").map((s) => s.id);
  const reads = useQuery(query.beside(session, writes.length ? `${steps.length} ${writes.join(" ")}` : ""));
  const known = Object.entries(state).filter(([, v]) => v !== null && v !== undefined && v !== "");
  return (
    <div className="flex flex-wrap gap-x-10 gap-y-4 px-4 py-3" aria-live="polite">
      <section aria-label="State">
        <h2 className="label mb-1">state</h2>
        {known.length === 0 && <p className="text-ink-2">Nothing is known yet.</p>}
        <dl className="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-0.5">
          {known.map(([k, v]) => (
            <Fact key={k} name={k} value={v} />
          ))}
        </dl>
      </section>
      {reads.error && <Note bad>{words(reads.error)}</Note>}
      {reads.data?.shown.map((s) => (
        <section key={s.title} aria-label={s.title} className="min-w-0 flex-1 basis-72">
          <h2 className="label mb-1">
            {s.title} <span className="font-mono">{s.tool}</span>
          </h2>
          {s.status === "failed" ? <Note bad>{s.problem}</Note> : <Shown value={s.value} />}
        </section>
      ))}
      {session && reads.data?.shown.length === 0 && <p className="text-ink-3">Reads that beside: in stonebaton.yaml names are shown here, and made again after each write.</p>}
    </div>
  );
}

function Fact({ name, value }: { name: string; value: unknown }) {
  return (
    <>
      <dt className="font-mono text-[12px] text-ink-2">{name}</dt>
      <dd className="break-words">{typeof value === "object" ? <Json value={value} /> : String(value)}</dd>
    </>
  );
}

const flat = (v: unknown): v is Values[] => Array.isArray(v) && v.length > 0 && v.every((r) => r !== null && typeof r === "object" && !Array.isArray(r));

// Shown is a table where there are rows, and the value as it is elsewhere.
function Shown({ value }: { value: unknown }) {
  if (Array.isArray(value) && value.length === 0) return <p className="text-ink-2">None.</p>;
  if (!flat(value)) return typeof value === "object" ? <Json value={value} /> : <p>{String(value)}</p>;
  const rows = value.slice(0, 200);
  const columns = [...new Set(rows.flatMap((r) => Object.keys(r)))];
  return (
    <div className="max-h-80 overflow-auto" tabIndex={0} role="region" aria-label="Rows">
      <table className="w-full border-collapse text-[12px]">
        <thead>
          <tr>
            {columns.map((c) => (
              <th key={c} className="border-b border-joint-strong py-0.5 pr-3 text-left font-semibold text-ink-2">
                {c}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r, i) => (
            <tr key={i}>
              {columns.map((c) => (
                <td key={c} className="border-b border-joint py-0.5 pr-3 align-top">
                  {r[c] === null || r[c] === undefined ? "–" : typeof r[c] === "object" ? JSON.stringify(r[c]) : String(r[c])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
