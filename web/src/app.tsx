// The frame: the project, the pages, what waits.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Navigate, NavLink, Route, Routes, useLocation } from "react-router";
import { words, type Project } from "./api";
import { useLive } from "./live";
import { change, query, stale, useChange } from "./queries";
import { Bench } from "./pages/bench";
import { SourcePage } from "./pages/sources";
import { Drills } from "./pages/drills";
import { LinkPage } from "./pages/link";
import { MapPage } from "./pages/map";
import { People, RecordPage } from "./pages/people";
import { RunPage, Runs } from "./pages/runs";
import { TicketPage, Tickets } from "./pages/tickets";
import { Try } from "./pages/try";
import { count } from "./say";
import { useTold } from "./told";
import { Acting, can, Keyless, Known, Myself, useWho } from "./who";
import { Boundary } from "./ui/boundary";
import { Button, Dialog, Note, Seen } from "./ui/ui";

const pages = [
  ["/try", "Try", ["talk"]],
  ["/runs", "Runs", ["talk", "view"]],
  ["/tickets", "Tickets", ["talk", "view", "build", "approve"]],
  ["/map", "Map", ["view"]],
  ["/bench", "Bench", ["build"]],
  ["/drills", "Drills", ["view"]],
] as const;

// App is the console for people who are known, and the page of a link for those to whom it was sent.
export function App() {
  return (
    <Routes>
      <Route path="/link" element={<LinkPage />} />
      <Route
        path="*"
        element={
          <Known>
            <Frame />
          </Known>
        }
      />
    </Routes>
  );
}

function Frame() {
  const me = useWho();
  const { online, tickets } = useLive();
  const mine = pages.filter(([, , rights]) => can(me, ...rights));
  const project = useQuery({ ...query.project(), enabled: can(me, "talk", "view", "approve") });
  const at = useLocation();
  useTold();
  useEffect(() => {
    document.title = `${tickets ? `(${tickets}) ` : ""}${project.data?.name || "Stone Baton"}`;
  }, [tickets, project.data?.name]);
  return (
    <div className="flex h-full flex-col">
      <header className="flex min-h-11 shrink-0 flex-wrap items-stretch border-b border-joint-strong bg-face">
        <div className="flex h-11 items-center gap-2.5 border-r border-joint px-4 text-base font-bold max-md:px-3">
          <svg width="26" height="14" viewBox="0 0 26 14" aria-hidden>
            <path d="M5 2h16l3 5-3 5H5L2 7z" fill="var(--ink)" />
            <path d="M9 2v10M17 2v10" stroke="var(--face)" strokeWidth="1.6" />
          </svg>
          <span className="max-md:sr-only">Stone Baton</span>
        </div>
        <ProjectState project={project.data} />
        <nav aria-label="Pages" className="flex max-md:order-last max-md:h-9 max-md:w-full max-md:overflow-x-auto max-md:border-t max-md:border-joint">
          {mine.map(([to, name]) => (
            <NavLink key={to} to={to} className={({ isActive }) => `relative flex items-center gap-1.5 border-r border-joint px-3.5 ${isActive ? "font-semibold text-ink after:absolute after:inset-x-0 after:-bottom-px after:h-[3px] after:bg-ink" : "text-ink-2 hover:text-ink"}`}>
              {name}
              {to === "/tickets" && tickets > 0 && (
                <span className="rounded-lg bg-call px-1.5 text-[11px] leading-4 font-bold text-on-call" aria-label={count(tickets, "open ticket")}>
                  {tickets}
                </span>
              )}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex h-11 items-center gap-2 px-3 text-ink-2">
          <Myself />
          <Theme />
        </div>
      </header>
      <Acting />
      <Keyless />
      {!online && (
        <p role="status" className="border-b border-joint-strong bg-bad-soft px-4 py-1.5 text-bad">
          The service does not answer. This page keeps trying, and resumes where it was.
        </p>
      )}
      <main className="min-h-0 flex-1">
        <Boundary key={at.pathname.split("/")[1]}>
        <Routes>
          <Route path="/" element={<Navigate to={mine[0]?.[0] ?? "/record"} replace />} />
          <Route path="/try" element={<Try />} />
          <Route path="/try/:session" element={<Try />} />
          <Route path="/runs" element={<Runs />} />
          <Route path="/runs/:id" element={<RunPage />} />
          <Route path="/tickets" element={<Tickets />} />
          <Route path="/tickets/:id" element={<TicketPage />} />
          <Route path="/map" element={<MapPage />} />
          <Route path="/map/:relay" element={<MapPage />} />
          <Route path="/bench" element={<Bench />} />
          <Route path="/bench/:tool" element={<Bench />} />
          <Route path="/bench/source/:source" element={<SourcePage />} />
          <Route path="/drills" element={<Drills />} />
          <Route path="/drills/:name" element={<Drills />} />
          <Route path="/people" element={<People />} />
          <Route path="/record" element={<RecordPage />} />
          <Route path="*" element={<div className="p-6"><Note>There is no such page.</Note></div>} />
        </Routes>
        </Boundary>
      </main>
    </div>
  );
}

// ProjectState names the project and says whether its files are right.
function ProjectState({ project }: { project?: Project }) {
  const [open, setOpen] = useState(false);
  const me = useWho();
  const problems = useQuery({ ...query.problems(), enabled: open });
  const trust = useQuery({ ...query.trust(), enabled: can(me, "view") });
  const confirm = useChange(change.trust, () => stale.project);
  const waiting = trust.data?.waiting ?? [];
  if (!project) return <div className="border-r border-joint px-3.5" />;
  if (!can(me, "view")) return <div className="flex h-11 items-center border-r border-joint px-3.5 font-mono text-[12px]">{project.name}</div>;
  const say = [project.errors && count(project.errors, "error"), project.warnings && count(project.warnings, "warning"), project.hints && count(project.hints, "hint")].filter(Boolean).join(", ") || "no problems";
  return (
    <>
      <button type="button" onClick={() => setOpen(true)} className="flex h-11 items-center gap-2 border-r border-joint px-3.5 hover:bg-ground">
        <span className="font-mono text-[12px]">{project.name || "no project"}</span>
        <span className={project.errors ? "font-semibold text-bad" : project.warnings + project.hints ? "text-ink-2" : "text-ok"}>{say}</span>
        {project.older && <span className="text-bad max-md:hidden">· the last good version is in use</span>}
        {waiting.length > 0 && <span className="rounded-lg bg-call px-1.5 text-[11px] leading-4 font-bold text-on-call">{waiting.length} to confirm</span>}
      </button>
      <Dialog title={`Problems of ${project.name || "the project"}`} open={open} onClose={() => setOpen(false)}>
        <p className="mb-3 text-ink-2">
          <span className="font-mono text-[12px]">{project.dir}</span> · changed files are read again at once.
        </p>
        {waiting.length > 0 && (
          <section aria-label="To confirm" className="mb-4 flex flex-col gap-2">
            <p>This appeared while the service runs, and would run outside the sandbox. It waits until you have looked at it.</p>
            {waiting.map((o) => (
              <div key={o.id} className="rounded-sm border border-l-[5px] border-call bg-call-soft px-3 py-2">
                <b>
                  {o.kind} {o.name}
                </b>{" "}
                <Seen text={o.say} />
                <span className="block font-mono text-[12px]">
                  {o.place.file}:{o.place.line}
                </span>
                <Button tone="call" className="mt-1.5" disabled={confirm.isPending || !can(me, "build")} onClick={() => confirm.mutate(o.id)}>
                  Let it run
                </Button>
              </div>
            ))}
            {confirm.error && <Note bad>{words(confirm.error)}</Note>}
          </section>
        )}
        {problems.data?.problems.length === 0 && <Note>None.</Note>}
        <ul className="flex flex-col gap-2.5">
          {problems.data?.problems.map((p, i) => (
            <li key={i} className={`border-l-4 pl-2.5 ${p.grade === "error" ? "border-bad" : "border-joint-strong"}`}>
              <span className="font-mono text-[12px]">
                {p.file}
                {p.line ? `:${p.line}` : ""}
                {p.col ? `:${p.col}` : ""}
              </span>{" "}
              <b>{p.grade}</b>
              <br />
              {p.say}
              {p.remedy && <span className="block text-ink-2">{p.remedy}</span>}
            </li>
          ))}
        </ul>
        <div className="mt-4 text-right">
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
      </Dialog>
    </>
  );
}

function Theme() {
  const [theme, setTheme] = useState(document.documentElement.dataset.theme ?? "light");
  const other = theme === "dark" ? "light" : "dark";
  return (
    <Button
      tone="quiet"
      onClick={() => {
        document.documentElement.dataset.theme = other;
        localStorage.setItem("theme", other);
        setTheme(other);
      }}
    >
      {other}
    </Button>
  );
}
