// Add: an agent, a tool or a drill more, like one that is there or plain, written into the project's files.
import { useState, type FormEvent } from "react";
import { words } from "../api";
import { change, stale, useChange } from "../queries";
import { Button, Dialog, Note } from "../ui/ui";

export interface Beginning {
  kind: "agent" | "tool";
  like?: string;
}

// Add asks what is to be added, and says where it was written. Agents are those that it can be wired into.
export function Add({ of, agents, onClose }: { of: Beginning; agents: string[]; onClose: () => void }) {
  const [name, setName] = useState("");
  const [summary, setSummary] = useState("");
  const [from, setFrom] = useState<string[]>([]);
  const add = useChange(change.add, () => stale.project);
  const agent = of.kind === "agent";
  const send = (e: FormEvent) => {
    e.preventDefault();
    add.mutate({ kind: of.kind, name, like: of.like, summary: summary || undefined, ...(agent ? { passes_from: from } : { to: from }) });
  };
  return (
    <Dialog title={of.like ? `${agent ? "An agent" : "A tool"} like ${of.like}` : `Add ${agent ? "an agent" : "a tool"}`} open onClose={onClose}>
      {add.data ? (
        <div role="status" aria-label="What was written">
          {add.data.edits.map((e, i) => (
            <p key={e.file} className="mb-1 font-mono text-[12px]">
              {e.file}:{e.line} {i === 0 ? "is new" : "names it"}
            </p>
          ))}
          <p className="mt-2 text-ink-2">Open the new file to say what it does.</p>
          <Button className="mt-3" tone="ink" onClick={onClose}>
            Close
          </Button>
        </div>
      ) : (
        <form onSubmit={send} className="flex flex-col gap-3">
          {of.like && <p className="text-ink-2">It begins with the text of {of.like}{agent ? " and has its tools" : ""}.</p>}
          <label>
            <span className="label">Name</span>
            <input required autoFocus pattern="[a-z][a-z0-9_]*" title="small letters, digits and _" className="field font-mono" value={name} onChange={(e) => setName(e.target.value)} />
          </label>
          <label>
            <span className="label">What it is for, in a sentence</span>
            <textarea rows={2} className="field" value={summary} onChange={(e) => setSummary(e.target.value)} />
          </label>
          <fieldset>
            <legend className="label">{agent ? "Who hands over to it" : "Who has it"}</legend>
            <div className="flex max-h-40 flex-wrap gap-x-4 gap-y-1 overflow-auto">
              {agents.map((a) => (
                <label key={a} className="flex items-center gap-1.5">
                  <input type="checkbox" checked={from.includes(a)} onChange={(e) => setFrom(e.target.checked ? [...from, a] : from.filter((x) => x !== a))} />
                  {a}
                </label>
              ))}
            </div>
          </fieldset>
          {add.error && <Note bad>{words(add.error)}</Note>}
          <span className="flex gap-2">
            <Button type="submit" tone="ink" disabled={add.isPending}>
              Write it
            </Button>
            <Button type="button" onClick={onClose}>
              Cancel
            </Button>
          </span>
        </form>
      )}
    </Dialog>
  );
}
