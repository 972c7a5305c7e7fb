package bench

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/right"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/store"
	"stonebaton.example/web"
)

// gates is a project whose write waits for a person: for an hour, or for a moment.
const gates = `project: gates
start: desk
model: m
models: {m: {speaks: understudy}}
---
tool: put
summary: Put a thing away.
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
gate: {within: %s, ask: "Put {{ args.name }} away?"}
stubs: [{returns: null}]
---
agent: desk
summary: Puts.
prompt: You put.
tools: [put]
`

// putter is a model that calls the tool and then answers, and the tool. Freed is told when a
// call begins.
type putter struct{ freed chan string }

func (p putter) Ask(_ context.Context, _ *project.Project, r deed.Request, _ func(string)) (deed.Reply, *deed.ModelFailure) {
	if r.Messages[len(r.Messages)-1].Role == ledger.FromTool {
		return deed.Reply{Text: "Done.", Finish: "stop", Usage: ledger.Usage{In: 120, Out: 8}}, nil
	}
	return deed.Reply{Calls: []ledger.Ask{{ID: "c1", Tool: "put", Args: `{"name":"it"}`}}, Finish: "calls", Usage: ledger.Usage{In: 100, Out: 12}}, nil
}

func (p putter) Look(context.Context, deed.Invocation) (string, *deed.Failure) { return "", nil }

func (p putter) Call(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	if p.freed != nil {
		p.freed <- i.Run
	}
	return deed.Result{}, nil
}

// holding gives an engine on a store, for a project whose gate lapses after a while.
func holding(b *testing.B, st *store.Store, within string, p putter, first int) *engine.Engine {
	n := first
	var mu sync.Mutex
	return engine.New(engine.Config{Log: st, Models: p, Tools: p, Projects: fixed{coretest.Project(b, fmt.Sprintf(gates, within))}, Blanker: secret.New(none), Live: &live.Hub{}, Clock: engine.WallClock{},
		NewID: func() string { mu.Lock(); defer mu.Unlock(); n++; return fmt.Sprintf("h%06d", n) }})
}

// BenchmarkManyHeld: a hundred thousand runs wait for people. The engine is started on them,
// the first page of tickets is asked for, and some are settled one after another: from the
// settlement to the beginning of the call.
func BenchmarkManyHeld(b *testing.B) {
	const runs, settled = 100_000, 200
	for range b.N {
		dir := b.TempDir()
		st, err := store.Open(dir)
		require.NoError(b, err)
		e := holding(b, st, "240h", putter{}, 0)
		require.NoError(b, e.Start(ctx))
		each(runs, 256, func(int) {
			_, err := e.Begin(ctx, engine.Start{Text: "Put it away."})
			require.NoError(b, err)
		})
		require.NoError(b, e.Wait(ctx))
		e.Close()
		require.NoError(b, st.Close())

		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		st, err = store.Open(dir)
		require.NoError(b, err)
		p := putter{freed: make(chan string, 1)}
		e = holding(b, st, "240h", p, runs)
		require.NoError(b, e.Start(ctx))
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "start_ms")
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/runs, "bytes/run")

		files := b.TempDir()
		require.NoError(b, os.WriteFile(filepath.Join(files, project.Main), []byte(fmt.Sprintf(gates, "240h")), 0o600))
		a, err := app.Open(ctx, app.Config{Dir: files, Access: app.Access{Open: true}})
		require.NoError(b, err)
		require.NoError(b, a.Store.Close())
		a.Store, a.Engine, a.Hub = st, e, &live.Hub{}
		srv := httptest.NewServer(service.New(a, web.Files(), slog.New(slog.DiscardHandler), "bench").Handler())
		var pages []time.Duration
		for range 20 {
			began = time.Now()
			resp, err := http.Get(srv.URL + "/api/tickets?status=open&limit=200")
			require.NoError(b, err)
			require.Equal(b, http.StatusOK, resp.StatusCode)
			resp.Body.Close()
			pages = append(pages, time.Since(began))
		}
		b.ReportMetric(median(pages), "page_ms")
		for _, who := range []struct{ unit, name string }{{"mine_ms", "agnes"}, {"none_ms", "jonas"}} { // one who may settle all of them, and one who may none
			rights := []right.Right{right.Talk, right.Approve}
			if who.name == "jonas" {
				rights = rights[:1]
			}
			token, err := a.People.Add(people.Person{Name: who.name, Rights: rights}, time.Now())
			require.NoError(b, err)
			pages = nil
			for range 5 {
				req, err := http.NewRequest(http.MethodGet, srv.URL+"/api/tickets?whose=mine&limit=200", nil)
				require.NoError(b, err)
				req.Header.Set("Authorization", "Bearer "+token)
				began = time.Now()
				resp, err := http.DefaultClient.Do(req)
				require.NoError(b, err)
				require.Equal(b, http.StatusOK, resp.StatusCode)
				resp.Body.Close()
				pages = append(pages, time.Since(began))
			}
			b.ReportMetric(median(pages), who.unit)
		}
		srv.Close()

		var waits []time.Duration
		for i := range settled {
			began = time.Now()
			require.NoError(b, e.Settle(ctx, fmt.Sprintf("h%06d-1", 1+i*(runs/settled)), "t1.c1", loop.Settlement{Verb: ledger.Allow, By: "local"}))
			<-p.freed
			waits = append(waits, time.Since(began))
		}
		b.ReportMetric(median(waits), "settle_ms")
		require.NoError(b, e.Wait(ctx))
		e.Close()
		require.NoError(b, st.Close())
	}
}

// BenchmarkLapses: the time of a thousand tickets is over in the same second.
func BenchmarkLapses(b *testing.B) {
	const runs = 1000
	for range b.N {
		st, err := store.Open(b.TempDir())
		require.NoError(b, err)
		e := holding(b, st, "1s", putter{}, 0)
		each(runs, 64, func(int) {
			_, err := e.Begin(ctx, engine.Start{Text: "Put it away."})
			require.NoError(b, err)
		})
		require.NoError(b, e.Wait(ctx))
		time.Sleep(time.Second) // all of them are due
		began := time.Now()
		_, err = e.FireDue(ctx)
		require.NoError(b, err)
		require.NoError(b, e.Wait(ctx))
		b.ReportMetric(time.Since(began).Seconds(), "s")
		n, err := st.CountTickets(ctx, store.TicketFilter{})
		require.NoError(b, err)
		require.Zero(b, n)
		e.Close()
		require.NoError(b, st.Close())
	}
}

// BenchmarkRights: what it adds to a request that it is known who asks: as the local person, by
// a token, and by the cookie of a sign-in.
func BenchmarkRights(b *testing.B) {
	files := b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(files, project.Main), []byte(fmt.Sprintf(gates, "1h")), 0o600))
	a, err := app.Open(ctx, app.Config{Dir: files, Access: app.Access{Local: true, Open: true}})
	require.NoError(b, err)
	defer a.Close()
	var token string
	for i := range 200 {
		if token, err = a.People.Add(people.Person{Name: fmt.Sprintf("p%d", i), Rights: []right.Right{right.Talk, right.View}}, time.Now()); err != nil {
			b.Fatal(err)
		}
	}
	h := service.New(a, web.Files(), slog.New(slog.DiscardHandler), "bench").Handler()
	ask := func(change func(*http.Request)) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, "http://127.0.0.1/api/trust", nil)
		change(r)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	in := httptest.NewRequest(http.MethodPost, "http://127.0.0.1/api/sign-in", strings.NewReader(fmt.Sprintf(`{"token":%q}`, token)))
	in.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	h.ServeHTTP(w, in)
	require.Equal(b, http.StatusOK, w.Code)
	cookie := w.Result().Cookies()[0]
	ways := []struct {
		unit   string
		change func(*http.Request)
	}{
		{"local_us", func(*http.Request) {}},
		{"token_us", func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+token) }},
		{"cookie_us", func(r *http.Request) { r.AddCookie(cookie) }},
	}
	took := map[string][]time.Duration{}
	for range 500 {
		for _, x := range ways {
			began := time.Now()
			require.Equal(b, http.StatusOK, ask(x.change).Code)
			took[x.unit] = append(took[x.unit], time.Since(began))
		}
	}
	for _, x := range ways {
		b.ReportMetric(median(took[x.unit])*1000, x.unit)
	}
}

func median(d []time.Duration) float64 {
	slices.Sort(d)
	return float64(d[len(d)/2].Microseconds()) / 1000
}
