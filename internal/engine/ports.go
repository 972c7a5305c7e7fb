package engine

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
)

// Errors of a Log.
var (
	ErrConflict  = errors.New("another writer has appended to the run")
	ErrFenced    = errors.New("a newer driver has the run")
	ErrBusy      = errors.New("the session has a run that is not over")
	ErrTaken     = errors.New("the id is taken")
	ErrNoRun     = errors.New("there is no such run")
	ErrNoSession = errors.New("there is no such session")
)

// Batch is appended whole or not at all.
type Batch struct {
	Run    string
	Events []ledger.Event
	Epoch  int64                  // of the driver that appends
	Parts  map[ledger.Hash][]byte // of requests, by content
	Head   view.Head
	Kept   *run.Kept // what the session keeps of the run, where it is over; nil while it is not
}

// Opening is the first batch of a run.
type Opening struct {
	Batch
	Session, Project, Person, Text string
	New                            bool  // the session begins with it
	Inbox                          int64 // the message it takes from the inbox; 0 is none
}

// Session is a line of runs.
type Session struct {
	ID     string
	Runs   int
	Last   string    // newest run; "" before the first
	Busy   bool      // Last is not over
	Person string    // whose it is
	Shared []string  // who else may go on in it
	Kept   *run.Kept // of Last, where it is over; nil where an earlier program closed it
}

// OthersError says that a session is somebody else's.
type OthersError struct{ Session, Person, Asks string }

func (e *OthersError) Error() string {
	return fmt.Sprintf("the session %s is not one of %s", e.Session, e.Asks)
}

// speaker gives whom a message in a session is from: whose it is, where nobody is named.
func (s Session) speaker(name string) (string, error) {
	switch {
	case name == "":
		return s.Person, nil
	case name == s.Person || slices.Contains(s.Shared, name):
		return name, nil
	}
	return "", &OthersError{Session: s.ID, Person: s.Person, Asks: name}
}

// Waiting is a message in a session's inbox.
type Waiting struct {
	ID    int64
	Start Start
}

// Log keeps ledgers. All methods may be called side by side; batches of one run come one
// after the other. Append and Open return nil when the batch is on disk, and any error means
// that nothing of it is: ErrConflict where the batch does not follow the newest event,
// ErrFenced where a newer driver has the run, ErrNoRun, ErrNoSession, ErrBusy and ErrTaken as
// they say. Package logtest tests an implementation of Records.
type Log interface {
	Open(ctx context.Context, o Opening) error
	Append(ctx context.Context, b Batch) error
	// Read gives the events of a run after one, in order. An error is the last it gives.
	Read(ctx context.Context, run string, after int64) iter.Seq2[ledger.Event, error]
	// Lease gives a run to a driver: batches with an older epoch are refused from then on.
	Lease(ctx context.Context, run string) (epoch int64, err error)
	Unfinished(ctx context.Context) ([]string, error) // runs that are neither over nor held
	Session(ctx context.Context, id string) (Session, error)
}

// Inbox keeps messages that wait until their session's run is over. Its methods may be
// called side by side.
type Inbox interface {
	Enqueue(ctx context.Context, s Start) error
	Inbox(ctx context.Context, session string) (Waiting, bool, error)
	Queues(ctx context.Context) ([]string, error) // the session of each message that waits
}

// Timers keeps what becomes due: the deadlines of tickets, and attempts to be made again.
// They come and go with the events that set and end them. It may be called side by side.
type Timers interface {
	Due(ctx context.Context, now time.Time) (runs []string, next time.Time, err error)
}

// Aside is a call of a run that waits for people in a run of its own.
type Aside struct {
	Run     string
	Step    ledger.StepID
	Session string        // that it is the one run of
	Status  ledger.Status // of that run; "" where it was not begun yet
}

// Asides keeps the calls that wait aside, from the event that puts one there until what became
// of it was told. Its methods may be called side by side.
type Asides interface {
	// Asides lists those of a session, or all where it is "".
	Asides(ctx context.Context, session string) ([]Aside, error)
	// TellAside puts a message into the inbox of the conversation and takes the aside out, at
	// once; false says that it was told before.
	TellAside(ctx context.Context, a Aside, s Start) (bool, error)
}

// Records is all that is kept.
type Records interface {
	Log
	Inbox
	Timers
	Asides
}

// All gives a whole ledger.
func All(read iter.Seq2[ledger.Event, error]) ([]ledger.Event, error) {
	var out []ledger.Event
	for e, err := range read {
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// Models asks models. Ask may be called side by side. It calls delta, where it is not
// nil, with the words as they come, never after it has returned; a failure says
// whether the same request may be sent again.
type Models interface {
	Ask(ctx context.Context, p *project.Project, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure)
}

// Tools carries calls out. Both methods may be called side by side, also for the
// same tool. A failure says what is known of the outcome: NotDone promises that
// nothing happened.
type Tools interface {
	Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure)
	// Look gives the difference that a call would make, or why it cannot succeed. It
	// changes nothing. It is asked of tools for which project.Tool.Looks holds.
	Look(ctx context.Context, i deed.Invocation) (diff string, bad *deed.Failure)
}

// Projects finds the version of a project that a run was opened with. Its methods may
// be called side by side, and what they give is not changed afterwards. An error of
// Current is fit to be read by a person.
type Projects interface {
	Current() (*project.Project, error)
	Version(ctx context.Context, h ledger.Hash) (*project.Project, error)
}

// Blanker takes secrets out of what comes from outside. Its methods may be called side
// by side; those that Stream gives may not.
type Blanker interface {
	Text(string) string
	Value(any) any
	// Raw takes them out of the texts of JSON, and says whether it has. Empty says that there
	// are none, so that nothing has to be looked at.
	Raw([]byte) ([]byte, bool)
	Empty() bool
	Stream(func(string)) (write func(string), flush func())
}

// Live is told what was committed, the words of a turn and the lines of a call as they come,
// and what keeps a run from going on. Its methods may be called side by side and must not block.
type Live interface {
	Committed(run string, events []ledger.Event)
	Delta(run string, step ledger.StepID, text string)
	// Trouble tells what keeps a run from going on for now; "" where it goes on again.
	Trouble(run, say string)
}

// Clock tells the time and waits for it. Its methods may be called side by side.
type Clock interface {
	Now() time.Time
	// Until gives a channel that delivers at due. Idle says that nothing but
	// time can make the run go on, so a made-up clock may jump there.
	Until(due time.Time, idle bool) (<-chan time.Time, func())
}

// Pause waits on a clock, or until ctx ends, whose error it then gives. Idle is as for Until.
func Pause(ctx context.Context, c Clock, wait time.Duration, idle bool) error {
	due, stop := c.Until(c.Now().Add(wait), idle)
	defer stop()
	select {
	case <-due:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// WallClock is the real time.
type WallClock struct{}

// Now is the wall's time, to the microsecond.
func (WallClock) Now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// Until waits in real time.
func (WallClock) Until(due time.Time, _ bool) (<-chan time.Time, func()) {
	t := time.NewTimer(time.Until(due))
	return t.C, func() { t.Stop() }
}
