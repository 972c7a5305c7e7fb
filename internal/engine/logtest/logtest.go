// Package logtest tests an implementation of engine.Records against what the interfaces
// promise. Both of this program pass it.
package logtest

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/engine"
)

// Run tests the logs that open gives, an empty one for each test.
func Run(t *testing.T, open func(t *testing.T) engine.Records) {
	for name, test := range map[string]func(*testing.T, engine.Records){
		"what is appended is read":          appended,
		"a batch is there whole or not":     whole,
		"ids are taken once":                taken,
		"a session has one run at a time":   busy,
		"messages wait in order":            waiting,
		"held runs are due":                 due,
		"runs that are not over are found":  unfinished,
		"callers side by side":              sideBySide,
		"a newer driver fences an older":    fenced,
		"retries are due too":               retries,
		"a session keeps what its run left": kept,
		"reading begins after an event":     after,
	} {
		t.Run(name, func(t *testing.T) { test(t, open(t)) })
	}
}

var (
	ctx = context.Background()
	at  = time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
)

func event(run string, seq int64, step ledger.StepID, d ledger.Data) ledger.Event {
	e := ledger.New(step, d)
	e.Run, e.Seq, e.At = run, seq, at.Add(time.Duration(seq)*time.Second)
	return e
}

func opening(session string, n int, fresh bool) engine.Opening {
	run := fmt.Sprintf("%s-%d", session, n)
	return engine.Opening{Session: session, New: fresh, Project: "quay", Person: "ann", Text: "hello", Batch: batch(run, 1, ledger.Going, &ledger.RunOpened{Session: session, Text: "hello"})}
}

func batch(run string, seq int64, status ledger.Status, data ...ledger.Data) engine.Batch {
	b := engine.Batch{Run: run, Head: view.Head{Status: status, Agent: "desk", OpenedAt: at, LastAt: at}}
	for i, d := range data {
		b.Events = append(b.Events, event(run, seq+int64(i), "t1", d))
	}
	return b
}

func appended(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	require.NoError(t, l.Append(ctx, batch("aa-1", 2, ledger.Going, &ledger.TurnReceived{Text: "one"}, &ledger.TurnReceived{Text: "two"})))
	events, err := engine.All(l.Read(ctx, "aa-1", 0))
	require.NoError(t, err)
	require.Len(t, events, 3)
	for i, e := range events {
		assert.EqualValues(t, i+1, e.Seq, "in order, without gaps")
		assert.Equal(t, "aa-1", e.Run)
	}
	assert.Equal(t, "two", events[2].Data.(*ledger.TurnReceived).Text)
	assert.True(t, events[2].At.Equal(at.Add(3*time.Second)))
	_, err = engine.All(l.Read(ctx, "none-1", 0))
	require.ErrorIs(t, err, engine.ErrNoRun)
	require.ErrorIs(t, l.Append(ctx, batch("none-1", 2, ledger.Going, &ledger.TurnReceived{})), engine.ErrNoRun)
}

func whole(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	for _, seq := range []int64{1, 3} { // behind another writer, or with a gap
		require.ErrorIs(t, l.Append(ctx, batch("aa-1", seq, ledger.Done, &ledger.TurnReceived{}, &ledger.RunClosed{Status: ledger.Done})), engine.ErrConflict)
	}
	events, err := engine.All(l.Read(ctx, "aa-1", 0))
	require.NoError(t, err)
	assert.Len(t, events, 1, "nothing of it is there")
	s, err := l.Session(ctx, "aa")
	require.NoError(t, err)
	assert.True(t, s.Busy, "nor of its head")
}

func taken(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	require.ErrorIs(t, l.Open(ctx, opening("aa", 1, true)), engine.ErrTaken)
	require.ErrorIs(t, l.Open(ctx, opening("zz", 2, false)), engine.ErrNoSession)
	_, err := l.Session(ctx, "zz")
	require.ErrorIs(t, err, engine.ErrNoSession)
}

func busy(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	require.ErrorIs(t, l.Open(ctx, opening("aa", 2, false)), engine.ErrBusy)
	require.NoError(t, l.Append(ctx, batch("aa-1", 2, ledger.Done, &ledger.RunClosed{Status: ledger.Done})))
	require.NoError(t, l.Open(ctx, opening("aa", 2, false)))
	require.NoError(t, l.Append(ctx, batch("aa-1", 3, ledger.Done, &ledger.FileUndone{Path: "a"})), "what follows a closed run")
	s, err := l.Session(ctx, "aa")
	require.NoError(t, err)
	assert.Equal(t, engine.Session{ID: "aa", Runs: 2, Last: "aa-2", Busy: true, Person: "ann"}, s, "says nothing of the newest one")
}

func waiting(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	_, ok, err := l.Inbox(ctx, "aa")
	require.NoError(t, err)
	assert.False(t, ok)
	for _, text := range []string{"one", "two"} {
		require.NoError(t, l.Enqueue(ctx, engine.Start{Session: "aa", Text: text}))
	}
	queues, err := l.Queues(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"aa", "aa"}, queues)
	w, ok, err := l.Inbox(ctx, "aa")
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, "one", w.Start.Text, "the oldest first")
	require.NoError(t, l.Append(ctx, batch("aa-1", 2, ledger.Done, &ledger.RunClosed{Status: ledger.Done})))
	o := opening("aa", 2, false)
	o.Inbox = w.ID
	require.NoError(t, l.Open(ctx, o))
	w, ok, err = l.Inbox(ctx, "aa")
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, "two", w.Start.Text, "a message is taken with the run that it begins")
}

func due(t *testing.T, l engine.Records) {
	raise := func(session string, due *time.Time) {
		require.NoError(t, l.Open(ctx, opening(session, 1, true)))
		require.NoError(t, l.Append(ctx, batch(session+"-1", 2, ledger.Held, &ledger.GateRaised{Form: ledger.GateTicket, Tool: "reserve", Args: []byte(`{}`), Due: due})))
	}
	soon, late := at.Add(time.Minute), at.Add(time.Hour)
	raise("never", nil)
	raise("late", &late)
	raise("soon", &soon)
	runs, next, err := l.Due(ctx, at)
	require.NoError(t, err)
	assert.Empty(t, runs)
	assert.True(t, next.Equal(soon), "%s", next)
	runs, next, err = l.Due(ctx, soon)
	require.NoError(t, err)
	assert.Equal(t, []string{"soon-1"}, runs)
	assert.True(t, next.Equal(late), "%s", next)
	require.NoError(t, l.Append(ctx, batch("soon-1", 3, ledger.Going, &ledger.GateSettled{Verb: ledger.Allow})))
	runs, _, err = l.Due(ctx, soon)
	require.NoError(t, err)
	assert.Empty(t, runs, "what is settled is not due")
}

func unfinished(t *testing.T, l engine.Records) {
	for session, status := range map[string]ledger.Status{"aa": ledger.Going, "bb": ledger.Held, "cc": ledger.Done} {
		require.NoError(t, l.Open(ctx, opening(session, 1, true)))
		require.NoError(t, l.Append(ctx, batch(session+"-1", 2, status, &ledger.TurnReceived{})))
	}
	runs, err := l.Unfinished(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"aa-1"}, runs)
}

func sideBySide(t *testing.T, l engine.Records) {
	const n = 40
	errs := make([]error, n)
	var wg sync.WaitGroup
	for i := range n {
		wg.Add(1)
		go func() {
			defer wg.Done()
			id := fmt.Sprintf("s%02d", i)
			if errs[i] = l.Open(ctx, opening(id, 1, true)); errs[i] == nil {
				errs[i] = l.Append(ctx, batch(id+"-1", int64(2-i%2), ledger.Done, &ledger.RunClosed{Status: ledger.Done}))
			}
		}()
	}
	wg.Wait()
	for i, err := range errs {
		if i%2 == 1 {
			require.ErrorIs(t, err, engine.ErrConflict, "one caller's conflict")
		} else {
			require.NoError(t, err, "spares the others")
		}
	}
}

func fenced(t *testing.T, l engine.Records) {
	o := opening("aa", 1, true)
	o.Epoch = 1
	require.NoError(t, l.Open(ctx, o))
	epoch, err := l.Lease(ctx, "aa-1")
	require.NoError(t, err)
	assert.EqualValues(t, 2, epoch)
	old, newer := batch("aa-1", 2, ledger.Going, &ledger.TurnReceived{}), batch("aa-1", 2, ledger.Going, &ledger.TurnReceived{})
	old.Epoch, newer.Epoch = 1, epoch
	require.ErrorIs(t, l.Append(ctx, old), engine.ErrFenced)
	require.NoError(t, l.Append(ctx, newer))
	_, err = l.Lease(ctx, "none-1")
	require.ErrorIs(t, err, engine.ErrNoRun)
}

func retries(t *testing.T, l engine.Records) {
	soon := at.Add(time.Minute)
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	require.NoError(t, l.Append(ctx, batch("aa-1", 2, ledger.Going, &ledger.TurnFailed{Attempt: 1, RetryAt: &soon})))
	runs, next, err := l.Due(ctx, at)
	require.NoError(t, err)
	assert.Empty(t, runs)
	assert.True(t, next.Equal(soon))
	runs, _, err = l.Due(ctx, soon)
	require.NoError(t, err)
	assert.Equal(t, []string{"aa-1"}, runs)
	require.NoError(t, l.Append(ctx, batch("aa-1", 3, ledger.Going, &ledger.TimerFired{What: ledger.ForRetry, Due: soon})))
	runs, next, err = l.Due(ctx, soon)
	require.NoError(t, err)
	assert.Empty(t, runs, "it is set and ended with its events")
	assert.Zero(t, next)
	require.NoError(t, l.Append(ctx, batch("aa-1", 4, ledger.Going, &ledger.TurnFailed{Attempt: 2, RetryAt: &soon})))
	require.NoError(t, l.Append(ctx, batch("aa-1", 5, ledger.Failed, &ledger.RunClosed{Status: ledger.Failed})))
	runs, _, err = l.Due(ctx, soon)
	require.NoError(t, err)
	assert.Empty(t, runs, "what is over is not due")
}

func kept(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	s, err := l.Session(ctx, "aa")
	require.NoError(t, err)
	assert.Nil(t, s.Kept)
	b := batch("aa-1", 2, ledger.Done, &ledger.RunClosed{Status: ledger.Done})
	b.Kept = &run.Kept{Agent: "desk", Memory: []ledger.Message{{Role: ledger.User, Text: strings.Repeat("long ", 2000)}}, Facts: map[string]any{"id": int64(9007199254740993)},
		Handles: []string{"result:1.t1.c1"}, Lines: map[string][]ledger.Message{"desk/tides": {{Role: ledger.User, Text: "when?"}}}}
	require.NoError(t, l.Append(ctx, b))
	s, err = l.Session(ctx, "aa")
	require.NoError(t, err)
	assert.Equal(t, b.Kept, s.Kept)
	require.NoError(t, l.Open(ctx, opening("aa", 2, false)))
	s, err = l.Session(ctx, "aa")
	require.NoError(t, err)
	assert.Nil(t, s.Kept, "it is of the newest run alone")
}

func after(t *testing.T, l engine.Records) {
	require.NoError(t, l.Open(ctx, opening("aa", 1, true)))
	require.NoError(t, l.Append(ctx, batch("aa-1", 2, ledger.Going, &ledger.TurnReceived{}, &ledger.TurnReceived{}, &ledger.TurnReceived{})))
	events, err := engine.All(l.Read(ctx, "aa-1", 2))
	require.NoError(t, err)
	require.Len(t, events, 2)
	assert.EqualValues(t, 3, events[0].Seq)
	for e, err := range l.Read(ctx, "aa-1", 0) {
		require.NoError(t, err)
		assert.EqualValues(t, 1, e.Seq, "who has enough stops")
		break
	}
	events, err = engine.All(l.Read(ctx, "aa-1", 9))
	require.NoError(t, err)
	assert.Empty(t, events)
}
