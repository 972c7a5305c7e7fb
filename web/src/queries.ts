// Every question that the console asks of the service: its key and how it is asked, in one place, so that what is
// changed finds what has to be asked again.
import { queryOptions, useMutation, useQueryClient, type QueryKey } from "@tanstack/react-query";
import { get, post, type Chart, type Choice, type Detail, type Inspected, type Drill, type FullTicket, type Outbox, type Me, type Outside, type Person, type RecordOf, type Token, type Problems, type Project, type RunRow, type Session, type Shown, type SessionRow, type Step, type Ticket, type Tool, type Tried, type TryList, type TurnRequest } from "./api";

export const query = {
  me: () => queryOptions({ queryKey: ["me"], queryFn: () => get<Me>("/me"), staleTime: 30_000 }),
  people: () => queryOptions({ queryKey: ["people"], queryFn: () => get<{ people: Person[] }>("/people") }),
  project: () => queryOptions({ queryKey: ["project"], queryFn: () => get<Project>("/project") }),
  problems: () => queryOptions({ queryKey: ["problems"], queryFn: () => get<Problems>("/problems") }),
  trust: () => queryOptions({ queryKey: ["trust"], queryFn: () => get<{ waiting: Outside[] }>("/trust") }),
  tools: () => queryOptions({ queryKey: ["tools"], queryFn: () => get<{ tools: Tool[] }>("/tools") }),
  map: (relay: string | undefined, runs: string[]) => queryOptions({ queryKey: ["map", relay, ...runs], queryFn: () => get<Chart>(`/map?${new URLSearchParams([...(relay ? [["relay", relay]] : []), ...runs.map((r) => ["run", r])])}`), placeholderData: (old) => old, refetchInterval: runs.length ? 3000 : false }),
  runs: (filter: string) => queryOptions({ queryKey: ["runs", filter], queryFn: () => get<{ runs: RunRow[]; next?: string }>(`/runs?${filter}`), placeholderData: (old) => old }),
  sessions: () => queryOptions({ queryKey: ["sessions"], queryFn: () => get<{ sessions: SessionRow[] }>("/sessions?limit=20") }),
  session: (id?: string) => queryOptions({ queryKey: ["session", id], queryFn: () => get<Session>(`/sessions/${id}`), enabled: !!id, placeholderData: (old) => (old?.id === id ? old : undefined) }),
  // the writes that have ended are part of the key: each makes what was read old
  beside: (id: string | undefined, writes: string) => queryOptions({ queryKey: ["beside", id, writes], queryFn: () => get<Shown>(`/sessions/${id}/beside`), enabled: !!id, placeholderData: (old) => old }),
  tickets: (which: Which) => queryOptions({ queryKey: ["tickets", which], queryFn: () => get<{ tickets: Ticket[]; next?: string }>(`/tickets?${which === "mine" || which === "asked" ? `whose=${which}` : `status=${which}`}&limit=200`) }),
  // what waits is part of the key: where one step waits after another the number of them says nothing
  ticketsOf: (run: string | undefined, waiting: string) => queryOptions({ queryKey: ["tickets", "run", run, waiting], queryFn: () => get<{ tickets: Ticket[] }>(`/tickets?run=${run}`), enabled: !!run && waiting !== "" }),
  ticket: (id: number) => queryOptions({ queryKey: ["ticket", id], queryFn: () => get<FullTicket>(`/tickets/${id}`) }),
  step: (run?: string, step?: Step) =>
    queryOptions({ queryKey: ["step", run, step?.id, step?.status, step?.wait?.verb, step?.undone_at], queryFn: () => get<Detail>(`/runs/${run}/steps/${step!.id}`), enabled: !!run && !!step, placeholderData: (old) => (old?.step.id === step?.id ? old : undefined) }),
  request: (run: string, step: Step) => queryOptions({ queryKey: ["request", run, step.id, step.attempts], queryFn: () => get<TurnRequest>(`/runs/${run}/turns/${step.id}/request`) }),
  drills: () => queryOptions({ queryKey: ["drills"], queryFn: () => get<{ drills: Drill[] }>("/drills") }),
  outbox: () => queryOptions({ queryKey: ["outbox"], queryFn: () => get<Outbox>("/outbox?limit=1000"), refetchInterval: 3000 }),
  sources: () => queryOptions({ queryKey: ["sources"], queryFn: () => get<{ sources: { id: string }[] }>("/sources") }),
  source: (name: string) => queryOptions({ queryKey: ["source", name], queryFn: () => get<Inspected>(`/sources/${name}`), refetchInterval: (q) => (q.state.data?.installing ? 500 : false) }),
  try: (id: number) => queryOptions({ queryKey: ["try", id], queryFn: () => get<Tried>(`/tries/${id}`) }),
};

// Which tickets: that one may settle, of one's own runs, all that wait, the settled ones too.
export type Which = "mine" | "asked" | "open" | "all";

// record gives a page of who did what.
export const record = (person: string, cursor: string) => get<RecordOf>(`/record?limit=100${person ? `&person=${encodeURIComponent(person)}` : ""}${cursor ? `&cursor=${cursor}` : ""}`);

// tries gives a page of a tool's tries; the history asks for one after the other.
export const triesKey = (tool: string) => ["tries", tool];
export const tries = (tool: string, cursor: string) => get<TryList>(`/tries?tool=${encodeURIComponent(tool)}&limit=200${cursor ? `&cursor=${cursor}` : ""}`);

// stale gives what has to be asked again after a change somewhere.
export const stale = {
  tickets: [["tickets"], ["ticket"]],
  runs: [["runs"], ["sessions"]],
  session: (id: string) => [["session", id]],
  drills: [["drills"]],
  project: [["project"], ["map"], ["problems"], ["tools"], ["drills"], ["trust"]],
  tools: [["tools"]],
  people: [["people"], ["me"], ["record"]],
  tries: (tool: string) => [triesKey(tool)],
} as const;

// useChange posts a change and then asks again what it made old, also where it failed: then somebody else may have
// been first.
export function useChange<In, Out>(change: (v: In) => Promise<Out>, old: (out: Out | undefined, v: In) => readonly QueryKey[] = () => []) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: (out, _, v) => Promise.all(old(out, v).map((queryKey) => queries.invalidateQueries({ queryKey }))) });
}

export const change = {
  settle: ({ id, ...body }: { id: number; verb: string; key: string; shown: string } & Record<string, unknown>) => post(`/tickets/${id}/settle`, { ...body, id: body.key, key: undefined }),
  signIn: (token: string) => post<Me>("/sign-in", { token }),
  signOut: (everywhere: boolean) => post<Me>("/sign-out", { everywhere }),
  addPerson: (p: { name: string; rights: string[]; is: string[]; address: string }) => post<Token>("/people", p),
  person: ({ name, ...p }: { name: string; rights: string[]; is: string[]; address: string }) => post<Token>(`/people/${name}`, p),
  newToken: (name: string) => post<Token>(`/people/${name}/token`, {}),
  revoke: (name: string) => post<{ people: Person[] }>(`/people/${name}/revoke`, {}),
  share: ({ session, ...body }: { session: string; with?: string[]; without?: string[] }) => post<Session>(`/sessions/${session}/share`, body),
  stop: (run: string) => post(`/runs/${run}/stop`, {}),
  undo: (key: string) => post<{ path: string }>(`/undo/${key}`, {}),
  drill: (names: string[] | undefined) => post<{ drills: Drill[] }>("/drills", { names }),
  try: ({ tool, ...body }: { tool: string; args: Record<string, unknown>; tools: string }) => post<Tried>(`/tools/${tool}/try`, body),
  choose: (body: { text: string; agent?: string }) => post<Choice>("/choose", body),
  add: (body: { kind: string; name: string; like?: string; summary?: string; passes_from?: string[]; to?: string[] }) => post<{ edits: { file: string; line: number }[] }>("/add", body),
  take: ({ source, ...body }: { source: string; take: string[]; effects: Record<string, string>; to: string[] }) => post<{ edits: { file: string; line: number }[] }>(`/sources/${source}/take`, body),
  functions: (body: { file: string; text: string }) => post<Inspected>("/functions", body),
  stub: ({ tool, ...body }: { tool: string; try?: number; run?: string; step?: string }) => post<{ file: string; line: number }>(`/tools/${tool}/stubs`, body),
  trust: (id: string) => post<Outside>(`/trust/${id}`, {}),
  say: (body: { text: string; relay?: string; agent?: string; input?: Record<string, unknown>; session?: string; person?: string; tools: string; rung?: string; rungs?: Record<string, string>; model?: string; person_at?: string[] }) => post<{ session: string; run?: string; broken?: string }>("/runs", body),
};
