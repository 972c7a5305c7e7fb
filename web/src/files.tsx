// The files that a program made: opened here where that is safe, or kept.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { words, type Sent } from "./api";
import { spaced } from "./say";
import { Button, Dialog, Note } from "./ui/ui";

type File = NonNullable<Sent["files"]>[number];

const address = (run: string, f: File, show: boolean) => `/api/runs/${encodeURIComponent(run)}/files/${f.hash}${show ? "?show=1" : ""}`;
const kind = (f: File) => f.type.split(";")[0]!.trim();
const opens = (f: File) => ["text/csv", "text/plain", "text/tab-separated-values", "application/json", "image/png", "image/jpeg", "image/gif", "image/webp", "application/pdf"].includes(kind(f));

export function Files({ run, files }: { run: string; files: File[] }) {
  const [open, setOpen] = useState<File>();
  return (
    <section aria-label="files" className="font-sans">
      <h2 className="label mb-1">files that it made</h2>
      <ul className="flex flex-col gap-1">
        {files.map((f) => (
          <li key={f.path} className="flex flex-wrap items-baseline gap-x-3">
            <b className="font-mono">{f.path}</b>
            <span className="text-ink-2">{spaced(f.bytes)} bytes</span>
            {opens(f) && kind(f) !== "application/pdf" && (
              <button type="button" className="underline" onClick={() => setOpen(f)}>
                open
              </button>
            )}
            {kind(f) === "application/pdf" && (
              <a className="underline" href={address(run, f, true)} target="_blank" rel="noreferrer">
                open
              </a>
            )}
            <a className="underline" href={address(run, f, false)} download={f.path.split("/").pop()}>
              keep
            </a>
          </li>
        ))}
      </ul>
      {open && (
        <Dialog title={open.path} open onClose={() => setOpen(undefined)}>
          <View run={run} file={open} />
          <div className="mt-4 text-right">
            <Button onClick={() => setOpen(undefined)}>Close</Button>
          </div>
        </Dialog>
      )}
    </section>
  );
}

function View({ run, file }: { run: string; file: File }) {
  const picture = kind(file).startsWith("image/");
  const text = useQuery({
    queryKey: ["file", file.hash],
    queryFn: async () => {
      const answer = await fetch(address(run, file, true));
      if (!answer.ok) throw new Error(`The service answered ${answer.status}.`);
      return answer.text();
    },
    enabled: !picture,
  });
  if (picture) return <img className="max-w-full" src={address(run, file, true)} alt={file.path} />;
  if (text.error) return <Note bad>{words(text.error)}</Note>;
  if (text.data === undefined) return <Note>…</Note>;
  const mark = kind(file) === "text/csv" ? "," : kind(file) === "text/tab-separated-values" ? "\t" : "";
  if (!mark) return <pre className="max-h-[60vh] overflow-auto rounded-sm bg-sunk px-2 py-1.5 font-mono text-[12px] whitespace-pre-wrap" tabIndex={0}>{text.data}</pre>;
  const [head, ...rows] = table(text.data, mark);
  return (
    <div className="max-h-[60vh] overflow-auto" tabIndex={0} role="region" aria-label={file.path}>
      <table className="w-full text-left">
        <thead>
          <tr className="text-xs text-ink-3">
            {head?.map((c, i) => (
              <th key={i} className="py-1 pr-3 font-medium">
                {c}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, 1000).map((r, i) => (
            <tr key={i} className="border-t border-joint align-top">
              {r.map((c, j) => (
                <td key={j} className="py-1 pr-3">
                  {c}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > 1000 && <p className="mt-2 text-ink-2">{spaced(rows.length - 1000)} more rows are in the file.</p>}
    </div>
  );
}

// table reads comma-separated values (RFC 4180), or those that another mark parts.
export function table(text: string, mark: string): string[][] {
  const rows: string[][] = [];
  let row: string[] = [];
  let cell = "";
  let quoted = false;
  const end = () => {
    row.push(cell);
    cell = "";
  };
  for (let i = 0; i < text.length; i++) {
    const c = text[i]!;
    if (quoted) {
      if (c === '"' && text[i + 1] === '"') cell += text[++i]!;
      else if (c === '"') quoted = false;
      else cell += c;
    } else if (c === '"' && cell === "") quoted = true;
    else if (c === mark) end();
    else if (c === "\n") {
      end();
      rows.push(row);
      row = [];
    } else if (c !== "\r") cell += c;
  }
  if (cell !== "" || row.length > 0) {
    end();
    rows.push(row);
  }
  return rows;
}
