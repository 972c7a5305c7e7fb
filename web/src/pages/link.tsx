// The page of a link that was sent to somebody: one ticket, to be decided with one hand. The token follows the #,
// so that it is in no log and no program that opens links decides anything.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { by, words, type LinkTicket } from "../api";
import { verbs, when } from "../say";
import { TicketCard } from "../ticket";
import { Json, Note } from "../ui/ui";

export function LinkPage() {
  const [token] = useState(() => window.location.hash.slice(1));
  const asked = useQuery({ queryKey: ["link"], queryFn: () => by(token).get<LinkTicket>("/link"), enabled: !!token });
  const [done, setDone] = useState<LinkTicket>();
  const settle = ({ key, ...body }: { id: number; verb: string; key: string; shown: string } & Record<string, unknown>) => by(token).post<LinkTicket>("/link/settle", { ...body, id: key }).then(setDone);
  const t = done ?? asked.data;
  return (
    <main className="min-h-full p-4">
      <div className="mx-auto flex max-w-[560px] flex-col gap-4 max-md:[&_button]:min-h-11 max-md:[&_button]:px-4 max-md:[&_button]:text-base max-md:[&_kbd]:hidden">
        <h1 className="text-base text-ink-2">
          {t ? (
            <>
              For <b className="text-ink">{t.person}</b>, from {t.project || "Stone Baton"}. The link is good once, until {when(t.expires_at)}.
            </>
          ) : (
            "Stone Baton"
          )}
        </h1>
        {!token && <Note bad>The link is not whole. Open it as it was sent.</Note>}
        {asked.error && !done && <Note bad>{words(asked.error)}</Note>}
        {t && done === undefined && t.status === "open" && <TicketCard ticket={t} by={{ settle, full: t, name: t.person }} />}
        {t && (done !== undefined || t.status !== "open") && (
          <section aria-label={`Ticket ${t.id}`} className="rounded-sm border border-joint-strong bg-face px-3 py-2.5">
            <h2 className="text-base font-bold">{t.ask}</h2>
            <p role="status" className="mt-2">
              {t.status === "open" ? (
                <>
                  <b>You have agreed.</b> {t.need - t.votes.length} more have to.
                </>
              ) : (
                <>
                  <b>{verbs[t.status] ?? t.status}</b>
                  {t.settled_by && ` by ${t.settled_by}`}
                  {t.settled_as && ` as ${t.settled_as}`}
                  {t.settled_at && `, ${when(t.settled_at)}`}
                  {t.because && `: ${t.because}`}
                </>
              )}
            </p>
            <Json value={t.new_args ?? t.args} />
          </section>
        )}
        {t && t.talk.length > 0 && (
          <section>
            <h2 className="label mb-1">what led here</h2>
            <ul className="flex flex-col gap-1.5">
              {t.talk.map((s, i) => (
                <li key={i}>
                  <span className="text-ink-2">{s.who === "user" ? "they said: " : s.who === "pass" || s.who === "note" ? "" : `${s.agent}: `}</span>
                  {s.who === "pass" ? `${s.agent} handed over to ${s.to}` : s.text}
                </li>
              ))}
            </ul>
          </section>
        )}
      </div>
    </main>
  );
}
