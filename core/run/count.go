package run

import "stonebaton.example/core/ledger"

// counts are sums over a tree of threads.
type counts struct {
	flight  int // turns and calls in flight
	tickets int // open tickets
	timers  int // attempts that will be made again
	able    int // places where something may have to happen now
}

func (a counts) less(b counts) counts {
	return counts{a.flight - b.flight, a.tickets - b.tickets, a.timers - b.timers, a.able - b.able}
}

func (a counts) plus(b counts) counts {
	return counts{a.flight + b.flight, a.tickets + b.tickets, a.timers + b.timers, a.able + b.able}
}

// recount puts what is counted of something in the place of what was.
func (t *Thread) recount(counted *counts, now counts) {
	d := now.less(*counted)
	if d == (counts{}) {
		return
	}
	*counted = now
	t.own = t.own.plus(d)
	for ; t != nil; t = t.parent {
		t.sum = t.sum.plus(d)
	}
}

// recountTurn counts the newest turn of a thread anew, or that it has none.
func (t *Thread) recountTurn() {
	if t.frame != nil {
		t.recountFrame()
		return
	}
	n := counts{}
	u := t.turn
	switch {
	case t.pause.Open() && !t.pause.Fired:
		t.recount(&t.first, counts{tickets: 1})
		if u != nil {
			t.recount(&u.counted, counts{})
		}
		return
	case u == nil:
		t.recount(&t.first, counts{able: 1})
		return
	}
	t.recount(&t.first, counts{})
	switch u.Phase {
	case Sent:
		n.flight = 1
	case Retrying:
		n.timers = 1
		if u.Fired {
			n.timers, n.able = 0, 1
		}
	case TurnLost, TurnOver:
		n.able = 1
	case AskPeople:
		n.tickets = 1
	case Received:
		switch {
		case u.Ticket.Open() && !u.Ticket.Fired: // people decide about the answer
			n.tickets = 1
		case (!u.Decided() || u.left == 0) && !u.judging:
			n.able = 1
		}
	}
	t.recount(&u.counted, n)
}

// recountCall counts a call anew, and what its end may set free.
func (c *Call) recountCall() {
	u := c.Turn
	over := c.Progress.Over()
	if over && !c.ended {
		c.ended = true
		u.left--
		if c.Decided.Verdict != ledger.Pass {
			u.plain--
		}
	}
	c.own()
	if over && c.writes() && c.Progress != Returned && (u.blocked == 0 || c.Decided.N < u.blocked) {
		u.blocked = c.Decided.N // the later ones are withdrawn and refused
		for _, later := range u.Calls[u.blocked:] {
			later.own()
		}
	}
	if over && c.writes() {
		for u.next < len(u.Calls) && (!u.Calls[u.next].writes() || u.Calls[u.next].Progress.Over()) {
			u.next++
		}
		if u.next < len(u.Calls) {
			u.Calls[u.next].own()
		}
	}
	if over && u.plain == 0 {
		for _, p := range u.passes {
			p.own()
		}
	}
	if u.left == 0 {
		u.Thread.recountTurn()
	}
}

// own counts a call without its thread.
func (c *Call) own() {
	u := c.Turn
	n := counts{}
	inLine := !c.writes() || u.next >= len(u.Calls) || u.Calls[u.next] == c
	yes := func(is bool) {
		if is {
			n.able = 1
		}
	}
	switch c.Progress {
	case Decided:
		switch {
		case !u.Decided():
		case c.Decided.Verdict == ledger.Pass:
			yes(u.plain == 0)
		case c.Decided.Verdict == ledger.Start:
			yes(inLine)
		default:
			n.able = 1 // a ticket to raise, a refusal to record
		}
	case Waiting:
		n.tickets = 1
		yes(c.Ticket.Fired)
	case Allowed:
		yes(inLine)
	case InFlight:
		n.flight = 1
	case Again:
		n.timers = 1
		if c.Fired {
			n.timers = 0
			yes(inLine)
		}
	case CallLost, Unsure, Settled, Left:
		n.able = 1
	case Opened, Returned, CallFailed, CallRefused:
	}
	if reads := n.flight > 0 && c.Decided.Effect == ledger.Read; reads != c.reading {
		c.reading = reads
		if reads {
			u.reads++
		} else {
			u.reads--
		}
	}
	if c.writes() && u.blocked > 0 && c.Decided.N > u.blocked && !c.Progress.Over() && c.Progress != InFlight {
		n.able = 1
	}
	u.Thread.recount(&c.counted, n)
}
