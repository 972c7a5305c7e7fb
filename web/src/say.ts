// How values are said.
export const span = (ms: number): string => (ms < 10_000 ? `${Math.round(ms)} ms` : ms < 120_000 ? `${Math.round(ms / 1000)} s` : ms < 7_200_000 ? `${Math.round(ms / 60_000)} min` : `${Math.round(ms / 3_600_000)} h`);
export const count = (n: number, what: string) => `${spaced(n)} ${what}${n === 1 ? "" : "s"}`;
// short cuts a text to some letters, and shows that it did.
export const short = (text: string, letters: number) => (text.length > letters ? text.slice(0, letters - 1).replace(/[ ·]+$/, "") + "…" : text);
export const spaced = (n: number) => String(n).replace(/\B(?=(\d{3})+$)/g, " ");
export const when = (at: string) => new Date(at).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });
export const verbs: Record<string, string> = { allow: "allowed", refuse: "refused", amend: "changed and allowed", lapsed: "lapsed", withdrawn: "withdrawn", happened: "said to have happened", not_happened: "said not to have happened", give_up: "given up", answer: "answered", back: "sent back" };
export const lane = (lanes: readonly string[], agent: string) => `var(--lane-${(Math.max(0, lanes.indexOf(agent)) % 6) + 1})`;

// value shows one argument as a person reads it.
export function value(v: unknown): string {
  if (typeof v !== "string") return JSON.stringify(v) ?? "";
  if (/^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}/.test(v)) {
    const [date, time] = [v.slice(0, 10), v.slice(11, 16)];
    const d = new Date(date + "T00:00:00Z");
    return `${d.toLocaleDateString("en-GB", { weekday: "short", day: "numeric", month: "short", timeZone: "UTC" })}, ${time}`;
  }
  return v;
}

// unit gives the unit that the name of a figure ends with, such as m of length_m; "" where it has none.
export function unit(name: string, schema: { type?: unknown }): string {
  if (schema.type !== "number" && schema.type !== "integer") return "";
  return /_([a-z]{1,3}|min|hours|days|knots)$/.exec(name)?.[1] ?? "";
}

// named says what a step is: whom it asks, what it goes through, or its name.
export const named = (s: { kind: string; name: string; to?: string }) => (s.kind === "pass" ? `to ${s.to || s.name}` : s.kind === "consult" ? `asks ${s.to ?? ""}` : s.kind === "relay" ? `relay ${s.to ?? ""}` : s.kind === "step" ? `step ${s.name}` : s.name);

// course says how far a plan is, and what it has ahead.
export const course = (c: { n: number; of: number; who: string; ahead: { who: string }[] }) => `step ${c.n} of at most ${c.of}: ${c.who}${c.ahead.length ? `; ahead: ${c.ahead.map((a) => a.who).join(", ")}` : ""}`;

// chose says where a leg went on that did nothing but choose.
export const chose = (s: { kind: string; title: string; to?: string }) => (s.kind === "leg" && s.title === "choose" ? `→ ${s.to || "the end"}` : "");

// below says what a consult, a relay or a leg took.
export const below = (a: { turns: number; tokens: { in: number; out: number }; cost?: number }) => `${count(a.turns, "turn")}, ${spaced(a.tokens.in + a.tokens.out)} tok${a.cost ? `, ${a.cost.toFixed(4)}` : ""}`;
