package engine_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
)

// disk is a Log that fails while its disk is full.
type disk struct {
	*engine.Memory
	full  atomic.Bool
	tried atomic.Int32 // what failed
}

func (d *disk) room() error {
	if d.full.Load() {
		d.tried.Add(1)
		return fmt.Errorf("the database: %w", syscall.ENOSPC)
	}
	return nil
}

func (d *disk) Append(ctx context.Context, b engine.Batch) error {
	if err := d.room(); err != nil {
		return err
	}
	return d.Memory.Append(ctx, b)
}

func (d *disk) Open(ctx context.Context, o engine.Opening) error {
	if err := d.room(); err != nil {
		return err
	}
	return d.Memory.Open(ctx, o)
}

func (d *disk) Lease(ctx context.Context, run string) (int64, error) {
	if err := d.room(); err != nil {
		return 0, err
	}
	return d.Memory.Lease(ctx, run)
}

func (d *disk) Enqueue(ctx context.Context, s engine.Start) error {
	if err := d.room(); err != nil {
		return err
	}
	return d.Memory.Enqueue(ctx, s)
}

func (d *disk) Read(ctx context.Context, run string, after int64) iter.Seq2[ledger.Event, error] {
	if err := d.room(); err != nil {
		return func(yield func(ledger.Event, error) bool) { yield(ledger.Event{}, err) }
	}
	return d.Memory.Read(ctx, run, after)
}

// quick is a clock whose short waits take no time; the deadlines of runs stay.
type quick struct{ engine.WallClock }

func (quick) Until(due time.Time, _ bool) (<-chan time.Time, func()) {
	wait := time.Until(due)
	if wait < 20*time.Second {
		wait = min(wait, 2*time.Millisecond)
	}
	t := time.NewTimer(wait)
	return t.C, func() { t.Stop() }
}

// hub keeps what troubles runs were told of.
type hub struct {
	live.Hub
	mu    sync.Mutex
	heard map[string]string
}

func (h *hub) Trouble(run, say string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.heard == nil {
		h.heard = map[string]string{}
	}
	h.heard[run] = say
}

func (h *hub) told(run string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.heard[run]
}

func over(t *testing.T, log engine.Records, run string) {
	t.Helper()
	require.Eventually(t, func() bool {
		ev, err := engine.All(log.Read(ctx, run, 0))
		return err == nil && len(ev) > 0 && ev[len(ev)-1].Kind == ledger.KindRunClosed
	}, 20*time.Second, 2*time.Millisecond, "%s", run)
}

func TestAFullDiskIsWaitedFor(t *testing.T) {
	const n = 20
	log, told := &disk{Memory: engine.NewMemory()}, &hub{}
	reached, release := make(chan struct{}, n), make(chan struct{})
	a := &actor{say: script(`toot {}`)}
	a.do = func(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		reached <- struct{}{}
		<-release
		return deed.Result{Value: "tooted"}, nil
	}
	tune := func(c *engine.Config) { c.Clock, c.Live = quick{}, told }
	e := start(t, log, a, tune)
	var runs []engine.Begun
	for range n {
		runs = append(runs, begin(t, e, engine.Start{}))
	}
	for range n {
		<-reached
	}
	waits := begin(t, e, engine.Start{Session: runs[0].Session, Text: "and then"})
	require.Empty(t, waits.Run)

	log.full.Store(true)
	close(release) // the calls have happened, and it cannot be written
	for _, r := range runs {
		require.Eventually(t, func() bool { return told.told(r.Run) != "" }, 10*time.Second, time.Millisecond)
	}
	assert.Contains(t, told.told(runs[0].Run), "the records cannot be written now: the database: no space left on device; the run goes on when they can")
	var trouble *engine.TroubleError
	require.ErrorAs(t, e.Stop(ctx, runs[1].Run, "ann", ""), &trouble, "stopping one is refused in words")
	assert.Contains(t, trouble.Error(), "nothing was changed")
	require.ErrorAs(t, e.Settle(ctx, runs[1].Run, "t1.c1", loop.Settlement{Verb: ledger.Allow}), &trouble)
	_, err := e.Begin(ctx, engine.Start{Text: "new"})
	require.ErrorAs(t, err, &trouble)
	_, err = e.Begin(ctx, engine.Start{Text: "next", Session: runs[2].Session})
	require.ErrorAs(t, err, &trouble, "a message is not accepted that cannot be kept")

	log.full.Store(false)
	for _, r := range runs {
		over(t, log, r.Run)
		got := kinds(t, log, r.Run)
		assert.NotContains(t, got, "run.recovered", "what the calls gave was known all along")
		assert.Contains(t, got, "call.returned")
		assert.NotContains(t, got, "stop")
	}
	over(t, log, runs[0].Session+"-2")
	assert.EqualValues(t, n, a.done.Load(), "each call was made once")
	assert.Empty(t, told.told(runs[0].Run))
}

func TestARunWhoseDriverCannotReadIsTakenUpAgain(t *testing.T) {
	log := &disk{Memory: engine.NewMemory()}
	a := &actor{say: script(`look {"name":"a"}`, `reserve {"berth":"C4"}`)}
	e := start(t, log, a, func(c *engine.Config) { c.Clock = quick{} })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	log.full.Store(true)
	var trouble *engine.TroubleError
	require.ErrorAs(t, e.Settle(ctx, b.Run, "t2.c1", loop.Settlement{Verb: ledger.Allow, By: "ann", As: "master"}), &trouble)
	before := log.tried.Load()
	require.Eventually(t, func() bool { return log.tried.Load() > before+3 }, 10*time.Second, time.Millisecond, "it tries again")
	log.full.Store(false)
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	require.Equal(t, ledger.Held, s.Status(), "the settlement that was refused did not happen")
	require.NoError(t, e.Settle(ctx, b.Run, s.Tickets()[0].Step, loop.Settlement{Verb: ledger.Allow, By: "ann", As: "master"}))
	over(t, log, b.Run)
}

func TestASettlementThatCannotBeWrittenIsKeptInMemory(t *testing.T) {
	log := &disk{Memory: engine.NewMemory()}
	held, free := make(chan struct{}), make(chan struct{})
	a := &actor{say: script(`look {"name":"a"}`, `reserve {"berth":"C4"}|tide {}`)}
	a.do = func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		if i.Tool.Name == "tide" {
			close(held)
			<-free
		}
		return deed.Result{Value: map[string]any{"length_m": 46.0}}, nil
	}
	e := start(t, log, a, func(c *engine.Config) { c.Clock = quick{} })
	b := begin(t, e, engine.Start{})
	<-held // a read goes on beside the ticket
	require.Eventually(t, func() bool { s, err := e.State(ctx, b.Run); return err == nil && len(s.Tickets()) > 0 }, 10*time.Second, time.Millisecond)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	log.full.Store(true)
	var trouble *engine.TroubleError
	require.ErrorAs(t, e.Settle(ctx, b.Run, s.Tickets()[0].Step, loop.Settlement{Verb: ledger.Allow, By: "ann", As: "master"}), &trouble)
	assert.Contains(t, trouble.Error(), "it is done as soon as they can")
	log.full.Store(false)
	close(free)
	over(t, log, b.Run)
}

// broken is a project whose files are wrong for a while.
type broken struct {
	one
	now atomic.Bool
}

func (b *broken) Current() (*project.Project, error) {
	if b.now.Load() {
		return nil, errors.New("the project has errors")
	}
	return b.one.Current()
}

func TestAMessageOutlastsABrokenProject(t *testing.T) {
	log := engine.NewMemory()
	reached, release := make(chan struct{}), make(chan struct{})
	var first sync.Once
	a := &actor{say: script(`toot {}`)}
	a.do = func(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
		first.Do(func() { close(reached); <-release })
		return deed.Result{}, nil
	}
	p := &broken{one: one{coretest.Project(t, coretest.Main)}}
	e := start(t, log, a, func(c *engine.Config) { c.Projects = p })
	b := begin(t, e, engine.Start{})
	<-reached
	for _, text := range []string{"second", "third"} {
		begin(t, e, engine.Start{Session: b.Session, Text: text})
	}
	p.now.Store(true)
	close(release)
	over(t, log, b.Run)
	wait(t, e)
	p.now.Store(false)
	e.Resume() // as when the files were read again
	over(t, log, b.Session+"-2")
	over(t, log, b.Session+"-3")
	for n, text := range map[int]string{2: "second", 3: "third"} {
		s, err := e.State(ctx, fmt.Sprintf("%s-%d", b.Session, n))
		require.NoError(t, err)
		assert.Equal(t, text, s.Opened().Text, "they keep their places")
	}
}
