// The files that came with a result: pictures are seen at once, others opened where that is safe, and each can be kept.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { words, type Sent } from "./api";
import { spaced } from "./say";
import { Button, Dialog, Note } from "./ui/ui";

type File = NonNullable<Sent["files"]>[number];

const address = (of: string, f: File, show: boolean) => `/api/${of}/files/${f.hash}${show ? "?show=1" : ""}`;
const pictured = (f: File) => ["image/png", "image/jpeg", "image/gif", "image/webp"].includes(kind(f));
const kind = (f: File) => f.type.split(";")[0]!.trim();
const opens = (f: File) => ["text/csv", "text/plain", "text/tab-separated-values", "application/json", "image/png", "image/jpeg", "image/gif", "image/webp", "application/pdf"].includes(kind(f));

// Picture shows one small; it opens at its own size.
export function Picture({ of, file }: { of: string; file: File }) {
  return (
    <a href={address(of, file, true)} target="_blank" rel="noreferrer" title={`${file.path}: open at its own size`}>
      <img className="mt-1 max-h-56 max-w-full rounded-sm border border-joint bg-sunk" src={address(of, file, true)} alt={file.path} loading="lazy" />
    </a>
  );
}

// Pictures shows those of some files that are pictures.
export function Pictures({ of, files }: { of: string; files?: File[] }) {
  const some = files?.filter(pictured) ?? [];
  return some.length > 0 && <div className="flex flex-wrap gap-2 px-4 pb-3">{some.map((f) => <Picture key={f.path} of={of} file={f} />)}</div>;
}

// Files lists files of what is at a path of the API.
export function Files({ of, files }: { of: string; files: File[] }) {
  const [open, setOpen] = useState<File>();
  return (
    <section aria-label="files" className="font-sans">
      <h2 className="label mb-1">files</h2>
      <ul className="flex flex-col gap-1">
        {files.map((f) => (
          <li key={f.path} className="flex flex-wrap items-baseline gap-x-3">
            <b className="font-mono">{f.path}</b>
            <span className="text-ink-2">{spaced(f.bytes)} bytes</span>
            {opens(f) && kind(f) !== "application/pdf" && !pictured(f) && (
              <button type="button" className="underline" onClick={() => setOpen(f)}>
                open
              </button>
            )}
            {kind(f) === "application/pdf" && (
              <a className="underline" href={address(of, f, true)} target="_blank" rel="noreferrer">
                open
              </a>
            )}
            <a className="underline" href={address(of, f, false)} download={f.path.split("/").pop()}>
              keep
            </a>
            {pictured(f) && <div className="w-full"><Picture of={of} file={f} /></div>}
          </li>
        ))}
      </ul>
      {open && (
        <Dialog title={open.path} open onClose={() => setOpen(undefined)}>
          <View of={of} file={open} />
          <div className="mt-4 text-right">
            <Button onClick={() => setOpen(undefined)}>Close</Button>
          </div>
        </Dialog>
      )}
    </section>
  );
}

function View({ of, file }: { of: string; file: File }) {
  const text = useQuery({
    queryKey: ["file", file.hash],
    queryFn: async () => {
      const answer = await fetch(address(of, file, true));
      if (!answer.ok) throw new Error(`The service answered ${answer.status}.`);
      return answer.text();
    },
  });
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
