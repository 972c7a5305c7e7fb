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
func Key(run string, step StepID) string { return string(HashOf([]byte(run + "\x00" + string(step)))) }

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
	Role      Role   `json:"role"`
	Agent     string `json:"agent,omitempty"` // who said it, for Assistant
	Text      string `json:"text,omitempty"`
	Calls     []Ask  `json:"calls,omitempty"`     // the calls it makes, for Assistant
	Tool      string `json:"tool,omitempty"`      // whose result it is, for FromTool
	Call      string `json:"call,omitempty"`      // the id of the call it answers, for FromTool
	Reasoning string `json:"reasoning,omitempty"` // for Assistant, where its agent wants it sent on
	Ended     Ended  `json:"ended,omitempty"`     // how that call ended, where it did not return; "" before events of version 2
	Pictures  []File `json:"pictures,omitempty"`  // that came with the result, for models that take them
}

// Ended is how a call ended that did not return, so that nobody has to read it out of words.
type Ended string

// The ends of calls that did not return.
const (
	EndedFailed  Ended = "failed"
	EndedRefused Ended = "refused"
)

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

// The outcomes of a failed call. Partly is that of a consult that failed after some of
// what it had to do was done.
const (
	NotDone Outcome = "not_done"
	Unknown Outcome = "unknown"
	Partly  Outcome = "partly"
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
	Session  string               `json:"session"`
	Project  string               `json:"project"`
	Version  Hash                 `json:"version"`
	Person   string               `json:"person"`
	Text     string               `json:"text"`
	Agent    string               `json:"agent"`
	Tools    Tools                `json:"tools"`
	Rung     Rung                 `json:"rung,omitempty"`    // for all tools; no tool goes higher than the files let it
	Rungs    map[string]Rung      `json:"rungs,omitempty"`   // for some
	Call     *Ask                 `json:"call,omitempty"`    // a call from outside: the run is this one call, and no model is asked
	Via      string               `json:"via,omitempty"`     // what brought it, where it was not a person
	Beside   *Beside              `json:"beside,omitempty"`  // the call that it is, of another run
	Handles  []string             `json:"handles,omitempty"` // of results of earlier runs that can be named in arguments
	Model    string               `json:"model,omitempty"`   // asked for in place of the agents' own
	Turns    int                  `json:"turns,omitempty"`   // the limit of turns, in place of the project's; 0 is that
	Relay    string               `json:"relay,omitempty"`   // that the run goes through; Agent is "" then
	Input    json.RawMessage      `json:"input,omitempty"`   // of the relay, an object
	From     string               `json:"from,omitempty"`    // the leg that the relay begins with; "" is its first
	Kept     json.RawMessage      `json:"kept,omitempty"`    // what it has kept by then, an object
	Until    string               `json:"until,omitempty"`   // the leg that it ends with; "" goes on until it ends
	Zone     string               `json:"zone"`
	Memory   []Message            `json:"memory,omitempty"`
	State    map[string]any       `json:"state,omitempty"`
	Lines    map[string][]Message `json:"lines,omitempty"`     // of consults that remember, by asker/agent
	Consults map[string]Canned    `json:"consults,omitempty"`  // agents that are not run when they are consulted: what they answer
	Legs     map[string]Canned    `json:"legs,omitempty"`      // of the run's relay that are not gone into: what they bring
	PersonAt []Place              `json:"person_at,omitempty"` // where a person looks at every step of the run
	Agreed   map[string]Agreed    `json:"agreed,omitempty"`    // in the session before, by tool, where its gate counts it
	Why      string               `json:"why"`
}

// Place is a place at which a person looks at every step, beyond the gates.
type Place string

// The places.
const (
	AtTurns  Place = "turns"  // before each turn is sent
	AtCalls  Place = "calls"  // before each call of a tool
	AtAnswer Place = "answer" // before an answer counts
)

// Places lists them in the order in which a run comes to them.
func Places() []Place { return []Place{AtTurns, AtCalls, AtAnswer} }

// Agreed is how often people have agreed to calls of a tool in a session, and whether they
// are not to be asked again.
type Agreed struct {
	Times int  `json:"times"`
	Spare bool `json:"spare,omitempty"`
}

// Canned is what a consulted agent, or a leg, brings without being run. One of the three is
// set.
type Canned struct {
	Answer string          `json:"answer,omitempty"`
	Value  json.RawMessage `json:"value,omitempty"` // of a leg
	Fails  string          `json:"fails,omitempty"`
}

// StopAsked records that somebody wants the run to end.
type StopAsked struct {
	By      string `json:"by"`
	Because string `json:"because,omitempty"`
}

// RunRecovered records that the service came back and what it had lost.
type RunRecovered struct {
	Lost  []StepID `json:"lost,omitempty"`  // turns and calls that were in flight
	Epoch int64    `json:"epoch,omitempty"` // of the driver that goes on; 0 before there were epochs
	Why   string   `json:"why"`
}

// RunClosed is always the last event of a run.
type RunClosed struct {
	Status  Status   `json:"status"`
	Answer  string   `json:"answer,omitempty"`
	Remarks string   `json:"remarks,omitempty"` // what is open about an answer that is not as good as it has to be
	Problem *Problem `json:"problem,omitempty"`
	Why     string   `json:"why"`
}

// TurnSent is the intent to ask a model. The request is named by the hashes of
// its parts: the messages are those of the thread's previous turn without the first Skip,
// of these the first Kept, then Added.
type TurnSent struct {
	Agent   string   `json:"agent"`
	Model   string   `json:"model"`
	N       int      `json:"n"` // counts the turns of the thread from 1
	Attempt int      `json:"attempt"`
	System  Hash     `json:"system"`
	Tools   Hash     `json:"tools"`
	Skip    int      `json:"skip,omitempty"`
	Kept    int      `json:"kept"`
	Added   []Hash   `json:"added"`
	Reserve *Reserve `json:"reserve,omitempty"`     // nil: nothing
	Temp    *float64 `json:"temperature,omitempty"` // nil: the endpoint's own
	Why     string   `json:"why"`
}

// Reserve is what a turn may use of the run's limits, set aside while it is in flight so
// that turns side by side keep them.
type Reserve struct {
	Tokens int     `json:"tokens"`
	Cost   float64 `json:"cost,omitempty"`
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
	Reasoning string  `json:"reasoning,omitempty"` // that the endpoint sent apart
	SentOn    bool    `json:"sent_on,omitempty"`   // later requests hold the reasoning again
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
	Put    Verdict = "put"  // a question to the person
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

// Stronger gives the stronger of two effects.
func (e Effect) Stronger(o Effect) Effect {
	order := []Effect{Read, Write, Irreversible}
	return order[max(slices.Index(order, e), slices.Index(order, o))]
}

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

// Opening is what a call opens in place of being started.
type Opening string

// Consult opens a thread on which another agent answers, Course a relay; a leg of a relay
// opens a thread on which an agent works, or one with a single call that no model makes.
const (
	Consult  Opening = "consult"
	Course   Opening = "relay"
	LegAgent Opening = "leg"
	LegCall  Opening = "call"
	Judge    Opening = "judge" // of an answer, before it counts
	HookCall Opening = "hook"
)

// CallDecided is the verdict on one call of a turn, taken once, on the state
// as it was when the turn was received.
type CallDecided struct {
	Of      StepID          `json:"of"` // the turn that made it
	N       int             `json:"n"`  // position in the turn, from 1
	ID      string          `json:"id"`
	Tool    string          `json:"tool"`
	Args    json.RawMessage `json:"args,omitempty"`
	Effect  Effect          `json:"effect,omitempty"`
	Resend  string          `json:"resend,omitempty"` // how an unknown outcome may be sent again
	Lapse   Lapse           `json:"lapse,omitempty"`  // what a lapsed gate does
	Verdict Verdict         `json:"verdict"`
	Opens   Opening         `json:"opens,omitempty"`   // the container that it opens, in place of being started
	To      string          `json:"to,omitempty"`      // for Pass, and what is opened: whose it is
	Planned int             `json:"planned,omitempty"` // the number of the step of a plan that it is
	Words   string          `json:"words,omitempty"`   // for Refuse: what the model is told
	Rung    Rung            `json:"rung,omitempty"`
	Repairs []string        `json:"repairs,omitempty"` // what was put right in the arguments
	Because string          `json:"because,omitempty"` // the model's reason, for reason_first
	Step    bool            `json:"step,omitempty"`    // a person looks at every call
	Beyond  bool            `json:"beyond,omitempty"`  // for Refuse: the calls that the run may make are used up
	Why     string          `json:"why"`
}

// CallLooked is what was seen, without any consequence, of what a call would do,
// before a person is asked about it. Words are set where it cannot succeed.
type CallLooked struct {
	Diff   string                     `json:"diff,omitempty"` // of the file that it would change
	Words  string                     `json:"words,omitempty"`
	Found  map[string]json.RawMessage `json:"found,omitempty"`  // results of the reads that its gate looks up, by name
	Missed map[string]string          `json:"missed,omitempty"` // of these, why one brought no result
	Why    string                     `json:"why"`
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
	Files   []File            `json:"files,omitempty"` // that a program made, kept by their content
}

// File is a file that a program made.
type File struct {
	Path  string `json:"path"` // in the session's folder
	Hash  Hash   `json:"hash"` // of its content
	Bytes int64  `json:"bytes"`
	Type  string `json:"type"` // its media type, by its name
}

// CallReturned is the result of a call and the words the model reads.
type CallReturned struct {
	Result json.RawMessage `json:"result"`
	Words  string          `json:"words"`
	Sent   *Sent           `json:"sent,omitempty"`
	Note   string          `json:"note,omitempty"`   // what went wrong beside it, for the developer
	Handle string          `json:"handle,omitempty"` // names the whole in later arguments, where the words are cut
	By     string          `json:"by,omitempty"`     // the person who told us, for an outcome ticket
	// Pictures are those of the files that a model which takes pictures is shown with the words.
	Pictures []File  `json:"pictures,omitempty"`
	Link     string  `json:"link,omitempty"` // opens the outside record of it
	Cost     float64 `json:"cost,omitempty"`
	MS       int64   `json:"ms"`
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
	Cost    float64    `json:"cost,omitempty"`
	MS      int64      `json:"ms"`
	Why     string     `json:"why,omitempty"`
}

// CallRefused is a call that was never started.
type CallRefused struct {
	Words string `json:"words"`
	By    string `json:"by,omitempty"`
	Aside *Aside `json:"aside,omitempty"` // it is not done in this run, since it waits for people in one of its own
	Why   string `json:"why"`
}

// Aside is a call that waits for people beside the conversation: it is the one call of a run
// in a session of its own, whose outcome comes into the conversation as a message.
type Aside struct {
	Session string     `json:"session"`
	By      []string   `json:"by,omitempty"` // who may settle it
	Due     *time.Time `json:"due,omitempty"`
}

// Run names the run of the call.
func (a *Aside) Run() string { return a.Session + "-1" }

// Beside says of which run a run is a call that waits aside.
type Beside struct {
	Run   string `json:"run"`
	Step  StepID `json:"step"`
	Agent string `json:"agent"` // that made it
}

// ViaAside says that a run is a call that waits aside, or what became of one.
const ViaAside = "aside"

// Sees is what an agent that is handed the baton sees of the conversation.
type Sees string

// What can be seen: "" is all; SeesLast begins with the person's last message, SeesNote with
// the reason for the handoff.
const (
	SeesLast Sees = "last"
	SeesNote Sees = "note"
)

// BatonPassed records that another agent now acts on the thread.
type BatonPassed struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Because string `json:"because,omitempty"`
	Words   string `json:"words"`
	Sees    Sees   `json:"sees,omitempty"`
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

// ThreadOpened opens the thread of the call, leg or item whose step it has: another agent is
// asked, or set to work, or a call is made.
type ThreadOpened struct {
	Role  Opening `json:"role"`
	Agent string  `json:"agent"`          // the relay, for a call that no model makes
	Say   string  `json:"say"`            // the first message
	Line  string  `json:"line,omitempty"` // what it goes on with, as asker/agent; "" begins afresh
	From  StepID  `json:"from,omitempty"` // the thread of the run that the line was taken on by last; "" is none
	Asks  bool    `json:"asks,omitempty"` // its agent may put questions to the person
	Call  *Ask    `json:"call,omitempty"` // for the role call
	Why   string  `json:"why"`
}

// End is how a thread ended.
type End string

// The ends of a thread. On EndShort its answer is not as good as it has to be, and no try is
// left; on HandedBack the agent passed to the one that had asked.
const (
	EndDone    End = "done"
	EndShort   End = "short"
	EndFailed  End = "failed"
	EndStopped End = "stopped"
	HandedBack End = "handed_back"
)

// Well says whether there is an answer to go on with.
func (e End) Well() bool { return e == EndDone || e == EndShort }

// ThreadClosed ends a thread. Nothing on it or under it is open any more.
type ThreadClosed struct {
	Outcome End             `json:"outcome"`
	Answer  string          `json:"answer,omitempty"`
	Value   json.RawMessage `json:"value,omitempty"`   // of an answer that is more than text, and of a call
	Remarks string          `json:"remarks,omitempty"` // on EndShort: what is open about the answer
	Problem *Problem        `json:"problem,omitempty"`
	Why     string          `json:"why"`
}

// LineOf gives the name of the line on which a leg of a relay at work goes on.
func LineOf(frame StepID, leg string) string { return "@" + string(frame) + "/" + leg }

// FrameOpened sets a relay to work, in the run, for a call, or for a leg of another.
type FrameOpened struct {
	Relay string          `json:"relay"`
	Input json.RawMessage `json:"input"` // an object
	Why   string          `json:"why"`
}

// FrameClosed ends a relay. Nothing under it is open any more.
type FrameClosed struct {
	Outcome End             `json:"outcome"`
	Answer  string          `json:"answer,omitempty"` // the value as a text
	Value   json.RawMessage `json:"value,omitempty"`
	Said    string          `json:"said,omitempty"` // of the run's relay: what the session keeps in place of what the person said
	Problem *Problem        `json:"problem,omitempty"`
	Why     string          `json:"why"`
}

// LegEntered begins a visit of a leg. Items is how many threads or relays it opens: each is
// the leg itself where it is one, and an item of it otherwise.
type LegEntered struct {
	Kind    string            `json:"kind"`
	Items   int               `json:"items"`
	Many    bool              `json:"many,omitempty"` // they are items or branches
	AtOnce  int               `json:"at_once,omitempty"`
	Collect bool              `json:"collect,omitempty"` // an item that ends badly does not end the leg
	Steps   int               `json:"steps,omitempty"`   // of a plan, at most
	Shown   Shown             `json:"shown,omitempty"`   // what the person sees of it; "" is nothing
	Over    []json.RawMessage `json:"over,omitempty"`    // the list that it goes over, evaluated once
	Why     string            `json:"why"`
}

// Shown is what the person sees of a leg in the conversation.
type Shown string

// What can be seen of a leg: its words, that it is done, or nothing.
const (
	ShownAnswer   Shown = "answer"
	ShownProgress Shown = "progress"
	Hidden        Shown = "hidden"
)

// Kinds of legs that events are read by: the value of the first is kept field by field, what
// the second opens are branches by name, and the third may end before all that it could open.
const (
	LegSets     = "set"
	LegBranches = "together"
	LegRounds   = "exchange"
	LegOfGate   = "gate"
)

// LegLeft ends a visit of a leg, and says where the relay goes on.
type LegLeft struct {
	Outcome End             `json:"outcome"`
	Value   json.RawMessage `json:"value,omitempty"`
	Answer  string          `json:"answer,omitempty"` // the value as a text
	Keep    string          `json:"keep,omitempty"`   // the name under which the value is kept; for set, each field of the value by its own
	Go      string          `json:"go,omitempty"`     // the leg that comes next; "" ends the relay
	Done    int             `json:"done,omitempty"`   // items that brought a result
	Of      int             `json:"of,omitempty"`
	Remarks string          `json:"remarks,omitempty"` // on EndShort; of a gate that sends its text back
	Amend   string          `json:"amend,omitempty"`   // of a gate: what is kept that the text takes the place of, as somebody has changed it
	Problem *Problem        `json:"problem,omitempty"`
	Why     string          `json:"why"`
}

// Decision is the value of a leg that puts a text before people.
type Decision struct {
	Verdict string `json:"verdict"` // allowed, changed, back, refused, lapsed
	By      string `json:"by"`
	Because string `json:"because"` // their reason, or their remarks
	Text    string `json:"text"`    // as it is now
}

// The verdicts of people on a text.
const (
	TextAllowed = "allowed"
	TextChanged = "changed"
	TextBack    = "back"
	TextRefused = "refused"
	TextLapsed  = "lapsed"
)

// Ruling is what a guardrail says.
type Ruling string

// The rulings of guardrails. Revise sends an answer back, with words for the agent.
const Revise Ruling = "revise"

// The guardrails of answers: its schema, and what has to hold of it.
const (
	AnswerFits = "answer"
	GoodWhen   = "good_when"
	GateBack   = "gate" // people sent it back
)

// GuardrailSettled records what a guardrail says of the reply of a turn.
type GuardrailSettled struct {
	Guardrail string `json:"guardrail"` // answer: the schema that the answer has to fit; good_when: what has to hold of it
	Verdict   Ruling `json:"verdict"`
	Score     int    `json:"score,omitempty"` // that a judge gave it, of 10
	Words     string `json:"words"`           // what the agent is told
	Why       string `json:"why"`
}

// Moment is when a hook of an agent is fired.
type Moment string

// The moments of hooks: the agent takes the baton, or gives it away or answers; a call of it is
// about to begin, or has returned.
const (
	Taking  Moment = "taking"
	Calling Moment = "calling"
	Hearing Moment = "hearing"
	Leaving Moment = "leaving"
)

// HookFired records that a hook of an agent was due: it changes the state, or opens a thread
// with one call, which the next event does.
type HookFired struct {
	On    Moment          `json:"on"`
	N     int             `json:"n"`     // of the agent's hooks of that moment, from 1
	About StepID          `json:"about"` // the call or turn; of taking, the step that passed the baton, or ""
	Agent string          `json:"agent"`
	Patch json.RawMessage `json:"patch,omitempty"` // of the state, a JSON Patch
	Call  *Ask            `json:"call,omitempty"`
	Note  string          `json:"note,omitempty"` // why nothing came of it
	Why   string          `json:"why"`
}

// LimitReached records that a limit of the run is used up: the run ends.
type LimitReached struct {
	Limit   string  `json:"limit"` // turns, calls, tokens, cost, time, same_call
	Where   StepID  `json:"where"` // the thread that wanted more; "" is the main thread
	Problem Problem `json:"problem"`
	Why     string  `json:"why"`
}

// TicketKind says what a ticket asks of a person.
type TicketKind string

// The kinds of tickets.
const (
	GateTicket     TicketKind = "gate"     // may this be done?
	OutcomeTicket  TicketKind = "outcome"  // did this happen?
	QuestionTicket TicketKind = "question" // what do you say?
	TextTicket     TicketKind = "text"     // is this text fine?
	PauseTicket    TicketKind = "pause"    // may this turn be sent?
	LimitTicket    TicketKind = "limit"    // may the run have more?
)

// Verb is how a ticket is settled.
type Verb string

// The verbs of tickets: the first three for gates, the next three for
// outcomes, Answer and RefuseIt for questions, Answer for a turn before which the person says
// something, SendBack besides the first three for texts;
// Lapsed is time's own.
const (
	Allow       Verb = "allow"
	RefuseIt    Verb = "refuse"
	Amend       Verb = "amend"
	Happened    Verb = "happened"
	NotHappened Verb = "not_happened"
	GiveUp      Verb = "give_up"
	Answer      Verb = "answer"
	SendBack    Verb = "back"
	Lapsed      Verb = "lapsed"
	Withdrawn   Verb = "withdrawn"
)

// Verbs gives the verbs a person may use on a ticket of the kind.
func (k TicketKind) Verbs() []Verb {
	switch k {
	case OutcomeTicket:
		return []Verb{Happened, NotHappened, GiveUp}
	case QuestionTicket:
		return []Verb{Answer, RefuseIt}
	case PauseTicket:
		return []Verb{Allow, Amend, Answer}
	case TextTicket:
		return []Verb{Allow, RefuseIt, Amend, SendBack}
	case GateTicket, LimitTicket:
	}
	return []Verb{Allow, RefuseIt, Amend}
}

// Verbs gives the verbs a person may use on the ticket.
func (g *GateRaised) Verbs() []Verb {
	if len(g.May) > 0 {
		return g.May
	}
	return g.Form.Verbs()
}

// Theirs says whether the ticket, where it names nobody, is also for the person whom the run
// works for: it asks them something, or they look at every step of it.
func (g *GateRaised) Theirs() bool {
	return g.Step || !slices.Contains([]TicketKind{GateTicket, TextTicket, LimitTicket}, g.Form)
}

// Lapse says what a gate does that nobody has settled in time.
type Lapse string

// What a gate may do when its time is over.
const (
	LapseRefuses Lapse = "refuse" // the call is not done, and the model is told
	LapseAllows  Lapse = "allow"
	LapseFails   Lapse = "fail" // the call is not done, and its thread fails
)

// Escalation is when more people may settle a ticket, and who.
type Escalation struct {
	At time.Time `json:"at"`
	To []string  `json:"to"`
}

// GateRaised opens a ticket on a step.
type GateRaised struct {
	Form     TicketKind      `json:"form"`
	Agent    string          `json:"agent"`
	Tool     string          `json:"tool"`
	Args     json.RawMessage `json:"args"`
	Ask      string          `json:"ask"`
	By       []string        `json:"by,omitempty"`    // who may settle it; none is anybody
	Not      string          `json:"not,omitempty"`   // who may not, though they are among these: the one who asked
	May      []Verb          `json:"may,omitempty"`   // of the kind's verbs, those that it takes; none is all
	Need     int             `json:"need,omitempty"`  // how many have to agree; 0 is one
	Spare    bool            `json:"spare,omitempty"` // who agrees may say that this is not to be asked again in the session
	Step     bool            `json:"step,omitempty"`  // a person looks at every such step: who agrees may say that the run goes on without that
	Escalate *Escalation     `json:"escalate,omitempty"`
	Notify   string          `json:"notify,omitempty"` // the rule of the project by which they are told; "": they are not
	Remind   int64           `json:"remind,omitempty"` // how often they are told again, in seconds; 0 is never
	Due      *time.Time      `json:"due,omitempty"`
	Because  string          `json:"because,omitempty"` // the model's reason, for reason_first
	Wants    json.RawMessage `json:"wants,omitempty"`   // the JSON Schema of the answer to a question; none is any words
	Diff     string          `json:"diff,omitempty"`    // of the file that the call would change
	Link     string          `json:"link,omitempty"`    // opens the outside record that the call is about
	Shown    Hash            `json:"shown"`             // of what the person is shown: tool, arguments, question, difference
	Why      string          `json:"why"`
}

// GateVoted is what one of several people says who have to agree. An amendment sets the
// votes before it aside: they were for other values.
type GateVoted struct {
	Verb    Verb            `json:"verb"` // Allow or Amend
	By      string          `json:"by"`
	As      string          `json:"as,omitempty"` // the approver, or the right, as which; "" where by: names the person
	Because string          `json:"because,omitempty"`
	Args    json.RawMessage `json:"args,omitempty"` // for Amend: the whole new arguments
	Ask     string          `json:"ask,omitempty"`  // and the question about these
	Shown   Hash            `json:"shown"`          // of what the next person is shown
	ID      string          `json:"id,omitempty"`
	Why     string          `json:"why"`
}

// GateSettled closes a ticket.
type GateSettled struct {
	Verb    Verb            `json:"verb"`
	By      string          `json:"by,omitempty"`
	As      string          `json:"as,omitempty"` // as in GateVoted, of the one who came last
	Because string          `json:"because,omitempty"`
	Args    json.RawMessage `json:"args,omitempty"`   // for Amend: the whole new arguments
	Result  json.RawMessage `json:"result,omitempty"` // for Happened; the words of an Answer, which before a turn are said in its thread
	ID      string          `json:"id,omitempty"`     // the settlement's own, so that a repeated click is known
	Spare   bool            `json:"spare,omitempty"`  // this is not to be asked again in the session
	Why     string          `json:"why"`
}

// Timer says what a timer is for.
type Timer string

// What timers are for. Events of the first version did not tell a retry from a deadline.
const (
	ForRetry  Timer = "retry"
	ForTicket Timer = "ticket"
	ForLimit  Timer = "limit"
	ForLeg    Timer = "leg"  // of what a leg may take
	ForMore   Timer = "more" // people who may settle a ticket
	ForEither Timer = "either"
)

// TimerFired makes time pass: for a ticket's deadline, a retry, or a limit.
type TimerFired struct {
	What Timer     `json:"what"`
	Due  time.Time `json:"due"`
	Why  string    `json:"why"`
}

func (*RunOpened) kind() Kind    { return KindRunOpened }
func (*StopAsked) kind() Kind    { return KindStopAsked }
func (*RunRecovered) kind() Kind { return KindRunRecovered }
func (*RunClosed) kind() Kind    { return KindRunClosed }
func (*TurnSent) kind() Kind     { return KindTurnSent }
func (*TurnReceived) kind() Kind { return KindTurnReceived }
func (*TurnFailed) kind() Kind   { return KindTurnFailed }
func (*CallDecided) kind() Kind  { return KindCallDecided }
func (*CallLooked) kind() Kind   { return KindCallLooked }
func (*CallStarted) kind() Kind  { return KindCallStarted }
func (*CallReturned) kind() Kind { return KindCallReturned }
func (*CallFailed) kind() Kind   { return KindCallFailed }
func (*CallRefused) kind() Kind  { return KindCallRefused }
func (*BatonPassed) kind() Kind  { return KindBatonPassed }
func (*StateChanged) kind() Kind { return KindStateChanged }
func (*FileUndone) kind() Kind   { return KindFileUndone }
func (*GateRaised) kind() Kind   { return KindGateRaised }
func (*GateVoted) kind() Kind    { return KindGateVoted }
func (*GateSettled) kind() Kind  { return KindGateSettled }
func (*TimerFired) kind() Kind   { return KindTimerFired }
func (*ThreadOpened) kind() Kind { return KindThreadOpened }
func (*ThreadClosed) kind() Kind { return KindThreadClosed }
func (*LimitReached) kind() Kind { return KindLimitReached }
func (*FrameOpened) kind() Kind  { return KindFrameOpened }
func (*FrameClosed) kind() Kind  { return KindFrameClosed }
func (*LegEntered) kind() Kind   { return KindLegEntered }
func (*LegLeft) kind() Kind      { return KindLegLeft }

func (*GuardrailSettled) kind() Kind { return KindGuardrail }
func (*HookFired) kind() Kind        { return KindHookFired }
