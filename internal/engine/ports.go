package engine

import (
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
)

// Errors of a Log.
var (
	ErrConflict  = errors.New("another writer has appended to the run")
	ErrBusy      = errors.New("the session has a run that is not over")
	ErrTaken     = errors.New("the id is taken")
	ErrNoRun     = errors.New("there is no such run")
	ErrNoSession = errors.New("there is no such session")
)

// Head is what the list of runs shows of a run; it is stored with every append.
type Head struct {
	Status           ledger.Status
	Agent            string
	Path             []string // the agents that have held the baton, in order
	Called           []string // tools
	Models           []string // that answered
	Turns, Calls     int
	Tokens           ledger.Usage
	Cost             float64
	Worked           time.Duration
	Answer           string
	Problem          *ledger.Problem
	OpenedAt, LastAt time.Time
}

// Batch is appended whole or not at all.
type Batch struct {
	Run    string
	Events []ledger.Event
	Parts  map[ledger.Hash][]byte // of requests, by content
	Head   Head
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
	ID   string
	Runs int
	Last string // newest run; "" before the first
	Busy bool   // Last is not over
}

// Waiting is a message in a session's inbox.
type Waiting struct {
	ID    int64
	Start Start
}

// Log keeps ledgers and what goes with them. All methods may be called side by side;
// batches of one run come one after the other. Append and Open return nil when the
// batch is on disk, and any error means that nothing of it is: ErrConflict where the
// batch does not follow the newest event, ErrNoRun, ErrNoSession, ErrBusy and ErrTaken
// as they say. Package logtest tests an implementation.
type Log interface {
	Open(ctx context.Context, o Opening) error
	Append(ctx context.Context, b Batch) error
	Read(ctx context.Context, run string) ([]ledger.Event, error)
	Session(ctx context.Context, id string) (Session, error)
	Enqueue(ctx context.Context, s Start) error
	Inbox(ctx context.Context, session string) (Waiting, bool, error)
	Queues(ctx context.Context) ([]string, error)     // the session of each message that waits
	Unfinished(ctx context.Context) ([]string, error) // runs that are neither over nor held
	Due(ctx context.Context, now time.Time) (runs []string, next time.Time, err error)
}

// Models asks models. Ask may be called side by side. It calls delta, where it is not
// nil, with the words as they come, never after it has returned; a failure says
// whether the same request may be sent again.
type Models interface {
	Ask(ctx context.Context, p *project.Project, r prompt.Request, delta func(string)) (prompt.Reply, *loop.ModelFailure)
}

// Invocation is one attempt at a tool call.
type Invocation struct {
	Project *project.Project
	Tool    *project.Tool
	Args    any
	Vars    expr.Vars
	Facts   map[string]any // the state, as JSON has it
	Key     string         // the same at every attempt
	Step    string         // of the run; "" on the bench
	Stub    bool
	Bench   bool // tried alone: more of the raw reply is kept
	Run     string
	Person  string
	Pause   func(context.Context, time.Duration) error // waits; a drill's does not take the time
	Log     func(line string)                          // is told what a call says of itself while it goes; nil: nobody listens
}

// Logs gives a writer that tells each line of what is written to it as the call's.
func (i Invocation) Logs() io.Writer {
	if i.Log == nil {
		return io.Discard
	}
	return &lines{say: i.Log}
}

// maxLine bounds a line that is told.
const maxLine = 500

type lines struct {
	say  func(string)
	rest []byte
}

func (l *lines) Write(p []byte) (int, error) {
	for _, b := range p {
		switch {
		case b == '\n':
			if line := strings.TrimSpace(strings.ToValidUTF8(string(l.rest), "�")); line != "" {
				l.say(line)
			}
			l.rest = l.rest[:0]
		case len(l.rest) < maxLine:
			l.rest = append(l.rest, b)
		}
	}
	return len(p), nil
}

// Tools carries calls out. Both methods may be called side by side, also for the
// same tool. A failure says what is known of the outcome: NotDone promises that
// nothing happened.
type Tools interface {
	Call(ctx context.Context, i Invocation) (loop.Result, *loop.Failure)
	// Look gives the difference that a call would make, or why it cannot succeed. It
	// changes nothing. It is asked of tools for which project.Tool.Looks holds.
	Look(ctx context.Context, i Invocation) (diff string, bad *loop.Failure)
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
	Stream(func(string)) (write func(string), flush func())
}

// Live is told what was committed, and the words of a turn and the lines of a call
// as they come. Its methods may be called side by side and must not block.
type Live interface {
	Committed(run string, events []ledger.Event)
	Delta(run, step, text string)
}

// Clock tells the time and waits for it. Its methods may be called side by side.
type Clock interface {
	Now() time.Time
	// Until gives a channel that delivers at due. Idle says that nothing but
	// time can make the run go on, so a made-up clock may jump there.
	Until(due time.Time, idle bool) (<-chan time.Time, func())
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
