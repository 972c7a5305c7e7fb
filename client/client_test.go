package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/api"
	"stonebaton.example/client"
	"stonebaton.example/internal/rows"
)

var ctx = context.Background()

func event(w http.ResponseWriter, seq int, kind, status string) {
	fmt.Fprintf(w, "id: %d\nevent: event\ndata: {\"event\":{\"run\":\"a-1\",\"seq\":%d,\"v\":1,\"kind\":%q,\"data\":{}},\"steps\":[],\"totals\":{\"status\":%q}}\n\n", seq, seq, kind, status)
	w.(http.Flusher).Flush()
}

func TestFollowTakesABrokenStreamUpAgain(t *testing.T) {
	var asked []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Header.Get("Last-Event-ID"))
		w.Header().Set("Content-Type", "text/event-stream")
		switch len(asked) {
		case 1:
			event(w, 1, "run.opened", "going")
			fmt.Fprint(w, "event: delta\ndata: {\"step\":\"t1\",\"text\":\"Hel\"}\n\n: still here\n\n")
			event(w, 2, "run.stop_asked", "going")
		case 2: // broken off before anything came
		default:
			event(w, 3, "run.closed", "done")
		}
	}))
	defer srv.Close()
	var kinds []string
	words := ""
	err := client.New(srv.URL).Follow(ctx, "a-1", 0, func(c api.Change) error {
		kinds = append(kinds, string(c.Event.Kind))
		return nil
	}, func(d api.Delta) { words += d.Text })
	require.NoError(t, err)
	assert.Equal(t, []string{"run.opened", "run.stop_asked", "run.closed"}, kinds)
	assert.Equal(t, []string{"", "2", "2"}, asked)
	assert.Equal(t, "Hel", words)
}

func TestFollowEnds(t *testing.T) {
	code := http.StatusNoContent
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if code == http.StatusOK {
			event(w, 1, "run.opened", "held")
			return
		}
		w.WriteHeader(code)
		if code >= 400 {
			fmt.Fprint(w, `{"detail":"there is no such run","remedy":"List them.","status":404}`)
		}
	}))
	defer srv.Close()
	c := client.New(srv.URL)
	never := func(api.Change) error { return errors.New("nothing was to come") }
	require.NoError(t, c.Follow(ctx, "a-1", 9, never, nil), "there is no more")
	code = http.StatusNotFound
	var p *api.Problem
	require.ErrorAs(t, c.Follow(ctx, "a-1", 0, never, nil), &p)
	assert.Equal(t, "there is no such run\nList them.", p.Error())
	code = http.StatusOK
	require.NoError(t, c.Follow(ctx, "a-1", 0, func(api.Change) error { return client.ErrStopped }, nil))
	boom := errors.New("boom")
	require.ErrorIs(t, c.Follow(ctx, "a-1", 0, func(api.Change) error { return boom }, nil), boom)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	require.ErrorIs(t, c.Follow(gone, "a-1", 0, never, nil), context.Canceled)
}

func TestErrorsSayWhatToDo(t *testing.T) {
	c := client.New("http://127.0.0.1:1/")
	_, err := c.Runs(ctx, url.Values{})
	var gone *client.UnreachableError
	require.ErrorAs(t, err, &gone)
	assert.Contains(t, err.Error(), "start one with `stonebaton serve`")
	assert.Equal(t, "http://127.0.0.1:1", c.URL())
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			w.WriteHeader(http.StatusTeapot)
		}
		fmt.Fprint(w, "<html>")
	}))
	defer srv.Close()
	_, err = client.New(srv.URL).Begin(ctx, api.Start{Text: "x"})
	require.ErrorContains(t, err, "which is not an answer of Stone Baton")
	_, err = client.New(srv.URL).Models(ctx)
	require.ErrorContains(t, err, "cannot be read")
}

func TestLiveIsTakenUpAgainButNotAfterARefusal(t *testing.T) {
	asked := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if asked++; asked == 3 {
			http.Error(w, "no such page", http.StatusNotFound)
			return
		}
		fmt.Fprintf(w, "event: run\ndata: {\"id\":\"a-%d\"}\n\n", asked)
	}))
	defer srv.Close()
	var runs []string
	err := client.New(srv.URL).Live(ctx, func(r rows.Run) { runs = append(runs, r.ID) })
	require.Error(t, err)
	assert.Equal(t, []string{"a-1", "a-2"}, runs)
	assert.Equal(t, 3, asked, "a refusal is not asked for again")
}
