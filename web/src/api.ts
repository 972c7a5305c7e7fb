// The HTTP API as the console uses it. The types are made from the OpenAPI document.
import type { components } from "./api.gen";

type Schemas = components["schemas"];
export type RunRow = Schemas["RunRow"];
export type Run = Schemas["Run"];
export type Totals = Schemas["Totals"];
export type Step = Schemas["Step"];
export type Lane = Schemas["Lane"];
export type Detail = Schemas["Detail"];
export type Ticket = Schemas["Ticket"];
export type FullTicket = Schemas["FullTicket"];
export type Session = Schemas["Session"];
export type SessionRow = Schemas["SessionRow"];
export type Chart = Schemas["Chart"];
export type FileProblem = Schemas["FileProblem"];
export type Relay = Schemas["Relay"];
export type Said = Schemas["Said"];
export type Project = Schemas["Project"];
export type Problems = Schemas["Problems"];
export type Tool = Schemas["Tool"];
export type Choice = Schemas["Choice"];
export type Inspected = Schemas["Inspected"];
export type Tried = Schemas["Tried"];
export type Shown = { shown: { title: string; tool: string; status: "read" | "failed"; value: unknown; problem?: string }[] };
export type TryList = Schemas["TryList"];
export type Sent = Schemas["Sent"];
export type Outside = Schemas["Outside"];
export type Outbox = { messages: Schemas["OutboxMessage"][]; next?: string };
export type Drill = Schemas["Drill"];
export type Change = Schemas["Change"];
export type Delta = Schemas["Delta"];
export type TurnRequest = Schemas["Request"];
export type Me = Schemas["Me"];
export type Person = Schemas["Person"];
export type Token = Schemas["Token"];
export type RecordOf = Schemas["Record"];
export type LinkTicket = Schemas["LinkTicket"];
export type Problem = Schemas["Problem"];

// Refused is an error that the service told in words.
export class Refused extends Error {
  problem: Problem;
  constructor(p: Problem) {
    super(p.detail.replace(/^[a-z]+(?= )/, (w) => w.charAt(0).toUpperCase() + w.slice(1)).replace(/\.$/, "") + "." + (p.remedy ? " " + p.remedy : ""));
    this.problem = p;
  }
}

// parse reads JSON. A whole number that is too long for this language, such as an
// id, becomes the text of its digits, so that it is shown and sent as it is.
export function parse<T>(text: string, long: (digits: string) => unknown = (digits) => digits): T {
  if (!/\d{16}/.test(text)) return JSON.parse(text) as T;
  const exact = (_: string, v: unknown, at?: { source?: string }) => (typeof v === "number" && Number.isInteger(v) && !Number.isSafeInteger(v) && at?.source ? long(at.source) : v);
  return JSON.parse(text, exact) as T;
}

// exactly is for parse: it keeps the digits of a long number as a number to be sent.
export const exactly = (JSON as { rawJSON?: (digits: string) => unknown }).rawJSON;

async function call<T>(method: string, path: string, body?: unknown, link?: string): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch("/api" + path, { method, headers: { ...(body === undefined ? {} : { "Content-Type": "application/json" }), ...(link === undefined ? {} : { Authorization: `Link ${link}` }) }, body: body === undefined ? undefined : JSON.stringify(body) });
  } catch {
    throw new Error("The service does not answer. Is it running?");
  }
  const text = await answer.text();
  if (answer.ok) return parse<T>(text);
  try {
    throw new Refused(JSON.parse(text) as Problem);
  } catch (e) {
    if (e instanceof Refused) throw e;
    throw new Error(`The service answered ${answer.status} and nothing that can be read.`);
  }
}

export const get = <T>(path: string) => call<T>("GET", path);
export const post = <T>(path: string, body: unknown) => call<T>("POST", path, body);
// by asks as somebody to whom a link was sent.
export const by = (link: string) => ({ get: <T>(path: string) => call<T>("GET", path, undefined, link), post: <T>(path: string, body: unknown) => call<T>("POST", path, body, link) });
export const words = (e: unknown) => (e instanceof Error ? e.message : String(e));
