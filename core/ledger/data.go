package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"time"
)

// Hash names a value by its content: the first 128 bits of its SHA-256, in hex.
type Hash string

// HashOf gives the hash of some bytes.
func HashOf(b []byte) Hash {
	sum := sha256.Sum256(b)
	return Hash(hex.EncodeToString(sum[:16]))
}

// Key is the idempotency key of a step: the same at every attempt, after a
// restart too.
func Key(run, step string) string { return string(HashOf([]byte(run + "\x00" + step))) }

// Role says whose a message is.
type Role string

// The roles of messages.
const (
	User      Role = "user"
	Assistant Role = "assistant"
	FromTool  Role = "tool"
)

// Message is one entry of a thread, as models read it.
type Message struct {
	Role  Role   `json:"role"`
	Agent string `json:"agent,omitempty"` // who said it, for Assistant
	Text  string `json:"text,omitempty"`
	Calls []Ask  `json:"calls,omitempty"` // the calls it makes, for Assistant
	Tool  string `json:"tool,omitempty"`  // whose result it is, for FromTool
	Call  string `json:"call,omitempty"`  // the id of the call it answers, for FromTool
}

// Ask is a call as a model wrote it. Args is the text that came, which may not be JSON.
type Ask struct {
	ID   string `json:"id"`
	Tool string `json:"tool"`
	Args string `json:"args"`
}

// Tools says how a run's tools are carried out.
type Tools string

// The ways to carry tools out.
const (
	ToolsLive  Tools = "live"
	ToolsStubs Tools = "stubs"
	ToolsOff   Tools = "off"
)

// Outcome says what is known of a call that did not return.
type Outcome string

// The outcomes of a failed call.
const (
	NotDone Outcome = "not_done"
	Unknown Outcome = "unknown"
)

// Status is how a run stands.
type Status string

// The statuses of a run. Held is going, but waiting for a person.
const (
	Going   Status = "going"
	Held    Status = "held"
	Done    Status = "done"
	Failed  Status = "failed"
	Stopped Status = "stopped"
)

// Over says whether the run has ended.
func (s Status) Over() bool { return s == Done || s == Failed || s == Stopped }

// Problem is why a run failed: a class for programs, a sentence for people.
type Problem struct {
	Class  string `json:"class"`
	Say    string `json:"say"`
	Remedy string `json:"remedy,omitempty"`
}

// RunOpened pins everything a run starts from.
type RunOpened struct {
	Session string          `json:"session"`
	Project string          `json:"project"`
	Version Hash            `json:"version"`
	Person  string          `json:"person"`
	Text    string          `json:"text"`
	Agent   string          `json:"agent"`
	Tools   Tools           `json:"tools"`
	Rung    Rung            `json:"rung,omitempty"`    // for all tools; no tool goes higher than the files let it
	Rungs   map[string]Rung `json:"rungs,omitempty"`   // for some
	Call    *Ask            `json:"call,omitempty"`    // a call from outside: the run is this one call, and no model is asked
	Via     string          `json:"via,omitempty"`     // what brought it, where it was not a person
	Handles []string        `json:"handles,omitempty"` // of results of earlier runs that can be named in arguments
	Model   string          `json:"model,omitempty"`   // asked for in place of the agents' own
	Zone    string          `json:"zone"`
	Memory  []Message       `json:"memory,omitempty"`
	State   map[string]any  `json:"state,omitempty"`
	Why     string          `json:"why"`
}

// StopAsked records that somebody wants the run to end.
type StopAsked struct {
	By      string `json:"by"`
	Because string `json:"because,omitempty"`
}

// RunRecovered records that the service came back and what it had lost.
type RunRecovered struct {
	Lost []string `json:"lost,omitempty"` // steps that were in flight
	Why  string   `json:"why"`
}

// RunClosed is always the last event of a run.
type RunClosed struct {
	Status  Status   `json:"status"`
	Answer  string   `json:"answer,omitempty"`
	Problem *Problem `json:"problem,omitempty"`
	Why     string   `json:"why"`
}

// TurnSent is the intent to ask a model. The request is named by the hashes of
// its parts: the messages are the first Kept of the thread's previous turn,
// then Added.
type TurnSent struct {
	Agent   string   `json:"agent"`
	Model   string   `json:"model"`
	N       int      `json:"n"` // counts the turns of the run from 1
	Attempt int      `json:"attempt"`
	System  Hash     `json:"system"`
	Tools   Hash     `json:"tools"`
	Kept    int      `json:"kept"`
	Added   []Hash   `json:"added"`
	Temp    *float64 `json:"temperature,omitempty"` // nil: the endpoint's own
	Why     string   `json:"why"`
}

// Usage counts tokens. Estimated says that the model gave none and we counted.
type Usage struct {
	In        int  `json:"in"`
	Out       int  `json:"out"`
	Estimated bool `json:"estimated,omitempty"`
}

// TurnReceived is a model's reply.
type TurnReceived struct {
	Text      string  `json:"text,omitempty"`
	Reasoning string  `json:"reasoning,omitempty"` // that the endpoint sent apart; never sent on
	Calls     []Ask   `json:"calls,omitempty"`
	Finish    string  `json:"finish,omitempty"`
	Model     string  `json:"model,omitempty"` // the name the endpoint gave
	Usage     Usage   `json:"usage"`
	Cost      float64 `json:"cost,omitempty"`
	MS        int64   `json:"ms"`
}

// TurnFailed records an attempt that brought no reply. RetryAt is set when
// another attempt follows; Next is the model that attempt will ask.
type TurnFailed struct {
	Attempt int        `json:"attempt"`
	Problem Problem    `json:"problem"`
	Status  int        `json:"status,omitempty"`
	RetryAt *time.Time `json:"retry_at,omitempty"`
	Next    string     `json:"next,omitempty"`
	Cost    float64    `json:"cost,omitempty"`
	MS      int64      `json:"ms"`
	Why     string     `json:"why"`
}

// Verdict is what the loop decided about a call.
type Verdict string

// The verdicts on a call.
const (
	Start  Verdict = "start"
	Gate   Verdict = "gate"
	Pass   Verdict = "pass" // a handoff
	Refuse Verdict = "refuse"
)

// Effect is what a call does to the world.
type Effect string

// The effects of tools. A tool that names none is a write.
const (
	Read         Effect = "read"
	Write        Effect = "write"
	Irreversible Effect = "irreversible"
)

// Rung is how far a tool is let.
type Rung string

// The rungs, from safe to real. RungRead is live if the tool only reads; RungAsk
// is live, and a person agrees to every call that is not a read.
const (
	RungStub Rung = "stub"
	RungRead Rung = "read"
	RungAsk  Rung = "ask"
	RungFree Rung = "free"
)

// Rungs lists them from the lowest to the highest.
func Rungs() []Rung { return []Rung{RungStub, RungRead, RungAsk, RungFree} }

// Lower gives the lower of two rungs; "" is as high as the other.
func (r Rung) Lower(o Rung) Rung {
	switch {
	case r == "":
		return o
	case o == "":
		return r
	case slices.Index(Rungs(), o) < slices.Index(Rungs(), r):
		return o
	}
	return r
}

// Stubs says whether a tool of an effect is answered by its stubs on the rung.
func (r Rung) Stubs(e Effect) bool { return r == RungStub || (r == RungRead && e != Read) }

// CallDecided is the verdict on one call of a turn, taken once, on the state
// as it was when the turn was received.
type CallDecided struct {
	Turn    string          `json:"turn"`
	N       int             `json:"n"` // position in the turn, from 1
	ID      string          `json:"id"`
	Tool    string          `json:"tool"`
	Args    json.RawMessage `json:"args,omitempty"`
	Effect  Effect          `json:"effect,omitempty"`
	Resend  string          `json:"resend,omitempty"` // how an unknown outcome may be sent again
	Lapse   Verb            `json:"lapse,omitempty"`  // what a lapsed gate does
	Verdict Verdict         `json:"verdict"`
	To      string          `json:"to,omitempty"`    // for Pass
	Words   string          `json:"words,omitempty"` // for Refuse: what the model is told
	Rung    Rung            `json:"rung,omitempty"`
	Repairs []string        `json:"repairs,omitempty"` // what was put right in the arguments
	Because string          `json:"because,omitempty"` // the model's reason, for reason_first
	Why     string          `json:"why"`
}

// CallLooked is what was seen, without any consequence, of what a call would do,
// before a person is asked about it. Words are set where it cannot succeed.
type CallLooked struct {
	Diff  string `json:"diff,omitempty"` // of the file that it would change
	Words string `json:"words,omitempty"`
	Why   string `json:"why"`
}

// CallStarted is the intent to carry a call out.
type CallStarted struct {
	Attempt int    `json:"attempt"`
	Key     string `json:"key"`
	Stub    bool   `json:"stub,omitempty"`
	Why     string `json:"why"`
}

// Sent is the proof of what left and what came back.
type Sent struct {
	Method  string            `json:"method,omitempty"` // of HTTP; or SCRIPT, COMMAND, SQL, FILE, MCP, GO, STUB, CACHE
	URL     string            `json:"url,omitempty"`    // or the command line, the query, the file, …
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
	Status  int               `json:"status,omitempty"` // of HTTP; or the exit code of a program
	Bytes   int64             `json:"bytes,omitempty"`
	Type    string            `json:"type,omitempty"`  // of what came back
	Reply   string            `json:"reply,omitempty"` // the head of what came back
	Log     string            `json:"log,omitempty"`   // what a script or program wrote beside its result
	Diff    string            `json:"diff,omitempty"`  // of a changed file, as a unified difference
	Undo    string            `json:"undo,omitempty"`  // the key with which the change can be undone
}

// CallReturned is the result of a call and the words the model reads.
type CallReturned struct {
	Result json.RawMessage `json:"result"`
	Words  string          `json:"words"`
	Sent   *Sent           `json:"sent,omitempty"`
	Note   string          `json:"note,omitempty"`   // what went wrong beside it, for the developer
	Handle string          `json:"handle,omitempty"` // names the whole in later arguments, where the words are cut
	By     string          `json:"by,omitempty"`     // the person who told us, for an outcome ticket
	MS     int64           `json:"ms"`
}

// CallFailed is a call that brought no result. RetryAt is set when it will be
// tried again; the model hears of it only when it is not.
type CallFailed struct {
	Attempt int        `json:"attempt"`
	Outcome Outcome    `json:"outcome"`
	Class   string     `json:"class"`
	Say     string     `json:"say"`
	Words   string     `json:"words"`
	Sent    *Sent      `json:"sent,omitempty"`
	RetryAt *time.Time `json:"retry_at,omitempty"`
	Final   bool       `json:"final"` // nothing more will be tried or asked
	MS      int64      `json:"ms"`
	Why     string     `json:"why,omitempty"`
}

// CallRefused is a call that was never started.
type CallRefused struct {
	Words string `json:"words"`
	By    string `json:"by,omitempty"`
	Why   string `json:"why"`
}

// BatonPassed records that another agent now acts on the thread.
type BatonPassed struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Because string `json:"because,omitempty"`
	Words   string `json:"words"`
	Why     string `json:"why"`
}

// StateChanged changes the session's state by a JSON Patch (RFC 6902).
type StateChanged struct {
	Patch json.RawMessage `json:"patch"`
	Why   string          `json:"why"`
}

// FileUndone records that a person undid a change that a call of the run made to a
// file. The step of the event is that of the call, and empty where an earlier run of
// the session made the change. It is the one event that may follow run.closed.
type FileUndone struct {
	Path  string `json:"path"`
	By    string `json:"by"`
	Words string `json:"words"` // what the next turn is told
	Why   string `json:"why"`
}

// TicketKind says what a ticket asks of a person.
type TicketKind string

// The kinds of tickets.
const (
	GateTicket    TicketKind = "gate"    // may this be done?
	OutcomeTicket TicketKind = "outcome" // did this happen?
)

// Verb is how a ticket is settled.
type Verb string

// The verbs of tickets: the first three for gates, the next three for
// outcomes; Lapsed is time's own.
const (
	Allow       Verb = "allow"
	RefuseIt    Verb = "refuse"
	Amend       Verb = "amend"
	Happened    Verb = "happened"
	NotHappened Verb = "not_happened"
	GiveUp      Verb = "give_up"
	Lapsed      Verb = "lapsed"
	Withdrawn   Verb = "withdrawn"
)

// Verbs gives the verbs a person may use on a ticket of the kind.
func (k TicketKind) Verbs() []Verb {
	if k == OutcomeTicket {
		return []Verb{Happened, NotHappened, GiveUp}
	}
	return []Verb{Allow, RefuseIt, Amend}
}

// GateRaised opens a ticket on a step.
type GateRaised struct {
	Form    TicketKind      `json:"form"`
	Agent   string          `json:"agent"`
	Tool    string          `json:"tool"`
	Args    json.RawMessage `json:"args"`
	Ask     string          `json:"ask"`
	By      []string        `json:"by,omitempty"`
	Due     *time.Time      `json:"due,omitempty"`
	Because string          `json:"because,omitempty"` // the model's reason, for reason_first
	Diff    string          `json:"diff,omitempty"`    // of the file that the call would change
	Shown   Hash            `json:"shown"`             // of what the person is shown: tool, arguments, question, difference
	Why     string          `json:"why"`
}

// GateSettled closes a ticket.
type GateSettled struct {
	Verb    Verb            `json:"verb"`
	By      string          `json:"by,omitempty"`
	Because string          `json:"because,omitempty"`
	Args    json.RawMessage `json:"args,omitempty"`   // for Amend: the whole new arguments
	Result  json.RawMessage `json:"result,omitempty"` // for Happened
	ID      string          `json:"id,omitempty"`     // the settlement's own, so that a repeated click is known
	Why     string          `json:"why"`
}

// TimerFired makes time pass: for a ticket's deadline, a retry, or a limit.
type TimerFired struct {
	Due time.Time `json:"due"`
	Why string    `json:"why"`
}

// Kind gives the kind the data belongs to.
func (*RunOpened) Kind() Kind    { return KindRunOpened }
func (*StopAsked) Kind() Kind    { return KindStopAsked }
func (*RunRecovered) Kind() Kind { return KindRunRecovered }
func (*RunClosed) Kind() Kind    { return KindRunClosed }
func (*TurnSent) Kind() Kind     { return KindTurnSent }
func (*TurnReceived) Kind() Kind { return KindTurnReceived }
func (*TurnFailed) Kind() Kind   { return KindTurnFailed }
func (*CallDecided) Kind() Kind  { return KindCallDecided }
func (*CallLooked) Kind() Kind   { return KindCallLooked }
func (*CallStarted) Kind() Kind  { return KindCallStarted }
func (*CallReturned) Kind() Kind { return KindCallReturned }
func (*CallFailed) Kind() Kind   { return KindCallFailed }
func (*CallRefused) Kind() Kind  { return KindCallRefused }
func (*BatonPassed) Kind() Kind  { return KindBatonPassed }
func (*StateChanged) Kind() Kind { return KindStateChanged }
func (*FileUndone) Kind() Kind   { return KindFileUndone }
func (*GateRaised) Kind() Kind   { return KindGateRaised }
func (*GateSettled) Kind() Kind  { return KindGateSettled }
func (*TimerFired) Kind() Kind   { return KindTimerFired }
