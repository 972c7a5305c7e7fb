// Tickets: what waits for a person, the nearest deadline first.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { words, type Ticket } from "../api";
import { query, type Which } from "../queries";
import { verbs, when } from "../say";
import { TicketCard, Together } from "../ticket";
import { Told } from "../told";
import { can, useWho } from "../who";
import { Json, Note, Segments } from "../ui/ui";

export function Tickets() {
  const me = useWho();
  const [which, setWhich] = useState<Which>(me.local ? "open" : "mine");
  const list = useQuery(query.tickets(which));
  const open = list.data?.tickets.filter((t) => t.status === "open") ?? [];
  const settled = list.data?.tickets.filter((t) => t.status !== "open") ?? [];
  return (
    <div className="h-full overflow-auto" tabIndex={0} role="region" aria-label="Tickets">
      <div className="mx-auto max-w-[980px] p-5">
        <div className="mb-4 flex flex-wrap items-baseline gap-x-3 gap-y-1">
          <h1 className="text-lg font-bold">Tickets</h1>
          <span className="text-ink-2">What waits for a person, the nearest deadline first.</span>
          <span className="ml-auto flex flex-wrap items-center gap-3">
            <Told />
            <Segments label="Which tickets" value={which} onChange={setWhich} options={me.local ? [["open", "open"], ["all", "all"]] : [["mine", "for you"], ["asked", "you wait for"], ["open", "open"], ["all", "all"]]} />
          </span>
        </div>
        {list.error && <Note bad>{words(list.error)}</Note>}
        {list.data && open.length === 0 && <Note>{which === "mine" ? "Nothing waits for you." : which === "asked" ? "You wait for nobody." : "Nothing waits for a person."}</Note>}
        <div className="flex flex-col gap-5">
          <Together tickets={open} />
          {open.map((t) => (
            <div key={t.id} className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-5 max-md:grid-cols-[minmax(0,1fr)]">
              <TicketCard ticket={t} />
              <Led ticket={t} />
            </div>
          ))}
        </div>
        {settled.length > 0 && (
          <table className="mt-6 w-full text-left">
            <caption className="mb-1 text-left font-semibold">Settled</caption>
            <thead>
              <tr className="text-xs text-ink-3">
                <th className="py-1 font-medium">ticket</th>
                <th className="font-medium">asked</th>
                <th className="font-medium">settled</th>
                <th className="font-medium">run</th>
              </tr>
            </thead>
            <tbody>
              {settled.map((t) => (
                <tr key={t.id} className="border-t border-joint align-top">
                  <td className="py-1.5 font-mono text-[12px]">
                    <Link className="underline" to={`/tickets/${t.id}`}>
                      {t.id}
                    </Link>
                  </td>
                  <td className="pr-3">{t.ask}</td>
                  <td className="pr-3">
                    {verbs[t.status] ?? t.status}
                    {t.settled_by && ` by ${t.settled_by}`}
                    {t.settled_at && `, ${when(t.settled_at)}`}
                    {t.because && <span className="block text-ink-2">{t.because}</span>}
                  </td>
                  <td>
                    <Link className="font-mono text-[12px] underline" to={`/runs/${t.run}`}>
                      {t.run}
                    </Link>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </div>
  );
}

// TicketPage is the page of one ticket: what it asks and what led there, or what became of it.
export function TicketPage() {
  const id = Number(useParams().id);
  const full = useQuery(query.ticket(id));
  const t = full.data;
  return (
    <div className="h-full overflow-auto" tabIndex={0} role="region" aria-label="Ticket page">
      <div className="mx-auto max-w-[680px] p-5">
        <p className="mb-1">
          <Link className="underline" to="/tickets">
            Tickets
          </Link>
        </p>
        <h1 className="mb-2 text-lg font-bold">Ticket {id}</h1>
        {full.error && <Note bad>{words(full.error)}</Note>}
        {t?.status === "open" && <TicketCard ticket={t} />}
        {t && t.status !== "open" && (
          <section aria-label={`Ticket ${t.id}`} className="rounded-sm border border-joint-strong bg-face px-3 py-2.5">
            <h2 className="text-base font-bold">{t.ask}</h2>
            <p className="mt-1 text-[12px] text-ink-2">{`${t.agent}: ${t.why} · asked ${when(t.raised_at)} · ticket ${t.id}`}</p>
            <p className="mt-2">
              <b>{verbs[t.status] ?? t.status}</b>
              {t.settled_by && ` by ${t.settled_by}`}
              {t.settled_as && ` as ${t.settled_as}`}
              {t.settled_at && `, ${when(t.settled_at)}`}
              {t.because && `: ${t.because}`}
            </p>
            {t.votes.length > 0 && (
              <ul aria-label="votes" className="mt-1.5 border-l-2 border-joint-strong pl-2 text-[12px]">
                {t.votes.map((v) => (
                  <li key={v.by}>
                    <b>{v.by}</b> {v.verb === "amend" ? "changed it, and agreed" : "agreed"}, {when(v.at)}
                    {v.because && `: ${v.because}`}
                  </li>
                ))}
              </ul>
            )}
            <Json value={t.new_args ?? t.args} />
          </section>
        )}
        {t && t.told.length > 0 && (
          <ul aria-label="Told" className="mt-3 text-[12px] text-ink-2">
            {t.told.map((n, i) => (
              <li key={i}>
                {n.kind === "reminder" ? "reminded" : n.kind === "escalated" ? "told later" : "told"}: {n.told.join(", ") || "nobody yet"}
                {n.status === "told" && `, ${when(n.at)}`}
                {n.status === "due" && Date.parse(n.at) > Date.now() && `, at ${when(n.at)}`}
                {n.failed && <span className="block text-bad">{n.failed}</span>}
              </li>
            ))}
          </ul>
        )}
        {t && (
          <div className="mt-5">
            <Led ticket={t} />
          </div>
        )}
      </div>
    </div>
  );
}

// Led tells the conversation that led to a ticket.
function Led({ ticket }: { ticket: Ticket }) {
  const full = useQuery(query.ticket(ticket.id));
  const me = useWho();
  return (
    <div className="border-l border-joint pl-4">
      <h2 className="label mb-1">
        what led here · run{" "}
        {me.local || can(me, "admin") ? (
          <Link className="underline" to={`/runs/${ticket.run}`}>
            {ticket.run}
          </Link>
        ) : (
          ticket.run
        )}
      </h2>
      <ul className="flex flex-col gap-1.5">
        {full.data?.talk.map((t, i) => (
          <li key={i}>
            <span className="text-ink-2">{t.who === "user" ? "they said: " : t.who === "pass" || t.who === "note" ? "" : `${t.agent}: `}</span>
            {t.who === "pass" ? <span className="text-ink-2">{`${t.agent} handed over to ${t.to}${t.text ? `: ${t.text}` : ""}`}</span> : t.text}
          </li>
        ))}
      </ul>
    </div>
  );
}
