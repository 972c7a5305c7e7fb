// Package coretest helps to test what stands on the core: a small project, and
// a world in memory that carries out what loop.Next says.
package coretest

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// Main is a project with two agents, two reads, three writes and a gate.
const Main = `project: quay
approvers: [master]
start: desk
model: m
models: {m: {speaks: understudy, retry: 1, fallback: spare}, spare: {speaks: understudy, retry: 0}}
limits: {turns: 8, calls: 12, same_call: 3, passes: 3, time: 10m}
state: {type: object, properties: {length_m: {type: number}, booking: {type: string}}}
---
tool: look
summary: Look a vessel up by its name.
effect: read
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
output: {type: object, required: [length_m], properties: {length_m: {type: number}}}
sets: {length_m: "=result.length_m"}
stubs: [{returns: {length_m: 46}}]
---
tool: tide
summary: Tell when the tide is high.
effect: read
stubs: [{returns: high}]
---
tool: reserve
summary: Reserve a berth for a vessel.
effect: write
input: {type: object, required: [berth], properties: {berth: {type: string, pattern: "^[A-F][0-9]$", description: "Such as C4."}}}
gate: {when: "state.?length_m.orValue(0.0) > 40.0", why: over 40 m, by: [master], ask: "Reserve {{ args.berth }}?", within: 30m}
says: {done: "Reserved {{ args.berth }}.", failed: [{when: "error.status == 409", say: "{{ args.berth }} is taken."}]}
sets: {booking: "=args.berth"}
stubs: [{returns: {ok: true}}]
---
tool: pay
summary: Pay what a stay costs.
effect: write
resend: key
stubs: [{returns: paid}]
---
tool: toot # accept gate: it is a horn
summary: Sound the horn when somebody asks for it.
stubs: [{returns: null}]
---
agent: desk
summary: Reads requests.
prompt: "You are the desk. Today is {{ today }}."
tools: [look, tide, reserve, pay, toot]
passes_to: [berths]
---
agent: berths
summary: Knows berths.
prompt: "You know berths. {{ person.name }} asks."
tools: [look, reserve]
passes_to: [desk]
`

// Program is a kind of tool for tests of the core: a program that nobody runs.
var Program = project.Kind{Name: "program",
	Schema: `{type: object, additionalProperties: false, required: [run], properties: {run: *paths, writes: *paths, bare: {type: boolean}, looks: {type: boolean}}}`,
	Reach:  func(map[string]any) (writes, starts string) { return "writes", "run" },
	Compile: func(p *project.Part) project.Work {
		var r struct {
			Run         []string
			Bare, Looks bool
		}
		p.Into(&r)
		w := project.Work{Spec: r.Run, Line: strings.Join(r.Run, " "), Looks: r.Looks}
		for i, a := range r.Run {
			p.NoSecret(fmt.Sprintf("/run/%d", i), a)
		}
		if r.Bare {
			w.Bare = &project.Bare{Say: "runs " + w.Line, Of: r.Run}
		}
		return w
	}}

// Reader reads projects whose tools have stubs, or are of that kind.
var Reader = project.NewReader(Program)

// Project compiles a project of one file.
func Project(t testing.TB, text string) *project.Project {
	t.Helper()
	p, probs := Reader.Compile(project.Source{Files: map[string]string{project.Main: text}, Env: map[string]string{}})
	require.NotNil(t, p, "%v", probs)
	return p
}

// Epoch is when every made-up run begins.
var Epoch = time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)

// World is a run in memory. It keeps the events, and the state they add up to.
type World struct {
	P      *project.Project
	S      *run.State
	Events []ledger.Event
	Now    time.Time
	Asked  []prompt.Built // every request, in order
	Finds  map[string]any // what gates look up, by name; what is not there cannot be looked up
}

// Open begins a run with a message.
func Open(p *project.Project, text string) *World {
	return Begin(p, ledger.RunOpened{Text: text})
}

// Begin begins a run. What it leaves empty is as in any other.
func Begin(p *project.Project, d ledger.RunOpened) *World {
	w := &World{P: p, S: run.New("w-1"), Now: Epoch}
	d.Session, d.Project, d.Version, d.Person, d.Zone, d.Why = "w", p.Name, p.Version, "ann", "UTC", "a message"
	if d.Agent == "" && d.Call == nil && d.Relay == "" {
		d.Agent = p.Start
	}
	if d.Tools == "" {
		d.Tools = ledger.ToolsLive
	}
	w.Append(ledger.New("", &d))
	return w
}

// Append numbers, dates and applies an event.
func (w *World) Append(e ledger.Event) {
	w.Now = w.Now.Add(time.Millisecond)
	e.Run, e.Seq, e.At = w.S.Run(), w.S.Seq()+1, w.Now
	if err := w.S.Apply(e); err != nil {
		panic(err)
	}
	w.Events = append(w.Events, e)
}

// Step asks Next once, applies what it records and the intents of its deeds,
// and gives the deeds.
func (w *World) Step() []loop.Action {
	var deeds []loop.Action
	for {
		acts := loop.Next(w.P, w.S, w.Now.Add(time.Millisecond))
		if len(acts) == 0 {
			return deeds
		}
		for _, a := range acts {
			switch a := a.(type) {
			case loop.Record:
				w.Append(a.Event)
			case loop.AskModel:
				w.Asked = append(w.Asked, a.Built)
				w.Append(a.Event)
				deeds = append(deeds, a)
			case loop.CallTool:
				w.Append(a.Event)
				deeds = append(deeds, a)
			case loop.Look:
				var seen loop.Sight
				for _, r := range a.Reads {
					if v, ok := w.Finds[r.Name]; ok {
						seen.Find(r.Name, v)
					} else {
						seen.Miss(r.Name, "it is not there")
					}
				}
				w.Append(loop.Looked(a, seen))
			}
		}
	}
}

// Reply answers the turn in flight with words and calls, written "tool {json}". Where
// several are, it is the oldest.
func (w *World) Reply(text string, calls ...string) {
	w.ReplyTo(w.Asking(), text, calls...)
}

// Asking gives the oldest turn that is in flight.
func (w *World) Asking() ledger.StepID {
	for _, step := range w.S.InFlight() {
		if w.S.Turn(step) != nil {
			return step
		}
	}
	panic("no turn is in flight")
}

// ReplyTo answers a turn in flight.
func (w *World) ReplyTo(step ledger.StepID, text string, calls ...string) {
	r := deed.Reply{Text: text, Finish: "stop", Usage: ledger.Usage{In: 10, Out: 5}}
	for i, c := range calls {
		tool, args := c, "{}"
		for j := range c {
			if c[j] == ' ' {
				tool, args = c[:j], c[j+1:]
				break
			}
		}
		r.Calls = append(r.Calls, ledger.Ask{ID: fmt.Sprintf("c%d_%d", w.S.Turns(), i), Tool: tool, Args: args})
	}
	w.Append(loop.TurnReceived(w.P, w.S, step, r, time.Millisecond))
}

// Return brings a call's result.
func (w *World) Return(step ledger.StepID, value any) {
	for _, e := range loop.CallReturned(w.P, w.S, step, deed.Result{Value: value}, time.Millisecond, w.Now, 0) {
		w.Append(e)
	}
}

// Fail brings a call's failure.
func (w *World) Fail(step ledger.StepID, f deed.Failure) {
	w.Append(loop.CallFailed(w.P, w.S, step, f, time.Millisecond, w.Now, 0))
}

// Settle settles a ticket.
func (w *World) Settle(step ledger.StepID, verb ledger.Verb, args any) {
	d := &ledger.GateSettled{Verb: verb, By: "master", Because: "I say so", Why: "master decided"}
	if args != nil {
		d.Args, _ = json.Marshal(args)
	}
	w.Append(ledger.New(step, d))
}

// Words gives what the model last read of tools.
func (w *World) Words() []string {
	var out []string
	m := w.S.Main().Messages()
	for i := len(m) - 1; i >= 0 && m[i].Role == ledger.FromTool; i-- {
		out = append([]string{m[i].Text}, out...)
	}
	return out
}

// harbour is two tools: a read, and a write that asks where the vessel is long.
const harbour = `---
tool: look
summary: Look a vessel up by its name.
effect: read
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
sets: {length_m: "=result.length_m"}
output: {type: object, required: [length_m], properties: {length_m: {type: number}, name: {type: string}}}
stubs: [{returns: {length_m: 46, name: "=args.name"}}]
---
tool: reserve
summary: Reserve a berth for a vessel.
effect: write
input: {type: object, required: [berth], properties: {berth: {type: string, pattern: "^[A-F][0-9]$", description: "Such as C4."}}}
gate: {when: "state.?length_m.orValue(99.0) > 40.0", why: over 40 m, by: [master], ask: "Reserve {{ args.berth }}?", within: 30m}
says: {done: "Reserved {{ args.berth }}."}
sets: {booking: "=args.berth"}
stubs: [{returns: {ok: true}}]
`

// Tree is a project of agents that consult one another: desk asks tides and dues, dues asks
// tides, tides asks gauge, and gauge may ask the person, as long as all above it may.
const Tree = `project: tree
approvers: [master]
start: desk
model: m
models: {m: {speaks: understudy, retry: 0}}
limits: {turns: 40, calls: 40, same_call: 3, passes: 3, time: 10m}
state: {type: object, properties: {length_m: {type: number}, booking: {type: string}, berth: {type: string}}}
` + harbour + `---
tool: toot # accept gate: it is a horn
summary: Sound the horn when somebody asks for it.
stubs: [{returns: null}]
---
agent: desk
summary: Reads requests.
prompt: You are the desk.
tools: [look, toot]
consults: [{agent: tides, asks: person}, {agent: dues, memory: kept, asks: person}]
passes_to: [tides]
---
agent: tides
summary: Knows the tides.
prompt: You know tides.
tools: [look, toot]
consults: [{agent: gauge, asks: person}]
passes_to: [desk, dues]
---
agent: dues
summary: Knows what a stay costs.
prompt: You know dues.
tools: [look, reserve]
consults: [tides]
passes_to: [desk]
input: {type: object, properties: {nights: {type: integer, description: Nights.}, length_m: {type: number, description: Length in metres.}}}
---
agent: gauge
summary: Reads the gauge.
prompt: You read the gauge.
tools: [look, reserve]
limits: {turns: 2}
`

// Letters is a project of relays: letter writes, has it proofread, and writes again while that
// is not fine, twice at most; card looks a vessel up; both is a relay of another.
const Letters = `project: letters
approvers: [master]
start: desk
model: m
models: {m: {speaks: understudy, retry: 0}}
limits: {turns: 40, calls: 40, legs: 30, time: 10m}
state: {type: object, properties: {length_m: {type: number}, booking: {type: string}}}
` + harbour + `---
agent: desk
summary: Reads requests.
prompt: You are the desk.
tools: [look, letter, card]
---
agent: writer
summary: Writes letters.
prompt: You write letters.
tools: [look]
---
agent: reader
summary: Reads letters for mistakes.
prompt: You read letters.
---
agent: judge
summary: Says whether a letter is fine.
prompt: You judge letters.
answer: {type: object, required: [fine], properties: {fine: {type: boolean}, remarks: {type: string}}}
---
relay: card
summary: Look a vessel up and reserve a berth for it when both are asked for.
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}, berth: {type: string, description: "Such as C4."}}}
legs:
  facts:  {tool: look, args: {name: "=input.name"}, keep: facts}
  size:   {choose: [{when: "kept.facts.length_m > 100.0", go: large}, {when: "has(input.berth)", go: berth}, {go: small}]}
  berth:  {tool: reserve, args: {berth: "=input.berth"}, keep: booking, go: small, fails: sorry}
  small:  {finish: {name: "=input.name", length_m: "=kept.facts.length_m"}}
  sorry:  {finish: "No berth for {{ input.name }}."}
  large:  {finish: "{{ input.name }} is too long."}
---
relay: letter
summary: Write a letter to a vessel when one is asked for.
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
legs:
  facts: {relay: card, input: {name: "=input.name"}, keep: card}
  write: {agent: writer, say: "Write to {{ input.name }}.", thread: same, keep: letter}
  read:  {agent: reader, keep: review}
  again: {choose: [{when: "kept.review != 'fine' && visits.write < 2", go: write}]}
  count: {set: {tries: "=visits.write", text: "{{ kept.letter }}"}}
  done:  {finish: "{{ kept.text }} ({{ kept.tries }})"}
---
relay: round
summary: Look at several vessels, and at the tide, when the morning begins.
input: {type: object, required: [vessels], properties: {vessels: {type: array, description: Their names., items: {type: string}}}}
legs:
  ships: {tool: look, each: "=input.vessels", at_once: 2, args: {name: "=item"}, fails: collect, keep: ships}
  notes: {agent: writer, each: "=input.vessels", say: "{{ n }}: {{ item }}", keep: notes}
  both:
    together:
      letter: {agent: writer, say: "Of {{ size(kept.ships) }}."}
      first:  {tool: look, args: {name: "=input.vessels[0]"}}
      card:   {relay: card, input: {name: "=input.vessels[0]", berth: C4}}
    keep: both
  done: {finish: {ships: "=kept.ships", notes: "=kept.notes", both: "=kept.both"}}
---
relay: judged
summary: Judge a text when one is to be judged.
input: {type: object, required: [text], properties: {text: {type: string, description: What is judged.}}}
legs:
  label: {agent: writer, answer: {enum: [long, short]}, keep: label}
  judge: {agent: judge, keep: verdict}
  way:   {choose: [{when: "kept.verdict.fine && kept.label == 'short'", go: good}]}
  bad:   {finish: "no: {{ kept.verdict.?remarks.orValue('nothing said') }}"}
  good:  {finish: "fine"}
---
relay: talk
summary: Let the writer and the reader talk about a text.
input: {type: object, required: [text], properties: {text: {type: string, description: What they talk about.}}}
legs:
  talk: {exchange: [writer, reader], rounds: 2, until: "n > 1 && words.contains('fine')", phrase: AGREED, keep: talk, fails: sorry}
  done: {finish: "{{ kept.talk.ended }} after {{ size(kept.talk.said) }}: {{ kept.talk.last }}"}
  sorry: {finish: "They fell silent."}
---
relay: trip
summary: Plan a trip.
input: {type: object, required: [text], properties: {text: {type: string, description: Where to.}}}
legs:
  plan: {plan: desk, among: [reader, look, reserve, card], steps: 3, keep: plan}
---
relay: better
summary: Put a question better, then answer it.
input: {type: object, required: [text], properties: {text: {type: string, description: What is asked.}}}
remember: "{{ kept.question }}"
legs:
  rewrite: {agent: reader, thread: session, shown: answer, keep: question}
  reply: {agent: writer, say: "{{ kept.question }}", shown: progress}
---
agent: teller
summary: Tells what may be told.
prompt: You tell.
tools: [look]
gate: {by: [master], within: 30m, tries: 2}
---
relay: told
legs: [teller, writer]
---
relay: signed
legs:
  write: {agent: writer, say: "Write.", thread: same, keep: letter}
  sign:  {gate: {by: [master], show: "{{ kept.letter }}", amend: letter, within: 30m}, back: write, tries: 2, refused: sorry, keep: sign}
  done:  {finish: "{{ kept.letter }} ({{ kept.sign.by }})"}
  sorry: {finish: "{{ kept.sign.because }}"}
---
relay: asked
input: {type: object, properties: {text: {type: string, description: Whatever.}}}
legs:
  which: {ask: "How many of {{ input.?text.orValue('them') }}?", answer: {type: integer, minimum: 1}, keep: many, fails: none}
  rough: {prompt: "Say {{ kept.many }} in words.", answer: {enum: [one, three]}, keep: words}
  done: {finish: "{{ kept.words }}"}
  none: {finish: "Nobody said."}
---
relay: tried
summary: Write until it is good.
input: {type: object, required: [text], properties: {text: {type: string, description: Of what.}}}
legs:
  long:  {agent: writer, good_when: {when: "size(answer) > size(input.text)", say: "Longer than {{ input.text }}."}, tries: 2, keep: long}
  fair:  {agent: writer, good_when: {judge: reader, that: "A letter is friendly."}, tries: 3, keep: fair, fails: sorry}
  way:   {choose: [{when: "ended.fair == 'short'", go: open}]}
  done:  {finish: "{{ kept.long }}, {{ kept.fair }}"}
  open:  {finish: "{{ kept.fair }} (open: {{ remarks.fair }})"}
  sorry: {finish: "Nobody could judge it."}
---
relay: slow
summary: Look, and ask somebody, in time.
input: {type: object, properties: {}}
legs:
  both: {together: {a: {agent: writer, say: Write.}, b: {tool: reserve, args: {berth: C4}}}, within: 5m, fails: late}
  done: {finish: in time}
  late: {finish: too late}
---
relay: hooks
input: {type: object, required: [text], properties: {text: {type: string, description: Whatever.}}}
legs: [hooked]
---
agent: hooked
summary: Does things with no model.
prompt: You have hooks.
tools: [look]
passes_to: [judge]
on:
  taking:  [{set: {booking: "=said"}}, {call: {tool: look, args: {name: "=said"}}}, {when: "false", set: {booking: never}}]
  calling: [{when: "tool == 'look'", set: {booking: "={'seen': args.name}.seen"}}]
  hearing: [{set: {booking: "{{ state.booking }}, {{ words }}"}}]
  leaving: [{call: {tool: reserve, args: {berth: C4}}}]
---
relay: line
input: {type: object, required: [text], properties: {text: {type: string, description: What is asked.}}}
legs: [writer, reader]
`
