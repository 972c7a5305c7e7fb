// Package scope is the one place that says which names expressions see: their types,
// for checking when a project is read, and their values, when something is evaluated.
// Runs, the bench, drills and commands all take them from here.
package scope

import (
	"maps"
	"time"

	"stonebaton.example/core/expr"
)

// Values are what the names that every expression sees stand for.
type Values struct {
	Project      string
	Person       string
	Run, Session string         // "" where there is no run, as on the bench
	At           time.Time      // now, in any zone
	Zone         *time.Location // the project's
	State        map[string]any // the session's facts
	StateDoc     map[string]any // their schema
}

// Types gives the schema documents of the names that every expression sees, and of
// more names.
func Types(state map[string]any, more map[string]map[string]any) map[string]map[string]any {
	if state == nil {
		state = map[string]any{"type": "object"}
	}
	all := map[string]map[string]any{
		"person":  expr.Object(map[string]any{"name": expr.Text}),
		"today":   expr.Text,
		"now":     expr.Moment,
		"project": expr.Text,
		"run":     expr.Object(map[string]any{"id": expr.Text, "session": expr.Text}),
		"state":   state,
	}
	maps.Copy(all, more)
	return all
}

// Vars gives the values of the names.
func (v Values) Vars() expr.Vars {
	at := v.At.In(v.Zone)
	facts := v.State
	if facts == nil {
		facts = map[string]any{}
	}
	return expr.Vars{
		"person": map[string]any{"name": v.Person}, "project": v.Project, "state": expr.Typed(v.StateDoc, any(facts)),
		"run": map[string]any{"id": v.Run, "session": v.Session}, "today": at.Format(time.DateOnly), "now": at,
	}
}

// Failure describes the name "error": what is known of a call that did not return.
var Failure = expr.Object(map[string]any{"status": expr.Whole, "class": expr.Text, "say": expr.Text, "body": expr.Any})

// FailureOf gives its value.
func FailureOf(status int, class, say string, body any) map[string]any {
	return map[string]any{"status": int64(status), "class": class, "say": say, "body": body}
}

// Gate describes the name "gate": who agreed to a call, and what they said.
var Gate = expr.Object(map[string]any{"by": expr.Text, "because": expr.Text})

// GateOf gives its value; both are "" where nobody was asked.
func GateOf(by, because string) map[string]any {
	return map[string]any{"by": by, "because": because}
}

// Notice describes the name "notice": what somebody is told of a ticket that they may settle.
var Notice = expr.Object(map[string]any{
	"to": expr.Text, "address": expr.Text, "link": expr.Text, "kind": expr.Text, "ticket": expr.Whole,
	"ask": expr.Text, "why": expr.Text, "agent": expr.Text, "tool": expr.Text, "args": expr.Any, "due": expr.Text,
})

// Response describes the name "response": the reply to a request.
var Response = expr.Object(map[string]any{"status": expr.Whole, "body": expr.Any, "headers": map[string]any{"type": "object"}})

// ResponseOf gives its value. The names of headers are in small letters.
func ResponseOf(status int, body any, headers map[string]any) map[string]any {
	return map[string]any{"status": int64(status), "body": body, "headers": headers}
}

// Outcome describes the name "run" where a drill looks at one that it made.
var Outcome = expr.Object(map[string]any{
	"id": expr.Text, "session": expr.Text, "status": expr.Text, "turns": expr.Whole, "calls": expr.Whole,
	"tokens": expr.Whole, "cost": expr.Number, "passes": expr.Whole,
})

// Name is one name of a scope, for people to read.
type Name struct{ Name, Where, Is string }

// Names lists every name, where it can be used, and what it is.
func Names() []Name {
	return []Name{
		{"state", "everywhere", "the facts of the session, as described under state: in stonebaton.yaml"},
		{"person.name", "everywhere", "who speaks"},
		{"now, today", "everywhere", "the moment, and the day as a text, in the project's time zone"},
		{"project", "everywhere", "the project's name"},
		{"run.id, run.session", "everywhere", "of the run; empty on the bench"},
		{"args", "in a tool", "the arguments of the call"},
		{"result", "says.done, sets", "the result of the call"},
		{"gate.by, gate.because", "in a tool", "who agreed to the call, and what they said; empty where nobody was asked, and before"},
		{"found", "unless; ask, by, to of a gate", "the results of what looks_up names"},
		{"notice.to, .address, .link, .kind, .ticket, .ask, .why, .agent, .tool, .args, .due", "notify of a gate", "who is told, where, and the link with which they decide; raised, reminder or escalated; what the ticket says"},
		{"error", "says.failed", "status, class, say, body of the failure"},
		{"response", "pick, fails_when", "status, body, headers of an HTTP reply; headers by names in small letters"},
		{"input", "in a relay", "what it begins with"},
		{"kept", "in a relay", "what its legs have kept, by name"},
		{"visits, ended, remarks", "in a relay", "of each leg: how often it was entered; how it ended last (done, short, failed, or nothing); what is open about a short answer"},
		{"item, n", "in a leg with each", "the entry of the list, and its number from 1"},
		{"words, n", "until of an exchange", "what was said last, and how often somebody spoke"},
		{"answer", "good_when", "the answer: a text, or a value where it has a schema"},
		{"said", "taking, leaving of on:", "the newest message; the answer"},
		{"tool, args, words", "calling, hearing of on:", "the call; what the model reads of its result"},
		{"wording.NAME", "in a prompt", "the text of a wording: put in when the project is read"},
		{"answer, run.status, run.turns, run.calls, run.passes, run.tokens, run.cost", "where of a drill", "the outcome of the run"},
	}
}
