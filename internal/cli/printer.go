package cli

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/view"
)

// printer shows a run as it goes, or as it went: words behind the name of their speaker,
// steps in the order in which they happened, each once it has ended. The words of a turn
// come before the line of its step, and that before the lines of its calls.
type printer struct {
	k       *call
	silent  bool
	colours map[string]string        // of speakers
	shown   map[ledger.StepID]string // what is printed of a step, so that it comes once
	steps   []*trace.Step
	at      map[ledger.StepID]int // where each stands among the steps
	calls   map[ledger.StepID]*SaidCall
	open    ledger.StepID // the turn whose words are being printed
	words   string        // of it, as far as they are printed
	hang    int           // where its lines begin
	said    string        // the newest words that were printed whole
	last    *trace.Step   // a turn that has ended, until it is known whether a person has to let its words through
}

func newPrinter(k *call, silent bool) *printer {
	return &printer{k: k, silent: silent, colours: map[string]string{}, shown: map[ledger.StepID]string{}, at: map[ledger.StepID]int{}, calls: map[ledger.StepID]*SaidCall{}}
}

// lead gives what stands before the words of somebody, and where the words begin: behind the
// column of names.
func (p *printer) lead(code, name string) (painted, int) {
	w := max(p.k.column(), len([]rune(name)))
	return p.k.paint(code, fmt.Sprintf("%-*s", w, name)) + " ", w + 1
}

// says prints what somebody says.
func (p *printer) says(code, name, text string) {
	lead, at := p.lead(code, name)
	p.k.block(lead, at, text)
}

// speaker gives the colour of who speaks: it stays theirs.
func (p *printer) speaker(name string) string {
	code, ok := p.colours[name]
	if !ok {
		free := []string{"35", "34", "32", "36", "95", "94"} // red says that a person is needed, or that something failed; yellow is hard to see on white
		h := fnv.New32()
		h.Write([]byte(name))
		at := int(h.Sum32() % uint32(len(free)))
		for range free {
			code = free[at%len(free)]
			taken := false
			for _, c := range p.colours {
				taken = taken || c == code
			}
			if !taken {
				break
			}
			at++
		}
		p.colours[name] = code
	}
	return code
}

// person prints what a person said.
func (p *printer) person(name, text string) {
	p.flush()
	if !p.silent {
		p.end()
		p.says("1", name, text)
	}
}

// delta prints a piece of a turn's words as it arrives, or what a call under way logs.
func (p *printer) delta(d api.Delta) {
	if p.silent {
		return
	}
	p.flush()
	if d.Step == "" {
		p.end()
		say := "It goes on."
		if d.Trouble != "" {
			say = strings.ToUpper(d.Trouble[:1]) + d.Trouble[1:] + "."
		}
		p.k.print("         %s\n", painted(hanging(say, 9)))
		return
	}
	s := p.step(d.Step)
	switch {
	case s == nil:
	case s.Depth > 0 && s.Kind == trace.Turn: // words of several threads would run into one another
		if p.k.tty && p.open == "" {
			p.k.live(sprint("%-*s %-16s %9s", p.k.column(), indent(s)+s.Agent, s.Name, "…"))
		}
	case s.Kind == trace.Call:
		p.end()
		p.k.live(sprint("%-*s %-16s %9s %10s   %s", p.k.column(), indent(s)+s.Agent, s.Name, "…", "", strings.TrimSpace(d.Text)))
	case p.open != d.Step && strings.TrimSpace(d.Text) == "":
	default:
		if p.open != d.Step {
			p.end()
			p.open, p.words = d.Step, ""
			p.k.clear()
			lead, at := p.lead(p.speaker(s.Agent), s.Agent)
			p.hang = at
			fmt.Fprint(p.k.Out, string(lead))
			d.Text = strings.TrimLeft(d.Text, "\n ")
		}
		p.words += d.Text
		fmt.Fprint(p.k.Out, strings.ReplaceAll(visible(d.Text), "\n", "\n"+strings.Repeat(" ", p.hang)))
	}
}

// end ends the line of words that are being printed.
func (p *printer) end() {
	if p.open != "" {
		fmt.Fprintln(p.k.Out)
		p.open = ""
	}
}

// text prints a turn's words, or what is missing of them.
func (p *printer) text(s *trace.Step) {
	text := strings.TrimSpace(s.Text)
	if text == "" {
		p.end()
		return
	}
	if rest, ok := strings.CutPrefix(text, strings.TrimRight(p.words, "\n ")); ok && p.open == s.ID {
		if tail := strings.TrimLeft(p.words, "\n "); len(tail) > len(strings.TrimRight(p.words, "\n ")) {
			rest = strings.TrimLeft(rest, "\n ")
		}
		fmt.Fprint(p.k.Out, strings.ReplaceAll(visible(rest), "\n", "\n"+strings.Repeat(" ", p.hang)))
		p.end()
	} else { // the words came in one piece, or not as they were told at first
		p.end()
		lead, at := p.lead(p.speaker(s.Agent), s.Agent)
		p.k.block(painted(indent(s))+lead, len(indent(s))+at, text)
	}
	if s.Depth == 0 {
		p.said = text
	}
}

func (p *printer) step(id ledger.StepID) *trace.Step {
	for _, s := range p.steps {
		if s.ID == id {
			return s
		}
	}
	return nil
}

// keep puts a step in the place of what was known of it.
func (p *printer) keep(s *trace.Step) {
	p.k.widen(s)
	if i, ok := p.at[s.ID]; ok {
		p.steps[i] = s
		return
	}
	p.at[s.ID] = len(p.steps)
	p.steps = append(p.steps, s)
}

// change prints what an event changed.
func (p *printer) change(ch api.Change) {
	switch d := ch.Event.Data.(type) {
	case *ledger.CallDecided:
		p.calls[ch.Event.Step] = &SaidCall{Step: ch.Event.Step, Tool: d.Tool, Args: d.Args}
	case *ledger.GateVoted:
		if !p.silent {
			p.end()
			p.k.print("         %s\n", vote(view.Voted(nil, d, ch.Event.At)[0]))
		}
	case *ledger.GateSettled:
		if c := p.calls[ch.Event.Step]; c != nil && len(d.Args) > 0 {
			c.Args = d.Args
		}
	case *ledger.CallReturned:
		if c := p.calls[ch.Event.Step]; c != nil {
			c.Result, c.Words = d.Result, d.Words
		}
	case *ledger.CallFailed:
		if c := p.calls[ch.Event.Step]; c != nil {
			c.Words = d.Words
		}
	case *ledger.CallRefused:
		if c := p.calls[ch.Event.Step]; c != nil {
			c.Words = d.Words
		}
	}
	if _, raised := ch.Event.Data.(*ledger.GateRaised); raised && p.last != nil && p.last.ID == ch.Event.Step {
		p.last = nil
	}
	p.flush()
	for _, s := range ch.Steps {
		p.keep(s)
		state := fmt.Sprint(s.Status, s.Attempts, s.Undone)
		if s.Wait != nil {
			state += string(s.Wait.Verb)
		}
		switch {
		case p.silent || p.shown[s.ID] == state:
		case s.Asked != nil && s.Status == "going":
			if p.shown[s.ID] == "" && (s.Kind != trace.Leg || s.Asked.Question != "") {
				p.shown[s.ID] = "asked"
				p.end()
				p.k.print("%s\n", painted(strings.TrimRight(string(sprint("%-*s %-16s %9s %10s   %s", p.k.column(), indent(s)+s.Agent, opens(s), "", "", s.Title)), " ")))
			}
		case s.Status == "going":
			if p.k.tty && p.open == "" {
				p.k.live(sprint("%-*s %-16s %9s", p.k.column(), indent(s)+s.Agent, s.Name, "…"))
			}
		case s.Status == "returned" && (s.Kind == trace.Leg && s.Asked.Question != "" || s.ID == ledger.Root):
			p.shown[s.ID] = state // what it did is told
		case s.Status == "waiting" && (s.Wait == nil || s.Wait.Settled != nil):
		case s.Kind == trace.Turn && s.Status == "returned" && s.Wait == nil && p.open != s.ID && s.Text != "":
			p.shown[s.ID], p.last = state, s
		default:
			p.shown[s.ID] = state
			p.line(s, "")
		}
	}
}

// flush prints the turn that has ended, whose words nobody has to let through.
func (p *printer) flush() {
	if s := p.last; s != nil {
		p.last = nil
		p.line(s, "")
	}
}

// line prints a step: a turn's words, then its line.
func (p *printer) line(s *trace.Step, lead painted) {
	if s.Kind == trace.Turn && s.Status == "returned" {
		p.text(s)
	} else {
		p.end()
	}
	p.k.print("%s%s\n", lead, p.k.line(s))
}

// whole prints the steps of a run that was read, each behind its number.
func (p *printer) whole(steps []*trace.Step) {
	p.k.widen(steps...)
	for _, s := range steps {
		p.keep(s)
		p.line(s, sprint("%3d  ", s.N))
	}
}

// answer prints what a run came to, where its words are not printed yet.
func (p *printer) answer(t trace.Totals) {
	p.flush()
	p.end()
	if text := strings.TrimSpace(t.Answer); text != "" && text != p.said {
		p.says(p.speaker(t.Agent), t.Agent, text)
	}
	if t.Remarks != "" {
		p.says("1", "open", t.Remarks)
	}
	if t.Problem != nil {
		p.says("31", string(t.Status), problemLine(t))
	}
}

// SaidCall is one call of a run, or one consult, on any thread.
type SaidCall struct {
	Step   ledger.StepID   `json:"step"`
	Agent  string          `json:"agent"`
	Tool   string          `json:"tool"`
	Args   json.RawMessage `json:"args"`
	Status string          `json:"status"`
	Result json.RawMessage `json:"result,omitempty"`
	Words  string          `json:"words,omitempty"`  // what the model read of it
	Thread ledger.StepID   `json:"thread,omitempty"` // the consult that it is part of; "" for what was made on the main thread
}
