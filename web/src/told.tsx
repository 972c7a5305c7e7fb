// Being told of tickets: a notice of the browser, with or without a sound, while the page is not looked at.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Ticket } from "./api";
import { query } from "./queries";
import { useWho } from "./who";
import { Pick } from "./ui/ui";

type How = "" | "notice" | "sound";

// Told is the switch on the page Tickets; the choice is kept in the browser. The browser is asked for its leave when a
// notice is chosen, and what it does not allow is said.
export function Told() {
  const [how, setHow] = useState<How>(() => (localStorage.getItem("told") as How | null) ?? "");
  const [wrong, setWrong] = useState("");
  const choose = async (v: string) => {
    setWrong("");
    if (v !== "") {
      if (!("Notification" in window)) return setWrong("This browser shows no notices.");
      if ((await Notification.requestPermission()) !== "granted") return setWrong("The browser does not allow notices from this page; its settings say why.");
    }
    localStorage.setItem("told", v);
    setHow(v as How);
  };
  return (
    <span className="flex items-center gap-1 text-ink-2">
      tell me <Pick small label="How you are told of tickets" value={how} onChange={(v) => void choose(v)} options={[["", "on this page"], ["notice", "by a notice"], ["sound", "by a notice with a sound"]]} />
      {wrong && <span role="status">{wrong}</span>}
    </span>
  );
}

// useTold tells of each ticket that was raised since the page was opened, once, while nobody looks at the page.
export function useTold() {
  const me = useWho();
  const list = useQuery(query.tickets(me.local ? "open" : "mine"));
  const known = useRef<Set<number>>(null);
  useEffect(() => {
    if (!list.data) return;
    const now = list.data.tickets;
    const before = known.current;
    known.current = new Set([...(before ?? []), ...now.map((t) => t.id)]);
    const how = localStorage.getItem("told");
    if (!before || !how || !document.hidden || !("Notification" in window) || Notification.permission !== "granted") return;
    const fresh = now.filter((t) => !before.has(t.id));
    fresh.forEach(show);
    if (how === "sound" && fresh.length > 0) sound();
  }, [list.data]);
}

function show(t: Ticket) {
  const n = new Notification(t.ask, { body: `${t.agent}: ${t.why}`, tag: `ticket ${t.id}` });
  n.onclick = () => {
    window.focus();
    window.location.assign(`/tickets/${t.id}`);
  };
}

// sound plays two short tones.
function sound() {
  const ctx = new AudioContext();
  [660, 880].forEach((hertz, i) => {
    const tone = new OscillatorNode(ctx, { frequency: hertz });
    const quiet = new GainNode(ctx, { gain: 0.08 });
    tone.connect(quiet).connect(ctx.destination);
    tone.start(ctx.currentTime + i * 0.18);
    tone.stop(ctx.currentTime + i * 0.18 + 0.15);
  });
}
