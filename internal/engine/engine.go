package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	mrand "math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// Config is what an engine is made of. Jitter gives a number from 0 to 1; nil
// is chance.
type Config struct {
	Log      Records
	Models   Models
	Tools    Tools
	Projects Projects
	Blanker  Blanker
	Live     Live
	Clock    Clock
	Jitter   func() float64
	Logger   *slog.Logger
	NewID    func() string // of a session; nil is chance
	Grace    time.Duration // that a stopped run's deeds get to end; 0 is 10 s
	Room     func() error  // says why no new run can begin now, as where the disk is nearly full; nil: one always can
}

// Engine drives the runs of one project.
type Engine struct {
	Config
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup
	bell   chan struct{} // a ticket with a deadline may have come

	mu      sync.Mutex
	drivers map[string]*driver
	waiting map[string]int // messages in the inbox of each session, so that none is looked for in vain
	closing bool
}

// New gives an engine; Start begins its work.
func New(c Config) *Engine {
	if c.Jitter == nil {
		c.Jitter = mrand.Float64
	}
	if c.NewID == nil {
		c.NewID = shortID
	}
	if c.Grace == 0 {
		c.Grace = 10 * time.Second
	}
	if c.Room == nil {
		c.Room = func() error { return nil }
	}
	if c.Logger == nil {
		c.Logger = slog.New(slog.DiscardHandler)
	}
	ctx, cancel := context.WithCancel(context.Background())
	return &Engine{Config: c, ctx: ctx, cancel: cancel, bell: make(chan struct{}, 1), drivers: map[string]*driver{}, waiting: map[string]int{}}
}

// shortID gives five letters and digits that cannot be misread.
func shortID() string {
	const set = "23456789abcdefghjkmnpqrstvwxyz"
	var b [5]byte
	_, _ = rand.Read(b[:]) // never fails
	for i := range b {
		b[i] = set[int(b[i])%len(set)]
	}
	return string(b[:])
}

// Start fires the timers that are overdue, recovers the runs that were under
// way when the service ended, and looks after deadlines from then on.
func (e *Engine) Start(ctx context.Context) error {
	if _, err := e.FireDue(ctx); err != nil {
		return err
	}
	runs, err := e.Log.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		e.post(r, note{})
	}
	queues, err := e.Log.Queues(ctx)
	if err != nil {
		return err
	}
	for _, s := range queues {
		e.waits(s, 1)
		e.pump(s)
	}
	e.asides("")
	e.wg.Add(1)
	go e.deadlines()
	return nil
}

// FireDue wakes every held run whose deadline has passed and gives the next deadline.
func (e *Engine) FireDue(ctx context.Context) (time.Time, error) {
	runs, next, err := e.Log.Due(ctx, e.Clock.Now())
	if err != nil {
		return time.Time{}, err
	}
	for _, r := range runs {
		e.post(r, note{})
	}
	return next, nil
}

func (e *Engine) deadlines() {
	defer e.wg.Done()
	for {
		next, err := e.FireDue(e.ctx)
		if e.ctx.Err() != nil {
			return
		}
		if err != nil {
			e.Logger.Error("failed to read the deadlines", "error", err)
			next = e.Clock.Now().Add(time.Second)
		}
		var due <-chan time.Time
		stop := func() {}
		if !next.IsZero() {
			due, stop = e.Clock.Until(next, false)
		}
		select {
		case <-e.ctx.Done():
			stop()
			return
		case <-e.bell:
			stop()
		case <-due:
		}
	}
}

// Close ends every driver where it stands, without closing its run: the next
// start goes on from the ledger. Calls that are under way get a few seconds to
// end, so that nobody has to be asked whether they happened; turns do not, since
// they can be asked again.
func (e *Engine) Close() {
	e.mu.Lock()
	first := !e.closing
	e.closing = true
	for _, d := range e.drivers {
		d.put(note{}) // so that it looks up
	}
	e.mu.Unlock()
	if first {
		late, cancel := context.WithTimeout(e.ctx, e.Grace/2)
		_ = e.Wait(late) // what has not ended by then is recovered at the next start
		cancel()
	}
	e.cancel()
	e.wg.Wait()
}

// ending says whether no new deed may begin.
func (e *Engine) ending() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.closing
}

// Wait blocks until no driver is at work.
func (e *Engine) Wait(ctx context.Context) error {
	for {
		e.mu.Lock()
		var d *driver
		for _, d = range e.drivers {
			break
		}
		e.mu.Unlock()
		if d == nil {
			return nil
		}
		select {
		case <-d.gone:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Local is the one person there is where it is not known who is who.
const Local = "local"

// Start is what a run begins with.
type Start struct {
	Session  string                   `json:"session,omitempty"` // "" begins one
	Text     string                   `json:"text"`
	Person   string                   `json:"person,omitempty"`
	Agent    string                   `json:"agent,omitempty"` // "" is the last holder of the baton, or the project's start
	Tools    ledger.Tools             `json:"tools,omitempty"`
	Rung     ledger.Rung              `json:"rung,omitempty"`  // for all tools; none goes higher than the files let it
	Rungs    map[string]ledger.Rung   `json:"rungs,omitempty"` // for some
	Model    string                   `json:"model,omitempty"`
	PersonAt []ledger.Place           `json:"person_at,omitempty"` // where a person looks at every step of the run
	Turns    int                      `json:"turns,omitempty"`     // the limit of turns, in place of the project's
	State    map[string]any           `json:"state,omitempty"`     // facts to begin with, for a new session
	Relay    string                   `json:"relay,omitempty"`     // to go through in place of asking an agent; "" is the project's start, where that is one
	Input    json.RawMessage          `json:"input,omitempty"`     // of the relay
	From     string                   `json:"from,omitempty"`      // the leg that the relay begins with
	Kept     json.RawMessage          `json:"kept,omitempty"`      // what it has kept by then
	Until    string                   `json:"until,omitempty"`     // the leg that it ends with
	Call     *ledger.Ask              `json:"call,omitempty"`      // one call in place of a message: no model is asked
	Via      string                   `json:"via,omitempty"`       // what brought it
	Sets     json.RawMessage          `json:"sets,omitempty"`      // facts that come with it, for a session that is there
	Beside   *ledger.Beside           `json:"-"`                   // the call of another run that it is
	New      string                   `json:"-"`                   // the id of the session that it begins; "" is chance
	Consults map[string]ledger.Canned `json:"consults,omitempty"`  // agents that are not run when they are consulted: what they answer
	Legs     map[string]ledger.Canned `json:"legs,omitempty"`      // of the relay that are not gone into: what they bring
}

// Begun tells where a message went.
type Begun struct {
	Run, Session string
	WaitsFor     string // the run it waits for in the inbox; Run is empty then
}

func refused(remedy, format string, args ...any) error {
	return &loop.RefusedError{Say: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Begin opens a run, or puts the message into the session's inbox where a run
// of the session is not over.
func (e *Engine) Begin(ctx context.Context, st Start) (Begun, error) {
	if err := e.Room(); err != nil {
		return Begun{}, err
	}
	p, err := e.Projects.Current()
	if err != nil {
		return Begun{}, err
	}
	if st, err = throughRelay(p, st); err != nil {
		return Begun{}, err
	}
	if strings.TrimSpace(st.Text) == "" && st.Call == nil {
		return Begun{}, refused("Write what you want.", "the message is empty")
	}
	if st.Session != "" {
		s, err := e.Log.Session(ctx, st.Session)
		if err != nil {
			return Begun{}, e.troubled(err)
		}
		if st.Person, err = s.speaker(st.Person); err != nil {
			return Begun{}, err
		}
	}
	st.Person = cmp.Or(st.Person, Local)
	switch st.Tools {
	case "":
		st.Tools = ledger.ToolsLive
	case ledger.ToolsLive, ledger.ToolsStubs, ledger.ToolsOff:
	default:
		return Begun{}, refused("Use live, stubs or off.", "tools cannot be %q", st.Tools)
	}
	if err := checkRungs(p, st); err != nil {
		return Begun{}, err
	}
	if st.Agent != "" && p.Agents[st.Agent] == nil {
		return Begun{}, refused("`stonebaton tools` and the project's files show what there is.", "unknown agent %q.%s", st.Agent, near.Hint(st.Agent, names(p.Agents)))
	}
	if st.Model != "" && p.Models[st.Model] == nil {
		return Begun{}, refused("`stonebaton models` lists them.", "unknown model %q.%s", st.Model, near.Hint(st.Model, names(p.Models)))
	}
	for _, at := range st.PersonAt {
		if !slices.Contains(ledger.Places(), at) {
			return Begun{}, refused("The places are turns, calls and answer.", "unknown place %q", at)
		}
	}
	if st.Turns < 0 || st.Turns > mostTurns {
		return Begun{}, refused(fmt.Sprintf("Give a number from 1 to %d.", mostTurns), "a run cannot have %d turns", st.Turns)
	}
	if st.State != nil && st.Session != "" {
		return Begun{}, refused("Omit the session to begin a new one.", "a session that exists keeps its state; a state can be given to a new one only")
	}
	if st.State != nil {
		if faults := p.CheckState(st.State); len(faults) > 0 {
			return Begun{}, refused("state: in stonebaton.yaml describes it.", "the given state does not fit: %s", schema.Say(faults))
		}
	}
	st.Text = e.Blanker.Text(st.Text)
	if facts, ok := e.Blanker.Value(any(st.State)).(map[string]any); ok && st.State != nil {
		st.State = facts
	}
	st.Input = json.RawMessage(e.Blanker.Text(string(st.Input)))
	st.Kept = json.RawMessage(e.Blanker.Text(string(st.Kept)))
	if st.Call != nil {
		call := *st.Call
		call.Args = e.Blanker.Text(call.Args)
		st.Call, st.Text = &call, call.Tool
	}
	b, err := e.open(ctx, p, st, 0)
	if !errors.Is(err, ErrBusy) {
		return b, e.troubled(err)
	}
	s, err := e.Log.Session(ctx, st.Session)
	if err == nil {
		err = e.Log.Enqueue(ctx, st)
	}
	if err != nil {
		return Begun{}, e.troubled(err)
	}
	e.waits(st.Session, 1)
	e.pump(st.Session) // the run may have ended meanwhile
	return Begun{Session: st.Session, WaitsFor: s.Last}, nil
}

// throughRelay fills in what a run through a relay begins with, and holds it against the
// relay's input: what is said to a project that starts at a relay is the text of that.
func throughRelay(p *project.Project, st Start) (Start, error) {
	if st.Relay == "" && st.Agent == "" && st.Call == nil && p.Relays[p.Start] != nil {
		if strings.TrimSpace(st.Text) == "" {
			return st, nil
		}
		st.Relay = p.Start
		st.Input, _ = json.Marshal(map[string]string{p.Relays[p.Start].Spoken(): st.Text}) // a text can always be written
	}
	if st.Relay == "" {
		if st.From != "" || st.Until != "" || len(st.Kept) > 0 {
			return st, refused("Name the relay.", "from, until and kept are of a run through a relay")
		}
		return st, nil
	}
	r := p.Relays[st.Relay]
	switch {
	case r == nil:
		return st, refused("`stonebaton check` and the project's files show what there is.", "unknown relay %q.%s", st.Relay, near.Hint(st.Relay, names(p.Relays)))
	case st.Agent != "":
		return st, refused("Omit one of them.", "a run begins with an agent or with a relay, not with both")
	case len(st.Input) == 0 && st.Text != "" && r.Spoken() != "":
		st.Input, _ = json.Marshal(map[string]string{r.Spoken(): st.Text}) // likewise
	case len(st.Input) == 0:
		st.Input = json.RawMessage(`{}`)
	}
	input, err := loop.ReadInput(r, st.Input)
	if err != nil {
		return st, refused("`stonebaton schema input "+r.Name+"` gives its schema.", "%v", err)
	}
	st.Input = input
	if err := partOf(r, st); err != nil {
		return st, err
	}
	if st.Text == "" {
		fields, _ := value.ReadObject(input) // it was just written
		st.Text = cmp.Or(loop.Told(r, fields, ", "), r.Name)
	}
	return st, nil
}

func checkRungs(p *project.Project, st Start) error {
	is := func(r ledger.Rung) error {
		if r != "" && !slices.Contains(ledger.Rungs(), r) {
			return refused("The rungs are stub, read, ask and free.", "unknown rung %q", r)
		}
		return nil
	}
	for name, r := range st.Rungs {
		if p.Tools[name] == nil {
			return refused("`stonebaton tools` lists them.", "unknown tool %q in the rungs.%s", name, near.Hint(name, names(p.Tools)))
		}
		if err := is(r); err != nil {
			return err
		}
	}
	return is(st.Rung)
}

// partOf holds what says that only a part of a relay is to be gone through against its legs.
func partOf(r *project.Relay, st Start) error {
	for _, name := range []string{st.From, st.Until} {
		if name == "" || r.Leg(name) != nil {
			continue
		}
		var have []string
		for _, l := range r.Legs {
			have = append(have, l.Name)
		}
		return refused("Its legs are "+near.List(have)+".", "the relay %s has no leg %q.%s", r.Name, name, near.Hint(name, have))
	}
	if len(st.Kept) == 0 {
		return nil
	}
	kept, err := value.ReadObject(st.Kept)
	if err != nil {
		return refused("Give a JSON object.", "what is kept cannot be read: %v", err)
	}
	have := r.Keeps()
	for k := range kept {
		if !slices.Contains(have, k) {
			return refused("It keeps "+near.List(have)+".", "the relay %s keeps no %q.%s", r.Name, k, near.Hint(k, have))
		}
	}
	return nil
}

// mostTurns is the most that a run can be given.
const mostTurns = 100_000

func names[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (e *Engine) open(ctx context.Context, p *project.Project, st Start, inbox int64) (Begun, error) {
	for try := 0; ; try++ {
		sess, fresh := Session{ID: st.Session}, st.Session == ""
		opened := &ledger.RunOpened{Project: p.Name, Version: p.Version, Person: st.Person, Text: st.Text, Tools: st.Tools,
			Rung: st.Rung, Rungs: st.Rungs, Call: st.Call, Via: st.Via, Beside: st.Beside, Model: st.Model, Turns: st.Turns, PersonAt: st.PersonAt, Consults: st.Consults, Legs: st.Legs, Zone: p.Zone.String(), Agent: p.Start, State: st.State, Why: "a message from " + st.Person}
		if fresh {
			sess.ID, opened.State = cmp.Or(st.New, e.NewID()), p.NewState(st.State)
		} else {
			var err error
			if sess, err = e.Log.Session(ctx, st.Session); err != nil {
				return Begun{}, err
			}
			if sess.Busy {
				return Begun{}, ErrBusy
			}
			kept, err := e.kept(ctx, sess)
			if err != nil {
				return Begun{}, err
			}
			if kept != nil {
				opened.Memory, opened.State, opened.Handles, opened.Lines, opened.Agreed = kept.Memory, kept.Facts, kept.Handles, kept.Lines, kept.Agreed
				if a := p.Agents[kept.Agent]; a != nil && a.Rejoin != "start" {
					opened.Agent = kept.Agent
				}
			}
		}
		if st.Sets != nil {
			facts, err := value.ReadObject(st.Sets)
			if err != nil {
				return Begun{}, err
			}
			opened.State = maps.Clone(opened.State)
			if opened.State == nil {
				opened.State = map[string]any{}
			}
			maps.Copy(opened.State, facts)
		}
		if st.Agent != "" {
			opened.Agent = st.Agent
		}
		if st.Call != nil {
			opened.Agent, opened.Why = "", "a call from outside, by "+st.Person
		}
		if st.Relay != "" {
			opened.From, opened.Kept, opened.Until = st.From, st.Kept, st.Until
			opened.Agent, opened.Relay, opened.Input, opened.Why = "", st.Relay, st.Input, "a message from "+st.Person+", for the relay "+st.Relay
		}
		opened.Session = sess.ID
		id := fmt.Sprintf("%s-%d", sess.ID, sess.Runs+1)
		d := e.newDriver(id, p)
		d.epoch = 1
		d.opening = &Opening{Session: sess.ID, Project: p.Name, Person: st.Person, Text: st.Text, New: fresh, Inbox: inbox}
		if err := e.launch(d, ledger.New("", opened)); err != nil {
			if errors.Is(err, ErrTaken) && try < 20 && st.New == "" {
				continue // another id is drawn, or the session looked at again: another message came first
			}
			return Begun{}, err
		}
		return Begun{Run: id, Session: sess.ID}, nil
	}
}

// kept gives what a session keeps of its newest run; nil where it has had none. Where an
// earlier program closed that run, it is folded once more.
func (e *Engine) kept(ctx context.Context, s Session) (*run.Kept, error) {
	if s.Last == "" || s.Kept != nil {
		return s.Kept, nil
	}
	last, err := e.State(ctx, s.Last)
	if err != nil {
		return nil, err
	}
	return last.Kept(), nil
}

// launch writes a new run's first batch and leaves its driver at work.
func (e *Engine) launch(d *driver, first ledger.Event) error {
	e.mu.Lock()
	if e.closing {
		e.mu.Unlock()
		return errEnding
	}
	if e.drivers[d.run] != nil {
		e.mu.Unlock()
		return ErrTaken
	}
	e.drivers[d.run] = d
	e.wg.Add(1)
	e.mu.Unlock()
	d.state = run.New(d.run)
	d.stage(d.now(), first)
	if err := d.advance(); err != nil && d.opening != nil { // where it is on disk its driver sees to what failed then
		e.mu.Lock()
		delete(e.drivers, d.run)
		e.mu.Unlock()
		close(d.gone)
		e.wg.Done()
		return err
	}
	go d.work()
	return nil
}

// waits counts a session's messages up or down.
func (e *Engine) waits(session string, n int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.waiting[session] += n; e.waiting[session] <= 0 {
		delete(e.waiting, session)
	}
}

// pump opens the next run of a session from its inbox, where there is one. Where that fails,
// as while the project's files are broken, it is tried again, and by Resume.
func (e *Engine) pump(session string) { e.pumpAfter(session, 0) }

func (e *Engine) pumpAfter(session string, wait time.Duration) {
	e.mu.Lock()
	idle := e.closing || e.waiting[session] == 0
	if !idle {
		e.wg.Add(1)
	}
	e.mu.Unlock()
	if idle {
		return
	}
	go func() {
		defer e.wg.Done()
		err := e.next(session)
		if err == nil || errors.Is(err, ErrBusy) || errors.Is(err, errEnding) || e.ctx.Err() != nil {
			return
		}
		if wait == 0 {
			e.Logger.Error("a message waits until its run can begin", "session", session, "error", err)
		}
		wait := longer(wait)
		e.later(wait, func() { e.pumpAfter(session, wait) })
	}()
}

// next opens the run of the first message that waits in a session.
func (e *Engine) next(session string) error {
	w, ok, err := e.Log.Inbox(e.ctx, session)
	if err != nil || !ok {
		return err
	}
	if err := e.Room(); err != nil {
		return err
	}
	p, err := e.Projects.Current()
	if err != nil {
		return err
	}
	if _, err := e.open(e.ctx, p, w.Start, w.ID); err != nil {
		return err
	}
	e.waits(session, -1)
	return nil
}

// Resume begins the runs of messages that wait for something else than a run of their session,
// such as for the project's files to be right again.
func (e *Engine) Resume() {
	e.mu.Lock()
	sessions := slices.Collect(maps.Keys(e.waiting))
	e.mu.Unlock()
	for _, s := range sessions {
		e.pump(s)
	}
}

// Undone records that a person undid what a call of a run did to a file: on the run
// that did it, and, where the session has gone on since, on its newest run, so that
// the next turn is told either way.
func (e *Engine) Undone(ctx context.Context, id string, step ledger.StepID, path, by string) error {
	u := ledger.FileUndone{Path: path, By: by, Words: fmt.Sprintf("(%s has undone your change of %s: the file is as it was before.)", by, path), Why: "a person undid it"}
	if err := e.ask(ctx, id, note{undone: &u, step: step}); err != nil {
		return err
	}
	session, _, _ := strings.Cut(id, "-")
	s, err := e.Log.Session(ctx, session)
	if err != nil || s.Last == id {
		return err
	}
	return e.ask(ctx, s.Last, note{undone: &u})
}

// State folds a run's ledger.
func (e *Engine) State(ctx context.Context, id string) (*run.State, error) {
	events, err := All(e.Log.Read(ctx, id, 0))
	if err != nil {
		return nil, err
	}
	return run.Fold(id, events)
}

// post hands a note to a run's driver, and starts one where there is none.
func (e *Engine) post(id string, n note) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.closing {
		n.answer(errEnding)
		return
	}
	d := e.drivers[id]
	if d == nil {
		d = e.newDriver(id, nil)
		e.drivers[id] = d
		e.wg.Add(1)
		d.put(n)
		go d.work()
		return
	}
	d.put(n)
}

// Stop asks a run to end. It returns when that is on the ledger.
func (e *Engine) Stop(ctx context.Context, id, by, because string) error {
	return e.ask(ctx, id, note{stop: &ledger.StopAsked{By: by, Because: because}})
}

// Settle settles a ticket. It returns when that is on the ledger.
func (e *Engine) Settle(ctx context.Context, id string, step ledger.StepID, s loop.Settlement) error {
	return e.ask(ctx, id, note{settle: &s, step: step})
}

func (e *Engine) ask(ctx context.Context, id string, n note) error {
	n.reply = make(chan error, 1)
	e.post(id, n)
	select {
	case err := <-n.reply:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}
