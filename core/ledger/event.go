package ledger

import (
	"encoding/json"
	"fmt"
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
	KindGateSettled  Kind = "gate.settled"
	KindTimerFired   Kind = "timer.fired"
)

// Version is the newest version of event data that this program understands.
const Version = 1

// MainThread is the thread on which a run begins.
const MainThread = "main"

// Event is one line of a run's ledger. Seq counts from 1 without gaps; At
// never goes back within a run. Step is empty for events about the whole run.
type Event struct {
	Run    string    `json:"run"`
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	V      int       `json:"v"`
	Kind   Kind      `json:"kind"`
	Thread string    `json:"thread"`
	Step   string    `json:"step,omitempty"`
	Data   Data      `json:"data"`
}

// Data is what an event says; its type follows from the kind. The interface is
// sealed: the types in this package are all there are.
type Data interface{ Kind() Kind }

// New gives an event of the kind that data belongs to, not yet numbered or dated.
func New(step string, data Data) Event {
	return Event{V: Version, Kind: data.Kind(), Thread: MainThread, Step: step, Data: data}
}

// UnknownError says that a ledger holds something that a newer program wrote.
// The run can be listed but neither shown nor continued.
type UnknownError struct {
	Run  string
	Seq  int64
	Kind Kind
	V    int
}

func (e *UnknownError) Error() string {
	return fmt.Sprintf("run %s, event %d: kind %q, version %d was written by a newer Stone Baton; this one can read up to version %d, so the run stays as it is until you use the newer program", e.Run, e.Seq, e.Kind, e.V, Version)
}

// EncodeData writes an event's data as JSON.
func EncodeData(d Data) (json.RawMessage, error) { return json.Marshal(d) }

// DecodeData reads the data of an event whose other fields are filled in.
func DecodeData(e Event, raw []byte) (Data, error) {
	d := blank(e.Kind)
	if d == nil || e.V > Version {
		return nil, &UnknownError{Run: e.Run, Seq: e.Seq, Kind: e.Kind, V: e.V}
	}
	if err := json.Unmarshal(raw, d); err != nil {
		return nil, fmt.Errorf("run %s, event %d (%s): the data cannot be read: %w", e.Run, e.Seq, e.Kind, err)
	}
	return d, nil
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

func blank(k Kind) Data {
	switch k {
	case KindRunOpened:
		return &RunOpened{}
	case KindStopAsked:
		return &StopAsked{}
	case KindRunRecovered:
		return &RunRecovered{}
	case KindRunClosed:
		return &RunClosed{}
	case KindTurnSent:
		return &TurnSent{}
	case KindTurnReceived:
		return &TurnReceived{}
	case KindTurnFailed:
		return &TurnFailed{}
	case KindCallDecided:
		return &CallDecided{}
	case KindCallLooked:
		return &CallLooked{}
	case KindCallStarted:
		return &CallStarted{}
	case KindCallReturned:
		return &CallReturned{}
	case KindCallFailed:
		return &CallFailed{}
	case KindCallRefused:
		return &CallRefused{}
	case KindBatonPassed:
		return &BatonPassed{}
	case KindStateChanged:
		return &StateChanged{}
	case KindFileUndone:
		return &FileUndone{}
	case KindGateRaised:
		return &GateRaised{}
	case KindGateSettled:
		return &GateSettled{}
	case KindTimerFired:
		return &TimerFired{}
	}
	return nil
}
