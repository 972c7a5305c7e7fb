package service

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/tmaxmax/go-sse"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/store"
)

// heartbeat is how often a silent stream says that it is there.
const heartbeat = 15 * time.Second

// stream writes Server-Sent Events.
type stream struct {
	w   http.ResponseWriter
	ctl *http.ResponseController
	buf bytes.Buffer
}

func open(c *echo.Context) (*stream, error) {
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	s := &stream{w: w, ctl: http.NewResponseController(w)}
	return s, s.flush()
}

func (s *stream) put(id int64, event string, data any) error {
	raw, err := json.Marshal(data)
	if err != nil {
		return err
	}
	m := sse.Message{Type: sse.Type(event)}
	if id > 0 {
		m.ID = sse.ID(strconv.FormatInt(id, 10))
	}
	m.AppendData(string(raw))
	_, err = m.WriteTo(&s.buf)
	return err
}

// beat tells a silent peer that the stream is there.
func (s *stream) beat() error {
	var m sse.Message
	m.AppendComment("still here")
	_, err := m.WriteTo(&s.buf)
	return err
}

func (s *stream) flush() error {
	// a peer that does not read must not hold the stream for ever
	_ = s.ctl.SetWriteDeadline(time.Now().Add(writeTime)) // not every writer can; then it blocks
	if _, err := s.w.Write(s.buf.Bytes()); err != nil {
		return err
	}
	s.buf.Reset()
	return s.ctl.Flush()
}

// events gives a run's events: a page of JSON, or a stream where the request
// accepts one. The stream ends when the run does.
func (s *Service) events(c *echo.Context) error {
	ctx, id := c.Request().Context(), c.Param("id")
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	after, limit, err := page(c, 1000)
	if err != nil {
		return err
	}
	if !strings.Contains(c.Request().Header.Get("Accept"), "text/event-stream") {
		done, err := s.lendRun(c, id)
		if err != nil {
			return err
		}
		defer done()
		list, err := s.app.Store.ReadAfter(ctx, id, after, limit+1)
		if err != nil {
			return err
		}
		var out api.Events
		out.Events, out.Next = paged(list, limit, func(e ledger.Event) int64 { return e.Seq })
		return c.JSON(http.StatusOK, out)
	}
	if last := c.Request().Header.Get("Last-Event-ID"); last != "" {
		if after, err = strconv.ParseInt(last, 10, 64); err != nil || after < 0 {
			return problem(http.StatusBadRequest, "", "Last-Event-ID must be a whole number, not %q", last)
		}
	}
	return s.follow(c, id, after)
}

// follow streams what comes after an event. It reads the live notes from
// before it reads the ledger, so that nothing falls between; where notes were
// missed it reads the ledger again.
func (s *Service) follow(c *echo.Context, id string, after int64) error {
	ctx := c.Request().Context()
	r := s.app.Hub.Read(id)
	defer r.Close()
	past, done, err := s.ledger(c, id)
	if err != nil {
		return err
	}
	defer done()
	if n := len(past); n > 0 && past[n-1].Kind == ledger.KindRunClosed && past[n-1].Seq <= after {
		return c.NoContent(http.StatusNoContent) // there will never be more; browsers then stop asking
	}
	s.metrics.streams.Inc()
	defer s.metrics.streams.Dec()
	t := trace.New(id)
	out, err := open(c)
	if err != nil {
		return nil
	}
	send := func(events []ledger.Event) (closed bool, err error) {
		for _, e := range events {
			if e.Seq <= t.State().Seq() {
				continue
			}
			steps, err := t.Apply(e)
			if err != nil {
				return false, err
			}
			closed = e.Kind == ledger.KindRunClosed
			if e.Seq <= after {
				continue
			}
			if steps == nil {
				steps = []*trace.Step{}
			}
			if err := out.put(e.Seq, "event", api.Change{Event: e, Steps: steps, Totals: t.Totals()}); err != nil {
				return false, err
			}
		}
		return closed, out.flush()
	}
	closed, err := send(past)
	if err != nil || closed {
		return nil
	}
	past = nil
	done() // whoever has read so much reads what follows
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		var n live.Note
		select {
		case <-ctx.Done():
			return nil
		case <-s.ending.Done():
			return nil
		case <-beat.C:
			if !s.still(c) || out.beat() != nil || out.flush() != nil {
				return nil
			}
			continue
		case n = <-r.C:
			if !s.still(c) {
				return nil
			}
		}
		if r.Missed() || (len(n.Events) > 0 && n.Events[0].Seq > t.State().Seq()+1) {
			if n.Events, err = s.app.Store.ReadAfter(ctx, id, t.State().Seq(), 0); err != nil {
				return nil
			}
		}
		if n.Text != "" || n.Events == nil {
			if out.put(0, "delta", api.Delta{Step: n.Step, Text: n.Text, Trouble: n.Trouble}) != nil || out.flush() != nil {
				return nil
			}
		}
		if closed, err := send(n.Events); err != nil || closed {
			return nil
		}
	}
}

// live streams what changes anywhere: a row of the list of runs, the number of
// open tickets, the project, drills. It is lossy; a reader that missed
// something is told to look again.
func (s *Service) live(c *echo.Context) error {
	ctx := c.Request().Context()
	r := s.app.Hub.Read("")
	defer r.Close()
	out, err := open(c)
	if err != nil {
		return nil
	}
	s.metrics.streams.Inc()
	defer s.metrics.streams.Dec()
	tickets := func() error {
		n, err := s.app.Store.CountTickets(ctx, store.TicketFilter{For: asks(c).seerOf(), Whose: store.Mine})
		if err != nil {
			return err
		}
		return out.put(0, "tickets", map[string]int{"open": n})
	}
	if tickets() != nil || out.flush() != nil {
		return nil
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-s.ending.Done():
			return nil
		case <-beat.C:
			if !s.still(c) || out.beat() != nil {
				return nil
			}
		case n := <-r.C:
			if !s.still(c) {
				return nil
			}
			rows, gates, topics := map[string]bool{}, false, map[string]bool{}
			for more := true; more; { // what has piled up is told at once
				if n.Run != "" {
					rows[n.Run] = true
				}
				if n.Topic != "" {
					topics[n.Topic] = true
				}
				for _, e := range n.Events {
					switch e.Kind {
					case ledger.KindGateRaised, ledger.KindGateVoted, ledger.KindGateSettled, ledger.KindTimerFired: // a timer may let more people settle one
						gates = true
					}
				}
				select {
				case n = <-r.C:
				default:
					more = false
				}
			}
			if r.Missed() {
				topics["all"], gates = true, true
			}
			for id := range rows {
				seen, err := s.app.Store.Runs(ctx, store.RunFilter{ID: id, For: asks(c).seer(), Limit: 1})
				if err == nil && len(seen) == 0 {
					continue
				}
				if err == nil {
					err = out.put(0, "run", seen[0])
				}
				if err != nil {
					return nil
				}
			}
			if gates && tickets() != nil {
				return nil
			}
			for t := range topics {
				if out.put(0, "changed", map[string]string{"topic": t}) != nil {
					return nil
				}
			}
		}
		if out.flush() != nil {
			return nil
		}
	}
}
