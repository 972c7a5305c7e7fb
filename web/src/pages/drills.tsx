// Drills: the project's tests with their newest results; a failed one shows what was expected against what happened.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { NavLink, useParams } from "react-router";
import { words, type Drill, type Step } from "../api";
import { change, query, stale, useChange } from "../queries";
import { Markdown } from "../markdown";
import { span, when } from "../say";
import { useTree } from "../runview";
import { Steps } from "../steps";
import { Track } from "../track";
import { Button, Note, Status } from "../ui/ui";

const none: Step[] = [];

export function Drills() {
  const { name } = useParams();
  const list = useQuery(query.drills());
  const runs = useChange(change.drill, () => stale.drills);
  const busy = runs.isPending;
  const drills = list.data?.drills ?? [];
  const drill = drills.find((d) => d.id === name) ?? drills.find((d) => d.status === "failed" || d.status === "broken") ?? drills[0];
  const passed = drills.filter((d) => d.status === "passed").length;
  const bad = drills.filter((d) => d.status === "failed" || d.status === "broken").length;
  return (
    <div className="grid h-full grid-cols-[330px_minmax(0,1fr)] max-md:block max-md:overflow-auto">
      <section aria-label="Drills" className="flex min-h-0 flex-col border-r border-joint-strong bg-face max-md:max-h-72 max-md:border-r-0 max-md:border-b">
        <div className="flex items-center gap-2 border-b border-joint px-4 py-2.5">
          <h1 className="font-semibold">Drills</h1>
          <span className="text-ink-2">
            {passed} passed{bad > 0 && <span className="text-bad">, {bad} failed</span>}
          </span>
          <Button tone="ink" className="ml-auto" disabled={busy || drills.length === 0} onClick={() => runs.mutate(undefined)}>
            {busy ? "Running…" : "Run all"}
          </Button>
        </div>
        {(runs.error || list.error) && <div className="p-3"><Note bad>{words(runs.error ?? list.error)}</Note></div>}
        {list.data && drills.length === 0 && <p className="p-4 text-ink-2">The project has no drills yet. `stonebaton schema drill` says how one is written.</p>}
        <nav aria-label="Drills of the project" className="min-h-0 flex-1 overflow-auto">
          {drills.map((d) => (
            <NavLink key={d.id} to={`/drills/${d.id}`} className={`block border-b border-joint px-4 py-1.5 ${d === drill ? "bg-ground shadow-[inset_4px_0_0_var(--ink)]" : "hover:bg-ground"}`}>
              <span className="block break-words">{d.id.replaceAll("_", " ")}</span>
              <span className="text-[12px]">
                <Status of={d.status} />
                {d.status !== "new" && <span className="text-ink-3"> · {span(d.ms)}, {when(d.at)}</span>}
              </span>
            </NavLink>
          ))}
        </nav>
      </section>
      {drill ? <One key={drill.id + drill.at} drill={drill} busy={busy} onRun={() => runs.mutate([drill.id])} /> : <div />}
    </div>
  );
}

function One({ drill, busy, onRun }: { drill: Drill; busy: boolean; onRun: () => void }) {
  const at = drill.says.length - 1;
  const [said, setSaid] = useState(at);
  const [step, setStep] = useState<number | undefined>(drill.faults.find((f) => f.step)?.step);
  const shown = drill.says[said];
  const [tree, fold] = useTree(shown?.totals, shown?.steps ?? none);
  return (
    <section aria-label={`Drill ${drill.id}`} className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_auto_1fr]">
      <div className="border-b border-joint-strong bg-face px-5 py-3">
        <div className="flex flex-wrap items-baseline gap-x-3">
          <h2 className="text-base font-bold">{drill.id}</h2>
          <Status of={drill.status} />
          <span className="font-mono text-[12px] text-ink-3">
            {drill.place.file}:{drill.place.line}
          </span>
          <Button className="ml-auto" disabled={busy} onClick={onRun}>
            Run it
          </Button>
        </div>
        {drill.summary && <p className="text-ink-2">{drill.summary}</p>}
        <ul className="mt-1.5 flex flex-col gap-1">
          {drill.messages.map((m, i) => (
            <li key={i}>
              {drill.says[i] ? (
                <button type="button" onClick={() => setSaid(i)} className={`text-left ${i === said ? "font-semibold" : "underline"}`}>
                  “{m}”
                </button>
              ) : (
                <>“{m}”</>
              )}
            </li>
          ))}
        </ul>
        {drill.error && <Note bad>{drill.error}</Note>}
        {drill.faults.length > 0 && (
          <table className="mt-3 w-full text-left">
            <caption className="sr-only">What was expected against what happened</caption>
            <thead>
              <tr className="text-xs text-ink-3">
                <th className="w-20 font-medium">what</th>
                <th className="font-medium">expected</th>
                <th className="font-medium">happened</th>
              </tr>
            </thead>
            <tbody>
              {drill.faults.map((f, i) => (
                <tr key={i} className="border-t border-joint align-top">
                  <td className="py-1">{f.what}</td>
                  <td className="py-1 pr-3 font-mono text-[12px] break-words">{f.want}</td>
                  <td className="py-1 font-mono text-[12px] break-words text-bad">
                    {f.got}
                    {f.step && (
                      <button type="button" className="ml-2 font-sans underline" onClick={() => setStep(f.step)}>
                        step {f.step}
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
      {shown ? (
        <>
          <Track title={`Message ${said + 1}`} totals={shown.totals} tree={tree} selected={step} onSelect={setStep} onFold={fold} />
          <div className="grid min-h-0 grid-cols-[minmax(0,1fr)_minmax(240px,340px)] max-md:grid-cols-[minmax(0,1fr)]">
            <Steps steps={tree.steps} folds={tree.folds} onFold={fold} selected={step} onSelect={setStep} />
            <div className="overflow-auto bg-face p-4" tabIndex={0} role="region" aria-label="Answer">
              <div className="label">the answer</div>
              <Markdown text={shown.totals.answer || (shown.totals.problem ? shown.totals.problem.say : "None.")} />
            </div>
          </div>
        </>
      ) : (
        <p className="p-5 text-ink-2">It has not been run yet.</p>
      )}
    </section>
  );
}
