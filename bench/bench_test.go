// Package bench measures speed and memory. Where speed is meant, it is a ratio
// against a bare baseline of the same run of the benchmark, on the same machine.
package bench

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/store"
	"stonebaton.example/web"

	"log/slog"
)

var ctx = context.Background()

// instant is a model and a tool that answer at once: two turns, one call. With
// a gate nothing is answered before it opens; with a spread each answer then
// takes up to so long, another time for each run.
type instant struct {
	gate   <-chan struct{}
	spread time.Duration
}

func (a instant) Ask(_ context.Context, _ *project.Project, r deed.Request, _ func(string)) (deed.Reply, *deed.ModelFailure) {
	if a.gate != nil {
		<-a.gate
	}
	if a.spread > 0 {
		h := fnv.New32()
		fmt.Fprint(h, r.Run, len(r.Messages))
		time.Sleep(time.Duration(h.Sum32()) % a.spread)
	}
	if r.Messages[len(r.Messages)-1].Role == ledger.FromTool {
		return deed.Reply{Text: "It is high water at noon.", Finish: "stop", Usage: ledger.Usage{In: 120, Out: 8}}, nil
	}
	return deed.Reply{Calls: []ledger.Ask{{ID: "c1", Tool: "look", Args: `{"name":"Marrow Light"}`}}, Finish: "calls", Usage: ledger.Usage{In: 100, Out: 12}}, nil
}

func (instant) Look(context.Context, deed.Invocation) (string, *deed.Failure) { return "", nil }

func (instant) Call(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
	return deed.Result{Value: map[string]any{"length_m": 46.0}}, nil
}

type fixed struct{ p *project.Project }

func (f fixed) Current() (*project.Project, error) { return f.p, nil }

func (f fixed) Version(context.Context, ledger.Hash) (*project.Project, error) { return f.p, nil }

func none(string) (string, bool) { return "", false }

// recorder notes which events and parts made a batch, for the baseline.
type recorder struct {
	*store.Store
	mu      sync.Mutex
	batches map[string][]batch
}

type batch struct {
	open  bool
	first int64
	n     int
	over  bool
	parts []ledger.Hash
}

func (r *recorder) note(b engine.Batch, open bool) {
	x := batch{open: open, first: b.Events[0].Seq, n: len(b.Events), over: b.Kept != nil}
	for h := range b.Parts {
		x.parts = append(x.parts, h)
	}
	r.mu.Lock()
	r.batches[b.Run] = append(r.batches[b.Run], x)
	r.mu.Unlock()
}

func (r *recorder) Open(ctx context.Context, o engine.Opening) error {
	r.note(o.Batch, true)
	return r.Store.Open(ctx, o)
}

func (r *recorder) Append(ctx context.Context, b engine.Batch) error {
	r.note(b, false)
	return r.Store.Append(ctx, b)
}

// player is a model and its tools.
type player interface {
	engine.Models
	engine.Tools
}

func newEngine(b testing.TB, log engine.Records, a instant, l engine.Live) *engine.Engine {
	return newEngineOf(b, log, a, l, coretest.Main)
}

func newEngineOf(b testing.TB, log engine.Records, a player, l engine.Live, text string) *engine.Engine {
	n := 0
	var mu sync.Mutex
	e := engine.New(engine.Config{Log: log, Models: a, Tools: a, Projects: fixed{coretest.Project(b, text)}, Blanker: secret.New(none), Live: l, Clock: engine.WallClock{},
		NewID: func() string { mu.Lock(); defer mu.Unlock(); n++; return fmt.Sprintf("b%06d", n) }})
	require.NoError(b, e.Start(ctx))
	return e
}

// each calls f for 0…total-1, so many at a time.
func each(total, atOnce int, f func(i int)) {
	next := make(chan int)
	var wg sync.WaitGroup
	for range atOnce {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range next {
				f(i)
			}
		}()
	}
	for i := range total {
		next <- i
	}
	close(next)
	wg.Wait()
}

// ended waits for the end of each run.
type ended struct {
	mu   sync.Mutex
	wait map[string]chan struct{}
}

func (e *ended) of(run string) chan struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.wait[run] == nil {
		e.wait[run] = make(chan struct{})
	}
	return e.wait[run]
}

func (e *ended) Committed(run string, events []ledger.Event) {
	if events[len(events)-1].Kind == ledger.KindRunClosed {
		close(e.of(run))
	}
}

func (e *ended) Delta(string, ledger.StepID, string) {}

func (e *ended) Trouble(string, string) {}

// BenchmarkDurableRuns: two turns and one call with a model that answers at
// once, against bare inserts of the same rows in the same batches, grouped into
// commits the same way.
func BenchmarkDurableRuns(b *testing.B) {
	for _, c := range []struct{ atOnce, runs int }{{1, 600}, {64, 1920}, {1000, 4000}} {
		b.Run(fmt.Sprint(c.atOnce), func(b *testing.B) {
			for range b.N {
				ours, bare, events := durable(b, c.atOnce, c.runs, coretest.Main, instant{})
				b.ReportMetric(ours.Seconds()/bare.Seconds(), "x_bare")
				b.ReportMetric(float64(ours.Microseconds())/float64(events), "µs/event")
				b.ReportMetric(float64(bare.Microseconds())/float64(events), "bare_µs/event")
			}
		})
	}
}

// BenchmarkDurableTrees: the same for runs of ten threads, four deep, all open at once.
func BenchmarkDurableTrees(b *testing.B) {
	for _, c := range []struct{ atOnce, runs int }{{1, 40}, {64, 320}, {1000, 1000}} {
		b.Run(fmt.Sprint(c.atOnce), func(b *testing.B) {
			for range b.N {
				ours, bare, events := durable(b, c.atOnce, c.runs, treeOfTen, ten{})
				b.ReportMetric(ours.Seconds()/bare.Seconds(), "x_bare")
				b.ReportMetric(float64(ours.Microseconds())/float64(events), "µs/event")
				b.ReportMetric(float64(bare.Microseconds())/float64(events), "bare_µs/event")
			}
		})
	}
}

// look is a tool that gives a fixed result.
const look = `---
tool: look
summary: Look a vessel up by its name.
effect: read
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
stubs: [{returns: {length_m: 46}}]
`

// treeOfTen is a project in which one agent asks three at once, each of which asks one, and
// that one more.
const treeOfTen = `project: ten
start: a
model: m
models: {m: {speaks: understudy}}
limits: {turns: 50, calls: 50}
` + look + `---
agent: a
summary: Asks three.
prompt: You are a.
consults: [b]
---
agent: b
summary: Asks one.
prompt: You are b.
consults: [c]
---
agent: c
summary: Asks one.
prompt: You are c.
consults: [d]
---
agent: d
summary: Looks.
prompt: You are d.
tools: [look]
`

// ten plays the agents of treeOfTen.
type ten struct{ instant }

func (ten) Ask(_ context.Context, _ *project.Project, r deed.Request, _ func(string)) (deed.Reply, *deed.ModelFailure) {
	use := ledger.Usage{In: 100, Out: 12}
	if r.Messages[len(r.Messages)-1].Role == ledger.FromTool {
		return deed.Reply{Text: "Noon.", Finish: "stop", Usage: use}, nil
	}
	ask := func(to string, n int) deed.Reply {
		out := deed.Reply{Finish: "calls", Usage: use}
		for i := range n {
			out.Calls = append(out.Calls, ledger.Ask{ID: fmt.Sprint("c", i), Tool: "consult_" + to, Args: fmt.Sprintf(`{"question":"When is high water, %d?"}`, i)})
		}
		return out
	}
	switch r.Agent {
	case "a":
		return ask("b", 3), nil
	case "b":
		return ask("c", 1), nil
	case "c":
		return ask("d", 1), nil
	}
	return deed.Reply{Calls: []ledger.Ask{{ID: "c1", Tool: "look", Args: `{"name":"Marrow Light"}`}}, Finish: "calls", Usage: use}, nil
}

// BenchmarkFold: a hundred thousand events folded, against decoding them; and an event of a
// turn with four thousand calls against one of turns with four.
func BenchmarkFold(b *testing.B) {
	for range b.N {
		few, many := ledgerOf(b, 4, 100_000), ledgerOf(b, 4000, 100_000)
		fold := func(events []ledger.Event) time.Duration {
			runtime.GC()
			began := time.Now()
			s, err := run.Fold("w-1", events)
			require.NoError(b, err)
			took := time.Since(began)
			require.NotNil(b, s.Opened())
			return took
		}
		raws := make([]json.RawMessage, len(few))
		for i, e := range few {
			raw, err := ledger.EncodeData(e.Data)
			require.NoError(b, err)
			raws[i] = raw
		}
		runtime.GC()
		began := time.Now()
		for i, e := range few {
			_, err := ledger.DecodeData(e, raws[i])
			require.NoError(b, err)
		}
		decode := time.Since(began)
		a, z := fold(few), fold(many)
		b.ReportMetric(a.Seconds()/decode.Seconds(), "x_decode")
		b.ReportMetric((z.Seconds()/float64(len(many)))/(a.Seconds()/float64(len(few))), "x_at_4000_calls")
		b.ReportMetric(float64(a.Nanoseconds())/float64(len(few)), "ns/event")
	}
}

// ledgerOf makes a run of turns with so many calls each.
func ledgerOf(b *testing.B, calls, events int) []ledger.Event {
	main := strings.Replace(coretest.Main, "limits: {turns: 8, calls: 12, same_call: 3", "limits: {turns: 99999, calls: 99999, same_call: 99999", 1)
	w := coretest.Open(coretest.Project(b, main), "Go on and on")
	reply := make([]string, calls)
	for i := range reply {
		reply[i] = `look {"name":"Marrow Light"}`
	}
	for turn := 1; len(w.Events) < events; turn++ {
		step := ledger.StepID("").Turn(turn)
		sent := &ledger.TurnSent{Agent: "desk", Model: "m", N: turn, Attempt: 1, Kept: len(w.S.Main().Sent()), Why: "on"}
		w.Append(ledger.New(step, sent))
		w.Reply("", reply...)
		for i := range calls {
			w.Append(ledger.New(step.Call(i+1), &ledger.CallDecided{Of: step, N: i + 1, ID: fmt.Sprint(i), Tool: "look", Args: []byte(`{"name":"Marrow Light"}`), Effect: ledger.Read, Verdict: ledger.Start, Why: "reads start at once"}))
		}
		for i := range calls {
			w.Append(ledger.New(step.Call(i+1), &ledger.CallStarted{Attempt: 1, Key: ledger.Key("w-1", step.Call(i+1)), Why: "reads start at once"}))
			w.Append(ledger.New(step.Call(i+1), &ledger.CallReturned{Result: []byte(`{"length_m":46}`), Words: `{"length_m":46}`, MS: 3}))
		}
	}
	return w.Events
}

// BenchmarkLongSession: a message in a session of a thousand runs, against one in a session
// of ten.
func BenchmarkLongSession(b *testing.B) {
	for range b.N {
		st, err := store.Open(b.TempDir())
		require.NoError(b, err)
		done := &ended{wait: map[string]chan struct{}{}}
		e := newEngine(b, st, instant{}, done)
		say := func(session string) string {
			x, err := e.Begin(ctx, engine.Start{Text: "When is high water?", Session: session})
			require.NoError(b, err)
			<-done.of(x.Run)
			require.NoError(b, e.Wait(ctx))
			return x.Session
		}
		take := func(runs int) time.Duration {
			session := say("")
			for range runs - 1 {
				say(session)
			}
			runtime.GC()
			began := time.Now()
			for range 10 {
				say(session)
			}
			return time.Since(began) / 10
		}
		short, long := take(10), take(1000)
		b.ReportMetric(long.Seconds()/short.Seconds(), "x_session_of_10")
		b.ReportMetric(float64(long.Microseconds())/1000, "ms")
		e.Close()
		require.NoError(b, st.Close())
	}
}

func durable(b *testing.B, atOnce, runs int, text string, model player) (ours, bare time.Duration, events int) {
	dir := b.TempDir()
	st, err := store.Open(dir)
	require.NoError(b, err)
	rec := &recorder{Store: st, batches: map[string][]batch{}}
	done := &ended{wait: map[string]chan struct{}{}}
	e := newEngineOf(b, rec, model, done, text)
	runtime.GC()
	began := time.Now()
	each(runs, atOnce, func(int) {
		x, err := e.Begin(ctx, engine.Start{Text: "When is high water?"})
		if err != nil {
			b.Error(err)
			return
		}
		<-done.of(x.Run)
	})
	ours = time.Since(began)
	e.Close()
	require.NoError(b, st.Close())
	work, events := written(b, dir, rec.batches)
	empty := b.TempDir()
	st, err = store.Open(empty)
	require.NoError(b, err)
	require.NoError(b, st.Close())
	runtime.GC()
	return ours, inserts(b, empty, work, atOnce), events
}

type insert struct {
	q    string
	args []any
}

func database(b *testing.B, dir string) *sqlx.DB {
	db, err := sqlx.Open("sqlite", sqlite.DSN(filepath.Join(dir, "stonebaton.db"), "_pragma=journal_mode(WAL)", "_pragma=synchronous(FULL)", "_pragma=cache_size(-8000)"))
	require.NoError(b, err)
	db.SetMaxOpenConns(1)
	return db
}

// written reads back what the engine wrote, as the inserts of each batch.
func written(b *testing.B, dir string, batches map[string][]batch) (runs [][][]insert, events int) {
	db := database(b, dir)
	defer db.Close()
	ids := make([]string, 0, len(batches))
	for id := range batches {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	for _, id := range ids {
		var run [][]insert
		var row []any
		r, err := db.Queryx(`SELECT id, session, project, person, text, status, agent, path, called, models, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at FROM run WHERE id = ?`, id)
		require.NoError(b, err)
		require.True(b, r.Next())
		row, err = r.SliceScan()
		require.NoError(b, err)
		r.Close()
		for _, x := range batches[id] {
			var ins []insert
			if x.open {
				ins = append(ins, insert{`INSERT INTO session (id, title, person, runs, last, at) VALUES (?, ?, ?, 1, ?, ?)`, []any{row[1], row[4], row[3], id, row[18]}},
					insert{`INSERT INTO run (id, session, project, person, text, status, agent, path, called, models, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, row})
			} else {
				ins = append(ins, insert{`UPDATE run SET status = ?, agent = ?, path = ?, called = ?, models = ?, turns = ?, calls = ?, tokens_in = ?, tokens_out = ?, cost = ?, worked = ?, answer = ?, problem = ?, last_at = ? WHERE id = ?`, append(append([]any{}, row[5:18]...), row[19], id)})
			}
			for _, h := range x.parts {
				var body []byte
				require.NoError(b, db.Get(&body, `SELECT body FROM part WHERE hash = ?`, string(h)))
				ins = append(ins, insert{`INSERT INTO part (hash, body, at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`, []any{string(h), body, row[19]}})
			}
			r, err := db.Queryx(`SELECT run, seq, at, v, kind, thread, step, data, file FROM event WHERE run = ? AND seq >= ? AND seq < ? ORDER BY seq`, id, x.first, x.first+int64(x.n))
			require.NoError(b, err)
			for r.Next() {
				vals, err := r.SliceScan()
				require.NoError(b, err)
				ins = append(ins, insert{`INSERT INTO event (run, seq, at, v, kind, thread, step, data, file) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, vals})
				events++
			}
			r.Close()
			if x.over {
				var kept []byte
				var file *string
				require.NoError(b, db.QueryRowx(`SELECT kept, kept_file FROM session WHERE id = ?`, row[1]).Scan(&kept, &file))
				ins = append(ins, insert{`UPDATE session SET kept = ?, kept_file = ? WHERE id = ?`, []any{kept, file, row[1]}})
			}
			run = append(run, ins)
		}
		runs = append(runs, run)
	}
	return runs, events
}

// inserts is the baseline: one connection, prepared statements, what comes
// together is committed together.
func inserts(b *testing.B, dir string, runs [][][]insert, atOnce int) time.Duration {
	db := database(b, dir)
	defer db.Close()
	conn, err := db.Connx(ctx)
	require.NoError(b, err)
	defer conn.Close()
	stmts := map[string]*sqlx.Stmt{}
	exec := func(q string, args ...any) {
		s := stmts[q]
		if s == nil {
			if s, err = conn.PreparexContext(ctx, q); err != nil {
				panic(err)
			}
			stmts[q] = s
		}
		if _, err := s.Exec(args...); err != nil {
			panic(err)
		}
	}
	type job struct {
		ins  []insert
		done chan struct{}
	}
	queue := make(chan job, 512)
	go func() {
		for first := range queue {
			group := []job{first}
			for len(group) < 512 && len(queue) > 0 {
				group = append(group, <-queue)
			}
			exec("BEGIN IMMEDIATE")
			for _, j := range group {
				for _, i := range j.ins {
					exec(i.q, i.args...)
				}
			}
			exec("COMMIT")
			for _, j := range group {
				close(j.done)
			}
		}
	}()
	began := time.Now()
	each(len(runs), atOnce, func(i int) {
		for _, ins := range runs[i] {
			j := job{ins, make(chan struct{})}
			queue <- j
			<-j.done
		}
	})
	took := time.Since(began)
	close(queue)
	return took
}

// stamped notes when each event was committed.
type stamped struct {
	live.Hub
	mu sync.Mutex
	at map[string]time.Time
}

func (s *stamped) Committed(run string, events []ledger.Event) {
	now := time.Now()
	s.mu.Lock()
	for _, e := range events {
		s.at[fmt.Sprintf("%s %d", run, e.Seq)] = now
	}
	s.mu.Unlock()
	s.Hub.Committed(run, events)
}

// BenchmarkLiveStreams: a thousand runs at a time, each followed over HTTP by a
// stream of its own; the time from an event's commit to its arrival. Spread:
// models take up to three seconds. Burst: all thousand answer in the same instant,
// and service, database and the thousand readers share the cores.
func BenchmarkLiveStreams(b *testing.B) {
	b.Run("spread", func(b *testing.B) { streams(b, 3*time.Second) })
	b.Run("burst", func(b *testing.B) { streams(b, 0) })
	b.Run("floor", floor)
}

// floor is the burst with nothing but the streams: a thousand connections, on each of which
// eight messages as large as those of a run are written at the same instant, and read. What
// this takes no service on these cores can undercut.
func floor(b *testing.B) {
	const runs, events = 1000, 8
	message := []byte("id: 1\nevent: event\ndata: " + strings.Repeat("x", 900) + "\n\n")
	for range b.N {
		gate := make(chan struct{})
		var mu sync.Mutex
		sent, late := map[string]time.Time{}, []time.Duration{}
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			ctl := http.NewResponseController(w)
			_ = ctl.Flush()
			<-gate
			for n := range events {
				now := time.Now()
				mu.Lock()
				sent[fmt.Sprint(r.URL.Path, " ", n)] = now
				mu.Unlock()
				if _, err := w.Write(message); err != nil {
					return
				}
				_ = ctl.Flush()
			}
		}))
		client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: runs}}
		var ready sync.WaitGroup
		var wg sync.WaitGroup
		for i := range runs {
			ready.Add(1)
			wg.Go(func() {
				resp, err := client.Get(fmt.Sprintf("%s/%d", srv.URL, i))
				ready.Done()
				if err != nil {
					b.Error(err)
					return
				}
				defer resp.Body.Close()
				lines, n := bufio.NewScanner(resp.Body), 0
				for lines.Scan() {
					if strings.HasPrefix(lines.Text(), "id: ") {
						now := time.Now()
						mu.Lock()
						late = append(late, now.Sub(sent[fmt.Sprintf("/%d %d", i, n)]))
						mu.Unlock()
						n++
					}
				}
			})
		}
		ready.Wait()
		close(gate)
		wg.Wait()
		slices.Sort(late)
		b.ReportMetric(float64(late[len(late)/2].Microseconds())/1000, "median_ms")
		b.ReportMetric(float64(late[len(late)*99/100].Microseconds())/1000, "p99_ms")
		srv.CloseClientConnections()
		srv.Close()
	}
}

func streams(b *testing.B, spread time.Duration) {
	const runs = 1000
	for range b.N {
		dir := b.TempDir()
		require.NoError(b, os.WriteFile(filepath.Join(dir, project.Main), []byte(coretest.Main), 0o600))
		a, err := app.Open(ctx, app.Config{Dir: dir, Access: app.Access{Open: true}})
		require.NoError(b, err)
		hub := &stamped{at: map[string]time.Time{}}
		gate := make(chan struct{})
		e := newEngine(b, a.Store, instant{gate: gate, spread: spread}, hub)
		a.Engine, a.Hub = e, &hub.Hub
		srv := httptest.NewServer(service.New(a, web.Files(), slog.New(slog.DiscardHandler), "bench").Handler())
		client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: runs}}
		var wg, ready sync.WaitGroup
		var mu sync.Mutex
		var late []time.Duration
		for range runs {
			x, err := e.Begin(ctx, engine.Start{Text: "When is high water?"})
			require.NoError(b, err)
			wg.Add(1)
			ready.Add(1)
			go func() {
				defer wg.Done()
				req, _ := http.NewRequest("GET", srv.URL+"/api/runs/"+x.Run+"/events", nil)
				req.Header.Set("Accept", "text/event-stream")
				req.Header.Set("Last-Event-ID", "2")
				resp, err := client.Do(req)
				ready.Done()
				if err != nil {
					b.Error(err)
					return
				}
				defer resp.Body.Close()
				lines := bufio.NewScanner(resp.Body)
				for lines.Scan() {
					if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
						now := time.Now()
						hub.mu.Lock()
						at := hub.at[x.Run+" "+id]
						hub.mu.Unlock()
						mu.Lock()
						late = append(late, now.Sub(at))
						mu.Unlock()
					}
				}
			}()
		}
		ready.Wait()
		close(gate)
		wg.Wait()
		slices.Sort(late)
		require.Len(b, late, runs*8)
		b.ReportMetric(float64(late[len(late)/2].Microseconds())/1000, "median_ms")
		b.ReportMetric(float64(late[len(late)*99/100].Microseconds())/1000, "p99_ms")
		srv.CloseClientConnections()
		srv.Close()
		e.Close()
		require.NoError(b, a.Store.Close())
	}
}

// BenchmarkHeldRuns: what a thousand held runs and a thousand finished ones keep in memory.
func BenchmarkHeldRuns(b *testing.B) {
	for range b.N {
		st, err := store.Open(b.TempDir())
		require.NoError(b, err)
		e := newEngine(b, st, instant{}, &live.Hub{})
		warm, err := e.Begin(ctx, engine.Start{Text: "x"})
		require.NoError(b, err)
		require.NoError(b, e.Wait(ctx))
		_ = warm
		heap := func() (float64, int) {
			runtime.GC()
			runtime.GC()
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			return float64(m.HeapAlloc), runtime.NumGoroutine()
		}
		before, routines := heap()
		for range 2000 {
			_, err := e.Begin(ctx, engine.Start{Text: "x"})
			require.NoError(b, err)
		}
		require.NoError(b, e.Wait(ctx))
		after, now := heap()
		b.ReportMetric((after-before)/2000, "bytes/run")
		b.ReportMetric(float64(now-routines), "goroutines_left")
		e.Close()
		require.NoError(b, st.Close())
	}
}

// program builds the program and gives its path.
func program(b *testing.B) string {
	bin := filepath.Join(b.TempDir(), "stonebaton")
	out, err := exec.Command("go", "build", "-o", bin, "../cmd/stonebaton").CombinedOutput()
	require.NoError(b, err, "%s", out)
	return bin
}

// BenchmarkService: from start to ready on the demo project, and its memory when idle.
func BenchmarkService(b *testing.B) {
	bin := program(b)
	for range b.N {
		c := exec.Command(bin, "serve", "../examples/harbour", "-listen", "127.0.0.1:0", "-data", b.TempDir())
		out, err := c.StdoutPipe()
		require.NoError(b, err)
		began := time.Now()
		require.NoError(b, c.Start())
		line, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(b, err)
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ready_ms")
		resp, err := http.Get(strings.TrimSpace(strings.TrimPrefix(line, "ready ")) + "/api/project")
		require.NoError(b, err)
		resp.Body.Close()
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.Process.Pid))
		require.NoError(b, err)
		var kb float64
		_, err = fmt.Sscanf(regexp.MustCompile(`VmRSS:\s+(\d+)`).FindStringSubmatch(string(status))[1], "%f", &kb)
		require.NoError(b, err)
		b.ReportMetric(kb/1024, "idle_MB")
		require.NoError(b, c.Process.Signal(syscall.SIGTERM))
		_ = c.Wait() // ended by the signal
	}
}

// BenchmarkConsoleFirstLoad: what the browser fetches before the console is there, compressed.
func BenchmarkConsoleFirstLoad(b *testing.B) {
	for range b.N {
		index, err := os.ReadFile("../web/dist/index.html")
		require.NoError(b, err)
		total := 0
		for _, m := range regexp.MustCompile(`(?:src|href)="/(assets/[^"]+)"`).FindAllStringSubmatch(string(index), -1) {
			raw, err := os.ReadFile("../web/dist/" + m[1])
			require.NoError(b, err)
			var z bytes.Buffer
			w := gzip.NewWriter(&z)
			_, _ = w.Write(raw)
			require.NoError(b, w.Close())
			total += z.Len()
		}
		fonts, err := filepath.Glob("../web/dist/assets/atkinson-hyperlegible-*-latin-wght-normal-*.woff2")
		require.NoError(b, err)
		for _, f := range fonts {
			info, err := os.Stat(f)
			require.NoError(b, err)
			total += int(info.Size())
		}
		b.ReportMetric(float64(total)/1000, "kB")
	}
}

// BenchmarkLongRun: runs of ten thousand steps in the console, on one lane and on two hundred:
// until they can be read, and the frames while they are scrolled from end to end, against a
// run of a hundred steps.
func BenchmarkLongRun(b *testing.B) {
	for range b.N {
		_, plain := inConsole(b, longRun(b, 50), false)
		open, frame := inConsole(b, longRun(b, 5000), false)
		b.ReportMetric(open, "open_ms")
		b.ReportMetric(frame/plain, "x_frame_of_100_steps")
		open, frame = inConsole(b, manyLanes(b), true)
		b.ReportMetric(open, "lanes_open_ms")
		b.ReportMetric(frame/plain, "lanes_x_frame_of_100_steps")
		b.ReportMetric(plain, "frame_ms")
	}
}

// longRun is a run of so many turns with a call each.
func longRun(b *testing.B, turns int) *coretest.World {
	w := coretest.Open(coretest.Project(b, endless(coretest.Main, "limits: {turns: 8, calls: 12, same_call: 3")), "Go on and on")
	for i := range turns {
		w.Step()
		w.Reply("", `look {"name":"Marrow Light"}`)
		w.Step()
		w.Return(ledger.StepID("").Turn(i+1).Call(1), map[string]any{"length_m": 46.0})
	}
	w.Step()
	w.Reply("At last.")
	w.Step()
	return w
}

func endless(text, limits string) string {
	return strings.Replace(text, limits, "limits: {turns: 99999, calls: 99999, same_call: 99999", 1)
}

// manyLanes is a run of ten thousand steps on two hundred lanes: one agent consults 199.
func manyLanes(b *testing.B) *coretest.World {
	var names []string
	agents := ""
	for i := range 199 {
		name := fmt.Sprintf("pier%d", i)
		names = append(names, name)
		agents += fmt.Sprintf("---\nagent: %s\nsummary: Knows pier %d.\nprompt: You know pier %d.\ntools: [look]\n", name, i, i)
	}
	text := endless(coretest.Main, "limits: {turns: 8, calls: 12, same_call: 3")
	text = strings.Replace(text, "passes_to: [berths]\n", "passes_to: [berths]\nconsults: ["+strings.Join(names, ", ")+"]\n", 1) + agents
	w := coretest.Open(coretest.Project(b, text), "Ask every pier")
	w.Step()
	for i, name := range names {
		w.Reply("", "consult_"+name+` {"question":"What is there?"}`)
		w.Step()
		thread := ledger.StepID("").Turn(i + 1).Call(1)
		for k := range 24 {
			w.Reply("", `look {"name":"Marrow Light"}`)
			w.Step()
			w.Return(thread.Turn(k+1).Call(1), map[string]any{"length_m": 46.0})
			w.Step()
		}
		w.Reply("Nothing.")
		w.Step()
	}
	w.Reply("At last.")
	w.Step()
	return w
}

// inConsole opens a run in the console and scrolls it: milliseconds until it can be read, and
// of the middle frame.
func inConsole(b *testing.B, w *coretest.World, unfold bool) (open, frame float64) {
	dir := b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(dir, project.Main), []byte(coretest.Main), 0o600))
	st, err := store.Open(filepath.Join(dir, ".stonebaton"))
	require.NoError(b, err)
	h := view.Head{Status: ledger.Done, Agent: "desk", Path: []string{"desk"}, OpenedAt: w.Events[0].At, LastAt: w.Now}
	require.NoError(b, st.Open(ctx, engine.Opening{Session: "w", New: true, Project: "quay", Person: "ann", Text: "Go on and on", Batch: engine.Batch{Run: "w-1", Events: w.Events, Head: h}}))
	require.NoError(b, st.Close())
	a, err := app.Open(ctx, app.Config{Dir: dir, Access: app.Access{Open: true}})
	require.NoError(b, err)
	defer a.Close()
	srv := httptest.NewServer(service.New(a, web.Files(), slog.New(slog.DiscardHandler), "bench").Handler())
	defer srv.Close()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-quic", true), chromedp.WindowSize(1280, 800))
	tab, stop := chromedp.NewExecAllocator(ctx, opts...)
	defer stop()
	tab, end := chromedp.NewContext(tab)
	defer end()
	require.NoError(b, chromedp.Do(tab, chromedp.Navigate(srv.URL+"/runs")))
	began := time.Now()
	until := func(expr string) {
		for {
			ok, err := chromedp.Run(tab, chromedp.Evaluate[bool](expr))
			require.NoError(b, err)
			if ok {
				return
			}
			require.Less(b, time.Since(began), 30*time.Second, expr)
		}
	}
	require.NoError(b, chromedp.Do(tab, chromedp.Navigate(srv.URL+"/runs/w-1")))
	until(`!!document.querySelector("[role=option]")`)
	open = float64(time.Since(began).Milliseconds())
	if unfold {
		until(`(document.querySelector("[aria-expanded=false][title='show what it asked']")?.click(), !!document.querySelector("[aria-expanded=true][title='fold what it asked']"))`)
	}
	raw, err := chromedp.Run(tab, chromedp.Evaluate[string](`new Promise(done => {
		const list = document.querySelector("[role=listbox]"), track = document.querySelector("[aria-label^='Steps in time']")
		const frames = []; let last = performance.now(), n = 0
		const step = now => { frames.push(now - last); last = now
			list.scrollTop = n / 120 * list.scrollHeight; track.scrollLeft = n / 120 * track.scrollWidth; track.scrollTop = n / 120 * track.scrollHeight
			if (++n > 120) done(JSON.stringify(frames.slice(2).sort((a, b) => a - b))); else requestAnimationFrame(step) }
		requestAnimationFrame(step) })`, chromedp.EvalAwaitPromise))
	require.NoError(b, err)
	var frames []float64
	require.NoError(b, json.Unmarshal([]byte(raw), &frames))
	return open, frames[len(frames)/2]
}
