// The proof of a call: what left, what came back, what it wrote beside it, and what it changed.
import { parse, words, type Sent } from "./api";
import { change, useChange } from "./queries";
import { count, when } from "./say";
import { Files } from "./files";
import { Button, Difference, Note } from "./ui/ui";

export function SentView({ of, sent, undoable, undone }: { of?: string; sent?: Sent; undoable?: boolean; undone?: string }) {
  const undo = useChange(change.undo);
  if (!sent) return <p className="px-4 py-3 text-ink-2">Nothing was sent anywhere.</p>;
  const program = sent.method === "COMMAND" || sent.method === "PROGRAM" || sent.method === "SHELL";
  return (
    <div className="flex flex-col gap-2 px-4 py-3 font-mono text-[12px]">
      <div className="break-all">
        <b>{sent.method?.toLowerCase() === sent.method ? sent.method : program ? "$" : sent.method}</b> {sent.url}
      </div>
      {sent.headers && (
        <dl className="grid grid-cols-[max-content_1fr] gap-x-3 text-ink-2">
          {Object.entries(sent.headers).map(([k, v]) => (
            <div key={k} className="contents">
              <dt>{k}</dt>
              <dd className="break-all">{v}</dd>
            </div>
          ))}
        </dl>
      )}
      {of && sent.files && <Files of={of} files={sent.files} />}
      {sent.body && <Block name={sent.method === "PROGRAM" ? "program" : program ? "standard input" : "body"} text={sent.body} />}
      {(sent.status !== undefined || sent.bytes !== undefined) && (
        <div>
          → {program ? `exit ${sent.status ?? 0}` : (sent.status ?? "")} {sent.type} {sent.bytes !== undefined && !program && sent.method !== "SQL" && count(sent.bytes, "byte")}
          {sent.method === "SQL" && count(sent.bytes ?? 0, "row")}
        </div>
      )}
      {sent.reply && <Block name={program ? "standard output" : "raw reply"} text={sent.reply} />}
      {sent.log && <Block name={program ? "standard error" : "log"} text={sent.log} />}
      {sent.diff && (
        <section aria-label="difference">
          <h2 className="label mb-1 font-sans">difference</h2>
          <Difference text={sent.diff} />
        </section>
      )}
      {undone && <p className="font-sans text-ink-2">A person undid the change, {when(undone)}.</p>}
      {undoable && sent.undo && !undone && !undo.data && (
        <div className="font-sans">
          <Button disabled={undo.isPending} onClick={() => undo.mutate(sent.undo!)}>
            Undo the change
          </Button>
        </div>
      )}
      {undo.data && <p className="font-sans text-ok">{undo.data.path} is as it was before.</p>}
      {undo.error && <Note bad>{words(undo.error)}</Note>}
    </div>
  );
}

function Block({ name, text }: { name: string; text: string }) {
  return (
    <section aria-label={name}>
      <h2 className="label mb-0.5 font-sans">{name}</h2>
      <pre className="max-h-72 overflow-auto rounded-sm bg-sunk px-2 py-1.5 break-words whitespace-pre-wrap" tabIndex={0}>
        {pretty(text)}
      </pre>
    </section>
  );
}

// pretty sets JSON out in lines; all else stays as it came.
function pretty(text: string): string {
  if (!/^\s*[[{]/.test(text)) return text;
  try {
    return JSON.stringify(parse(text, (JSON as { rawJSON?: (digits: string) => unknown }).rawJSON), null, 2);
  } catch {
    return text;
  }
}
