// How far tools are let in the next run: all at once, or one by one. Never further than the files say.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { query } from "./queries";
import { Button, Dialog, Note, Pick } from "./ui/ui";

const ladder = ["stub", "read", "ask", "free"];
export type Rungs = Record<string, string>;

export function RungSwitch({ all, setAll, each, setEach }: { all: string; setAll: (v: string) => void; each: Rungs; setEach: (v: Rungs) => void }) {
  const [open, setOpen] = useState(false);
  const tools = useQuery({ ...query.tools(), enabled: open });
  const n = Object.keys(each).length;
  return (
    <span className="flex items-center gap-1">
      rung <Pick small label="How far tools are let" value={all} onChange={setAll} options={[["", "as the files say"], ...ladder.slice(0, 3).map((r) => [r, r] as const)]} />
      <button type="button" className="underline" onClick={() => setOpen(true)}>
        {n ? `${n} set apart` : "each…"}
      </button>
      <Dialog title="The rung of each tool, for the next runs here" open={open} onClose={() => setOpen(false)}>
        <p className="mb-3 text-ink-2">stub: its stubs answer · read: live if it only reads · ask: live, and a person agrees to what is not a read · free: live. A run can go down from what the files say, never up.</p>
        {!tools.data && <Note>…</Note>}
        <ul className="mb-4 flex flex-col gap-1">
          {tools.data?.tools.map((t) => (
            <li key={t.id} className="grid grid-cols-[1fr_60px_150px] items-center gap-2">
              <span className="font-mono text-[12px]">{t.id}</span>
              <span className="text-[12px] text-ink-3">{t.effect}</span>
              <Pick
                label={`Rung of ${t.id}`}
                value={each[t.id] ?? ""}
                onChange={(v) => {
                  setEach(Object.fromEntries([...Object.entries(each).filter(([k]) => k !== t.id), ...(v ? [[t.id, v]] : [])]) as Rungs);
                }}
                options={[["", `files: ${t.rung}`], ...ladder.slice(0, ladder.indexOf(t.rung)).map((r) => [r, r] as const)]}
              />
            </li>
          ))}
        </ul>
        <Button tone="ink" onClick={() => setOpen(false)}>
          Done
        </Button>
      </Dialog>
    </span>
  );
}
