package client

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptrace"
	"strings"
	"sync"
	"time"

	"github.com/tmaxmax/go-sse"
	"golang.org/x/sync/errgroup"
)

// Bridge passes the messages of a client of the Model Context Protocol, one to a line of in,
// on to the service, and what the service sends to out, until in or ctx ends. The error is an
// *UnreachableError where the service is gone.
//
// Each message stays as it is; what the protocol wants of a request over HTTP beside it is
// taken from it. All revisions that the service speaks can be spoken so.
func (c *Client) Bridge(ctx context.Context, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	b := &bridge{client: c, out: out, under: map[string]context.CancelFunc{}}
	lines := make(chan []byte)
	read := make(chan error, 1)
	go func() { read <- b.lines(ctx, in, lines) }() // a read cannot be broken off
	g, ctx := errgroup.WithContext(ctx)
	b.group = g
	g.Go(func() error {
		for {
			select {
			case line := <-lines:
				if err := b.pass(ctx, line); err != nil {
					return err
				}
			case err := <-read:
				cancel() // nobody waits for what is still under way
				return err
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	})
	err := g.Wait()
	b.leave()
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

type bridge struct {
	client *Client
	group  *errgroup.Group

	writing sync.Mutex
	out     io.Writer

	mu       sync.Mutex
	session  string
	revision string
	under    map[string]context.CancelFunc // requests under way, by id
}

// envelope is what of a message the bridge has to know.
type envelope struct {
	ID     json.RawMessage `json:"id"`
	Method string          `json:"method"`
	Params struct {
		Name string          `json:"name"`
		URI  string          `json:"uri"`
		Back json.RawMessage `json:"requestId"`
		Meta struct {
			Revision string `json:"io.modelcontextprotocol/protocolVersion"`
		} `json:"_meta"`
	} `json:"params"`
	Result struct {
		Revision string `json:"protocolVersion"`
	} `json:"result"`
}

// lines gives the lines of in one by one.
func (b *bridge) lines(ctx context.Context, in io.Reader, to chan<- []byte) error {
	r := bufio.NewReader(in)
	for {
		line, err := r.ReadBytes('\n')
		if line = bytes.TrimSpace(line); len(line) > 0 {
			select {
			case to <- line:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// pass sends a message of the client's. It returns when the service has it, so that a message
// that takes it back comes behind it; what is answered is read on the side.
func (b *bridge) pass(ctx context.Context, line []byte) error {
	var m envelope
	if err := json.Unmarshal(line, &m); err != nil && !json.Valid(line) {
		return b.write([]byte(`{"jsonrpc":"2.0","id":null,"error":{"code":-32700,"message":"a line is not a message of JSON-RPC"}}`))
	}
	if len(m.ID) > 0 && m.Method != "" {
		var cancel context.CancelFunc
		ctx, cancel = context.WithCancel(ctx)
		b.mu.Lock()
		b.under[string(m.ID)] = cancel
		b.mu.Unlock()
	}
	there := make(chan struct{})
	sent := sync.OnceFunc(func() { close(there) })
	trace := httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteRequest: func(httptrace.WroteRequestInfo) { sent() }})
	req, err := http.NewRequestWithContext(trace, http.MethodPost, b.client.base+"/mcp", bytes.NewReader(line))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "application/json, text/event-stream")
	b.say(req, m)
	wants := m.Method != "" && len(m.ID) > 0
	answer := func() error {
		defer sent()
		defer b.cancel(m.ID)
		err := b.answer(ctx, req, m, wants)
		var gone *UnreachableError
		switch {
		case err == nil, ctx.Err() != nil:
			return nil
		case errors.As(err, &gone):
			return err
		case wants:
			return b.refuse(m.ID, err)
		}
		return nil // a notification has no answer
	}
	if m.Method == "initialize" { // what follows needs its session
		return answer()
	}
	if m.Method == "notifications/cancelled" && m.Params.Meta.Revision != "" {
		b.cancel(m.Params.Back) // over HTTP one closes the request
		return nil
	}
	b.group.Go(answer)
	select {
	case <-there:
	case <-ctx.Done():
	}
	if m.Method == "notifications/initialized" {
		b.group.Go(func() error { return b.listen(ctx) })
	}
	return nil
}

// cancel ends what is under way of a request.
func (b *bridge) cancel(id json.RawMessage) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if end := b.under[string(id)]; end != nil {
		end()
		delete(b.under, string(id))
	}
}

// say puts beside a message what the protocol wants in headers.
func (b *bridge) say(req *http.Request, m envelope) {
	b.mu.Lock()
	session, revision := b.session, cmp.Or(m.Params.Meta.Revision, b.revision)
	b.mu.Unlock()
	set := func(name, value string) {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	set("Mcp-Session-Id", session)
	set("Mcp-Protocol-Version", revision)
	if m.Params.Meta.Revision != "" {
		set("Mcp-Method", m.Method)
		set("Mcp-Name", cmp.Or(m.Params.Name, m.Params.URI))
	}
}

// answer sends a message, and passes on what comes back.
func (b *bridge) answer(ctx context.Context, req *http.Request, m envelope, wants bool) error {
	resp, err := b.client.send(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if m.Method == "initialize" {
		b.mu.Lock()
		b.session = resp.Header.Get("Mcp-Session-Id")
		b.mu.Unlock()
	}
	if !wants {
		return nil
	}
	answered := false
	err = b.messages(resp, func(raw []byte) error {
		var back envelope
		_ = json.Unmarshal(raw, &back) // what cannot be read is the client's to judge
		if back.Method == "" && bytes.Equal(back.ID, m.ID) {
			answered = true
			if m.Method == "initialize" {
				b.mu.Lock()
				b.revision = back.Result.Revision
				b.mu.Unlock()
			}
		}
		return b.write(raw)
	})
	if err == nil && !answered && ctx.Err() == nil && !b.client.answers(ctx) {
		return &UnreachableError{URL: b.client.base, Err: errBroken}
	}
	return err // a call that was taken back has no answer
}

// messages reads what came, be it one message or a stream of them.
func (b *bridge) messages(resp *http.Response, each func([]byte) error) error {
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		raw, err := io.ReadAll(resp.Body)
		if err != nil || len(bytes.TrimSpace(raw)) == 0 {
			return nil // whether the service is still there shows in what is missing
		}
		return each(raw)
	}
	for ev, err := range sse.Read(resp.Body, &sse.ReadConfig{MaxEventSize: maxEvent}) {
		if err != nil {
			return nil
		}
		if ev.Data != "" {
			if err := each([]byte(ev.Data)); err != nil {
				return err
			}
		}
	}
	return nil
}

// listen passes on what the service says unasked, such as that its tools have changed.
func (b *bridge) listen(ctx context.Context) error {
	b.mu.Lock()
	session := b.session
	b.mu.Unlock()
	if session == "" {
		return nil
	}
	return resuming(ctx, func() (bool, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, b.client.base+"/mcp", nil)
		if err != nil {
			return false, err
		}
		req.Header.Set("Accept", "text/event-stream")
		b.say(req, envelope{})
		resp, err := b.client.send(req)
		if err != nil {
			return false, err
		}
		defer resp.Body.Close()
		if err := b.messages(resp, b.write); err != nil {
			return true, err
		}
		return false, errBroken
	})
}

// answers says whether the service is there.
func (c *Client) answers(ctx context.Context) bool {
	var gone *UnreachableError
	return !errors.As(c.do(ctx, http.MethodGet, "/healthz", nil, nil), &gone)
}

// leave ends the session there.
func (b *bridge) leave() {
	if b.session == "" {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodDelete, b.client.base+"/mcp", nil)
	if err != nil {
		return
	}
	b.say(req, envelope{})
	if resp, err := b.client.send(req); err == nil {
		resp.Body.Close()
	}
}

// refuse answers a request that the service did not take.
func (b *bridge) refuse(id json.RawMessage, err error) error {
	words, merr := json.Marshal(err.Error())
	if merr != nil {
		return merr
	}
	return b.write([]byte(fmt.Sprintf(`{"jsonrpc":"2.0","id":%s,"error":{"code":-32603,"message":%s}}`, id, words)))
}

// write gives a message to the client, on one line.
func (b *bridge) write(raw []byte) error {
	var line bytes.Buffer
	if err := json.Compact(&line, raw); err != nil {
		return nil // it is no message
	}
	line.WriteByte('\n')
	b.writing.Lock()
	defer b.writing.Unlock()
	_, err := b.out.Write(line.Bytes())
	return err
}
