package ledger

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Kind names what an event records, as noun.verb-in-the-past.
type Kind string

// The kinds of events this version writes and reads.
const (
	KindRunOpened    Kind = "run.opened"
	KindStopAsked    Kind = "run.stop_asked"
	KindRunRecovered Kind = "run.recovered"
	KindRunClosed    Kind = "run.closed"
	KindThreadOpened Kind = "thread.opened"
	KindThreadClosed Kind = "thread.closed"
	KindFrameOpened  Kind = "frame.opened"
	KindFrameClosed  Kind = "frame.closed"
	KindLegEntered   Kind = "leg.entered"
	KindLegLeft      Kind = "leg.left"
	KindGuardrail    Kind = "guardrail.settled"
	KindHookFired    Kind = "hook.fired"
	KindTurnSent     Kind = "turn.sent"
	KindTurnReceived Kind = "turn.received"
	KindTurnFailed   Kind = "turn.failed"
	KindCallDecided  Kind = "call.decided"
	KindCallLooked   Kind = "call.looked"
	KindCallStarted  Kind = "call.started"
	KindCallReturned Kind = "call.returned"
	KindCallFailed   Kind = "call.failed"
	KindCallRefused  Kind = "call.refused"
	KindBatonPassed  Kind = "baton.passed"
	KindStateChanged Kind = "state.changed"
	KindFileUndone   Kind = "file.undone"
	KindGateRaised   Kind = "gate.raised"
	KindGateVoted    Kind = "gate.voted"
	KindGateSettled  Kind = "gate.settled"
	KindTimerFired   Kind = "timer.fired"
	KindLimitReached Kind = "limit.reached"
)

// strict is the first version of any kind that is read strictly: what is not known in it is
// an error. Older ones are read as they were written.
const strict = 2

// row is what the table says of a kind. To add a kind, add its name, its data, and a row.
type row struct {
	version int                                                  // the newest that this program writes
	blank   func() Data                                          // to read into
	upgrade func(step StepID, fields map[string]json.RawMessage) // takes the fields of version 1 to the newest; nil: they are the same
}

var table = map[Kind]row{
	KindRunOpened:    {2, func() Data { return &RunOpened{} }, nil},
	KindStopAsked:    {2, func() Data { return &StopAsked{} }, nil},
	KindRunRecovered: {2, func() Data { return &RunRecovered{} }, nil},
	KindRunClosed:    {2, func() Data { return &RunClosed{} }, nil},
	KindThreadOpened: {2, func() Data { return &ThreadOpened{} }, nil},
	KindThreadClosed: {2, func() Data { return &ThreadClosed{} }, nil},
	KindFrameOpened:  {2, func() Data { return &FrameOpened{} }, nil},
	KindFrameClosed:  {2, func() Data { return &FrameClosed{} }, nil},
	KindLegEntered:   {2, func() Data { return &LegEntered{} }, nil},
	KindLegLeft:      {2, func() Data { return &LegLeft{} }, nil},
	KindGuardrail:    {2, func() Data { return &GuardrailSettled{} }, nil},
	KindHookFired:    {2, func() Data { return &HookFired{} }, nil},
	KindTurnSent:     {2, func() Data { return &TurnSent{} }, nil},
	KindTurnReceived: {2, func() Data { return &TurnReceived{} }, nil},
	KindTurnFailed:   {2, func() Data { return &TurnFailed{} }, nil},
	KindCallDecided:  {2, func() Data { return &CallDecided{} }, ofTurn},
	KindCallLooked:   {2, func() Data { return &CallLooked{} }, nil},
	KindCallStarted:  {2, func() Data { return &CallStarted{} }, nil},
	KindCallReturned: {2, func() Data { return &CallReturned{} }, nil},
	KindCallFailed:   {2, func() Data { return &CallFailed{} }, nil},
	KindCallRefused:  {2, func() Data { return &CallRefused{} }, nil},
	KindBatonPassed:  {2, func() Data { return &BatonPassed{} }, nil},
	KindStateChanged: {2, func() Data { return &StateChanged{} }, nil},
	KindFileUndone:   {2, func() Data { return &FileUndone{} }, nil},
	KindGateRaised:   {2, func() Data { return &GateRaised{} }, nil},
	KindGateVoted:    {2, func() Data { return &GateVoted{} }, nil},
	KindGateSettled:  {2, func() Data { return &GateSettled{} }, nil},
	KindTimerFired:   {2, func() Data { return &TimerFired{} }, ofWhat},
	KindLimitReached: {2, func() Data { return &LimitReached{} }, nil},
}

// ofTurn gives the owner of a call its newer name.
func ofTurn(_ StepID, f map[string]json.RawMessage) {
	f["of"] = f["turn"]
	delete(f, "turn")
}

// ofWhat says what a timer was for. Before, a timer of a step was for whatever waited there.
func ofWhat(step StepID, f map[string]json.RawMessage) {
	what := ForEither
	if step == LimitTimer {
		what = ForLimit
	}
	f["what"], _ = json.Marshal(what) // a text can always be written
}

// Kinds lists the kinds of events in the order of their names.
func Kinds() []Kind { return slices.Sorted(maps.Keys(table)) }

// Event is one line of a run's ledger. Seq counts from 1 without gaps; At
// never goes back within a run. Step is empty for events about the whole run. Thread
// follows from Step. V is the version of its kind.
type Event struct {
	Run    string    `json:"run"`
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	V      int       `json:"v"`
	Kind   Kind      `json:"kind"`
	Thread string    `json:"thread"`
	Step   StepID    `json:"step,omitempty"`
	Data   Data      `json:"data"`
}

// Data is what an event says; its type follows from the kind. The interface is
// sealed: the types in this package are all there are.
type Data interface{ kind() Kind }

// New gives an event of the kind that data belongs to, not yet numbered or dated.
func New(step StepID, data Data) Event {
	k := data.kind()
	return Event{V: table[k].version, Kind: k, Thread: ThreadName(step), Step: step, Data: data}
}

// UnknownError says that a ledger holds something that a newer program wrote.
// The run can be listed but neither shown nor continued.
type UnknownError struct {
	Run  string
	Seq  int64
	Kind Kind
	V    int
	What string // beside kind and version, what is not known
}

func (e *UnknownError) Error() string {
	what := e.What
	if what == "" {
		what = fmt.Sprintf("this one reads it up to version %d", table[e.Kind].version)
		if _, ok := table[e.Kind]; !ok {
			what = "this one does not know the kind"
		}
	}
	return fmt.Sprintf("run %s, event %d: kind %q, version %d was written by a newer Stone Baton: %s, so the run stays as it is until you use the newer program", e.Run, e.Seq, e.Kind, e.V, what)
}

// EncodeData writes an event's data as JSON.
func EncodeData(d Data) (json.RawMessage, error) { return json.Marshal(d) }

// DecodeData reads the data of an event whose other fields are filled in.
func DecodeData(e Event, raw []byte) (Data, error) {
	unknown := func(what string) error {
		return &UnknownError{Run: e.Run, Seq: e.Seq, Kind: e.Kind, V: e.V, What: what}
	}
	bad := func(err error) error {
		return fmt.Errorf("run %s, event %d (%s): the data cannot be read: %w", e.Run, e.Seq, e.Kind, err)
	}
	r, ok := table[e.Kind]
	if !ok || e.V > r.version {
		return nil, unknown("")
	}
	d := r.blank()
	if e.V < strict && r.upgrade != nil {
		fields := map[string]json.RawMessage{}
		if err := json.Unmarshal(raw, &fields); err != nil {
			return nil, bad(err)
		}
		r.upgrade(e.Step, fields)
		var err error
		if raw, err = json.Marshal(fields); err != nil {
			return nil, bad(err)
		}
	}
	if e.V < strict {
		if err := json.Unmarshal(raw, d); err != nil {
			return nil, bad(err)
		}
		return d, nil
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	err := dec.Decode(d)
	switch {
	case err == nil:
		return d, nil
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		return nil, unknown("it has a field " + strings.TrimPrefix(err.Error(), "json: unknown field ") + " that this one does not know")
	}
	return nil, bad(err)
}

// UnmarshalJSON reads an event with its data.
func (e *Event) UnmarshalJSON(raw []byte) error {
	type bare Event
	var w struct {
		bare
		Data json.RawMessage `json:"data"`
	}
	if err := json.Unmarshal(raw, &w); err != nil {
		return err
	}
	*e = Event(w.bare)
	d, err := DecodeData(*e, w.Data)
	e.Data = d
	return err
}

// Newest is the highest version that any kind has.
func Newest() int {
	n := 0
	for _, r := range table {
		n = max(n, r.version)
	}
	return n
}
