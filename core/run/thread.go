package run

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"stonebaton.example/core/ledger"
)

// Thread is a line of messages on which one agent at a time holds the baton, or a relay at
// work, on which nobody speaks.
type Thread struct {
	id     ledger.StepID // of the call, leg or item that opened it; "" for the main thread
	opener *Call         // nil where no call opened it
	visit  *Visit        // of the leg that opened it; nil where no leg did
	item   int           // of the leg's items, from 1
	judges *Turn         // whose answer is judged on it; nil elsewhere
	parent *Thread       // nil for the main thread
	opened *ledger.ThreadOpened
	frame  *Frame    // nil where agents speak
	relay  bool      // of the main thread: the run goes through a relay, and nobody speaks here
	at     time.Time // of its opening
	agent  string    // holds the baton

	messages []ledger.Message
	hashes   []ledger.Hash  // of the messages, one each
	sent     []ledger.Hash  // the messages of the last turn that was sent
	facts    map[string]any // its own copy of the state, never changed in place
	base     map[string]any // the parent's when it was opened
	turn     *Turn          // the newest; nil before the first
	pause    *Ticket        // of the turn that comes next, where a person looks at it first
	turns    int
	byAgent  map[string]int // turns of each agent on it
	view     int            // the first message that who holds the baton sees
	row      int            // handoffs with no other call between them
	handles  map[string]bool
	lines    map[string]*line
	beyond   *Turn // the newest whose calls were refused since the run's are used up
	pressed  int   // how many such turns there were
	same     map[ledger.Hash]again
	sameTool string // the call that was repeated most
	sameMost int
	planned  *Call             // the newest step of its plan; nil: there is none
	passed   ledger.StepID     // the call that passed it last; "" before
	hooks    int               // that were fired
	fired    map[string]bool   // which, by moment, number and what they were about
	hooking  int               // calls of hooks that are open
	hooked   *ledger.HookFired // whose call is to be opened next
	revised  map[string]int    // times an answer was sent back, by the guardrail
	drafts   []Draft           // answers that were sent back for not being good
	acted    bool              // a call that is not a read was carried out, here or below
	notes    []string          // for the next turn, not yet in the thread
	under    int               // open threads below it

	first    counts // of the turn that it has not had yet
	own, sum counts // what is counted of it alone, and with all below it
}

// ID is the step of the call, leg or item that opened the thread; "" for the main thread.
func (t *Thread) ID() ledger.StepID { return t.id }

// Parent is the thread or relay that it was opened from; nil for the main thread.
func (t *Thread) Parent() *Thread { return t.parent }

// Opener is the call that opened it; nil where a leg, or the run itself, did.
func (t *Thread) Opener() *Call { return t.opener }

// Visit is that of the leg that opened it, and Item the number of it there; nil where no leg
// did.
func (t *Thread) Visit() (v *Visit, item int) { return t.visit, t.item }

// Opened is how the thread was opened; nil for the main thread and for relays.
func (t *Thread) Opened() *ledger.ThreadOpened { return t.opened }

// Agent holds the baton on the thread.
func (t *Thread) Agent() string { return t.agent }

// Messages are those of the thread, memory first.
func (t *Thread) Messages() []ledger.Message { return t.messages[:len(t.messages):len(t.messages)] }

// Hashes name the messages, one each.
func (t *Thread) Hashes() []ledger.Hash { return t.hashes[:len(t.hashes):len(t.hashes)] }

// Sent names the messages of the last turn that was sent.
func (t *Thread) Sent() []ledger.Hash { return t.sent[:len(t.sent):len(t.sent)] }

// Facts is the state as the thread sees it.
func (t *Thread) Facts() map[string]any { return t.facts }

// Turn is the newest turn; nil before the first.
func (t *Thread) Turn() *Turn { return t.turn }

// Turns counts the turns on the thread.
func (t *Thread) Turns() int { return t.turns }

// TurnsOf counts the turns that an agent has had on the thread.
func (t *Thread) TurnsOf(agent string) int { return t.byAgent[agent] }

// Pause gives the ticket of the turn that comes next; nil where nobody looks at it first.
func (t *Thread) Pause() *Ticket { return t.pause }

// Planned gives the call that took the newest step of the plan that is made on the thread; nil
// where there is none.
func (t *Thread) Planned() *Call { return t.planned }

// Revised counts how often a guardrail sent an answer on the thread back.
func (t *Thread) Revised(guardrail string) int { return t.revised[guardrail] }

// Drafts are the answers that were sent back for not being good, the oldest first.
func (t *Thread) Drafts() []Draft { return t.drafts }

// Draft is an answer that was sent back for not being good.
type Draft struct {
	Text    string
	Remarks string
	Score   int
}

// Judges says whether an answer is judged on the thread.
func (t *Thread) Judges() bool { return t.judges != nil }

// View gives the place of the first message that who holds the baton sees.
func (t *Thread) View() int { return t.view }

// Hooks counts the hooks that were fired on the thread.
func (t *Thread) Hooks() int { return t.hooks }

// Fired says whether a hook was fired already.
func (t *Thread) Fired(on ledger.Moment, n int, about ledger.StepID) bool {
	return t.fired[hookKey(on, n, about)]
}

func hookKey(on ledger.Moment, n int, about ledger.StepID) string {
	return fmt.Sprint(on, " ", n, " ", about)
}

// Hooking says whether a call of a hook is open, for which the thread waits.
func (t *Thread) Hooking() bool { return t.hooking > 0 || t.hooked != nil }

// Passed is the call that passed the baton last; "" where nobody did.
func (t *Thread) Passed() ledger.StepID { return t.passed }

// IsHook says whether the thread is the call of a hook.
func (t *Thread) IsHook() bool { return t.opened != nil && t.opened.Role == ledger.HookCall }

// Row counts the newest handoffs with no other call between them.
func (t *Thread) Row() int { return t.row }

// Pressed counts the turns whose calls were refused since those that the run may make are used
// up; newest says whether the newest turn is one of them.
func (t *Thread) Pressed() (turns int, newest bool) {
	return t.pressed, t.beyond != nil && t.beyond == t.turn
}

// again counts a call with one result.
type again struct {
	turns int
	last  ledger.StepID // the newest of them
}

// Repeated gives the tool whose same call brought the same result in most turns, and in how many.
func (t *Thread) Repeated() (tool string, times int) { return t.sameTool, t.sameMost }

// Acted says whether a call that is not a read was carried out on the thread or below it.
func (t *Thread) Acted() bool { return t.acted }

// Under counts the open threads right below it.
func (t *Thread) Under() int { return t.under }

// Quiet says whether nothing is in flight on the thread or below it.
func (t *Thread) Quiet() bool { return t.sum.flight == 0 }

// Knows says whether a handle names a result that the thread can use: one of its own, or of
// the threads that it was opened from.
func (t *Thread) Knows(handle string) bool {
	for ; t != nil; t = t.parent {
		if t.handles[handle] {
			return true
		}
	}
	return false
}

// HasHandles says whether there is any.
func (t *Thread) HasHandles() bool {
	for ; t != nil; t = t.parent {
		if len(t.handles) > 0 {
			return true
		}
	}
	return false
}

// Able says whether something may have to happen now on the thread itself.
func (t *Thread) Able() bool { return t.own.able > 0 }

// Waits says whether an attempt to be made again, or a person, is waited for on the thread
// itself.
func (t *Thread) Waits() bool { return t.own.timers > 0 || t.own.tickets > 0 }

// Speaks says whether agents speak on it, or a call is made.
func (t *Thread) Speaks() bool { return t.frame == nil && !t.relay }

// Depth counts the threads above it: 0 for the main thread.
func (t *Thread) Depth() int {
	n := 0
	for t = t.parent; t != nil; t = t.parent {
		n++
	}
	return n
}

// Wants says whether the thread wants a turn: it holds messages that none has answered.
func (t *Thread) Wants() bool {
	if !t.Speaks() {
		return false
	}
	return t.turn == nil || (t.turn.Phase == Received && (len(t.turn.Reply.Calls) > 0 || t.turn.revise) && t.turn.Over())
}

// Phase is how far a turn has come.
type Phase int

// The phases of a turn.
const (
	Sent      Phase = iota // in flight
	Retrying               // failed, to be sent again at RetryAt
	TurnLost               // in flight when the service ended
	TurnOver               // failed for good
	Received               // a reply is here; its calls may be open
	AskPeople              // lost too often; a ticket asks
)

// Turn is one request to a model and its reply.
type Turn struct {
	Step    ledger.StepID
	Thread  *Thread
	N       int
	Agent   string
	Model   string // asked now, or next
	Attempt int
	Tries   int // of the model asked now
	Phase   Phase
	SentAt  time.Time
	RetryAt time.Time
	Fired   bool // the timer of RetryAt has fired
	Problem *ledger.Problem
	Reply   *ledger.TurnReceived
	At      time.Time      // of the reply
	Facts   map[string]any // at the reply
	Calls   []*Call        // in the order the model made them
	Ticket  *Ticket

	reserve ledger.Reserve
	asked   string // the model of the newest attempt
	left    int    // calls that have not ended
	plain   int    // of these, without handoffs
	reads   int    // reads in flight
	next    int    // where the first write stands that has not ended
	blocked int    // the place of the first write that ended without returning; 0 is none
	passes  []*Call
	last    bool    // it sums up, as a limit has ended the run
	revise  bool    // its answer was sent back
	judging bool    // what judges its answer is open
	judged  *Result // what judged it has ended so; nil before
	counted counts
}

// Progress is how far a call has come.
type Progress int

// The progress of a call. The last three are ends.
const (
	Decided  Progress = iota
	Waiting           // an open ticket
	Allowed           // its ticket was settled: it may start
	InFlight          // started
	Opened            // the thread that it opened is open
	Left              // the thread that it opened is closed; to be recorded
	Again             // failed, to be started again at RetryAt
	CallLost          // in flight when the service ended
	Unsure            // nobody knows whether it happened
	Settled           // a person said what became of it; to be recorded
	Returned
	CallFailed
	CallRefused
)

// Over says whether the call has ended.
func (p Progress) Over() bool { return p >= Returned }

// Call is one call of a turn.
type Call struct {
	Step     ledger.StepID
	Turn     *Turn
	Decided  *ledger.CallDecided
	Args     json.RawMessage // as they will be sent: amended, perhaps
	Progress Progress
	Attempt  int
	At       time.Time // of the newest event about it
	RetryAt  time.Time
	Fired    bool
	Words    string
	Pictures []ledger.File   // that go with the words
	Result   json.RawMessage // of one that no model made
	Failure  *ledger.CallFailed
	Looked   *ledger.CallLooked // what was seen before a person is asked; nil: nothing was looked at
	Fresh    bool               // it was looked at since it was decided, or a person agreed
	Ticket   *Ticket
	Verdict  *ledger.GateSettled // of the gate, not of an outcome ticket
	Closed   *Result             // how what it opened ended

	counted counts
	ended   bool
	reading bool
	first   bool // it was decided in an event of version 1, whose messages did not say how calls ended
}

// writes says whether the call is one that goes in line with the other writes of its turn.
func (c *Call) writes() bool {
	d := c.Decided
	return d.Verdict != ledger.Pass && d.Verdict != ledger.Refuse && d.Verdict != ledger.Put && d.Effect != ledger.Read
}

// Ticket is a wait for a person.
type Ticket struct {
	Step    ledger.StepID
	Raised  *ledger.GateRaised
	At      time.Time
	Votes   []*ledger.GateVoted // that count: for the values as they are now
	Settled *ledger.GateSettled
	Fired   bool // its deadline has passed

	Escalated bool // more people may settle it
	changed   *ledger.GateVoted
}

// Open says whether the ticket still waits.
func (t *Ticket) Open() bool { return t != nil && t.Settled == nil }

// Args gives the arguments that the ticket is about: as somebody has changed them, where more
// people have to agree.
func (t *Ticket) Args() json.RawMessage {
	if t.changed != nil {
		return t.changed.Args
	}
	return t.Raised.Args
}

// Ask gives the question, likewise.
func (t *Ticket) Ask() string {
	if t.changed != nil {
		return t.changed.Ask
	}
	return t.Raised.Ask
}

// Shown is the hash of what a person is shown of the ticket now.
func (t *Ticket) Shown() ledger.Hash {
	if t.changed != nil {
		return t.changed.Shown
	}
	return t.Raised.Shown
}

// Changed says whether somebody has changed the arguments.
func (t *Ticket) Changed() bool { return t.changed != nil }

// For lists who may settle the ticket now; none is anybody.
func (t *Ticket) For() []string {
	by := t.Raised.By
	if t.Escalated {
		by = append(slices.Clip(by), t.Raised.Escalate.To...)
	}
	return by
}

// Judged gives how what judged the answer of the turn has ended, and whether one is open.
func (t *Turn) Judged() (r *Result, open bool) { return t.judged, t.judging }

// Last says whether the turn sums up, as a limit has ended the run.
func (t *Turn) Last() bool { return t.last }

// Revise says whether the answer of the turn was sent back.
func (t *Turn) Revise() bool { return t.revise }

// Decided says whether every call of the turn has its verdict.
func (t *Turn) Decided() bool { return t.Reply != nil && len(t.Calls) == len(t.Reply.Calls) }

// Over says whether every call of the turn has ended.
func (t *Turn) Over() bool { return t.Decided() && t.left == 0 }

// Reading counts the reads of the turn that are in flight.
func (t *Turn) Reading() int { return t.reads }

// Plain counts the calls of the turn that have not ended, handoffs not counted.
func (t *Turn) Plain() int { return t.plain }
