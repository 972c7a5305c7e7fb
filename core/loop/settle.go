package loop

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/right"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// NotEntitledError says that a ticket is for others to settle.
type NotEntitledError struct {
	As  string
	For []string // the approvers who may
}

func (e *NotEntitledError) Error() string {
	if len(e.For) == 0 {
		return fmt.Sprintf("%q may not settle this ticket; it names nobody, so it is for people with the right %s", e.As, right.Approve)
	}
	return fmt.Sprintf("%q may not settle this ticket; it is for %s", e.As, strings.Join(e.For, ", "))
}

// SettledError says that somebody else was first.
type SettledError struct {
	Verb ledger.Verb
	By   string
}

func (e *SettledError) Error() string {
	who := e.By
	if who == "" {
		who = "nobody"
	}
	return fmt.Sprintf("the ticket is already settled: %s by %s", e.Verb, who)
}

// Settlement is what a person decided about a ticket. As names the approver
// they act as; Shown is the hash of what they saw, "" where it is not known.
type Settlement struct {
	ID      string
	Verb    ledger.Verb
	By, As  string
	Stands  []string // the names that By stands for: their own, approvers, rights; nil is any: it is not known who is who
	Because string
	Args    map[string]any // for Amend: the values to change
	Result  any            // for Happened; for Answer the words
	Shown   ledger.Hash
	Spare   bool // for Allow and Amend: this need not be asked again in the session
}

// maxBecause bounds a reason, and remarks: models read them.
const maxBecause = 20_000

// RefusedError is a request that cannot be met as it was made: the person can fix it.
type RefusedError struct{ Say, Remedy string }

func (r *RefusedError) Error() string { return r.Say }

func refused(remedy, format string, args ...any) error {
	return &RefusedError{Say: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Settle checks what a person decided about the ticket of a step and gives its event; nil
// where the same settlement has come before. Its errors are a RefusedError, a SettledError or
// a NotEntitledError where the person is to hear of it.
func Settle(p *project.Project, state *run.State, step ledger.StepID, s Settlement) (*ledger.Event, error) {
	t := state.Ticket(step)
	if !t.Open() {
		was := state.Settlement(step)
		switch {
		case was == nil:
			return nil, &SettledError{Verb: ledger.Withdrawn}
		case s.ID != "" && was.ID == s.ID && was.Verb == s.Verb:
			return nil, nil
		}
		return nil, &SettledError{Verb: was.Verb, By: was.By}
	}
	if !settles(t.Raised, s.Verb) {
		return nil, refused("", "this ticket of the kind %s is settled by %s, not by %q", t.Raised.Form, verbList(t.Raised.Verbs()), s.Verb)
	}
	for _, v := range t.Votes {
		if s.ID != "" && v.ID == s.ID && v.Verb == s.Verb {
			return nil, nil
		}
	}
	if s.Shown != "" && s.Shown != t.Shown() {
		remedy := "Look at the ticket again."
		if t.Changed() {
			remedy = fmt.Sprintf("Look at it again: %s has changed values.", t.Votes[0].By)
		}
		return nil, refused(remedy, "the ticket is not what you were shown")
	}
	if n := len(s.Because); n > maxBecause {
		return nil, refused("Say it in fewer words.", "a reason may have %d bytes, and this has %d", maxBecause, n)
	}
	by, as, err := voter(state, t, s)
	if err != nil {
		return nil, err
	}
	if s.Spare && !t.Raised.Spare {
		return nil, refused("Add first: to the gate, so that people may say so.", "this gate is asked every time")
	}
	ev := &ledger.GateSettled{Verb: s.Verb, By: by, As: as, Because: s.Because, ID: s.ID, Spare: s.Spare, Why: by + " decided"}
	switch s.Verb {
	case ledger.RefuseIt:
		if strings.TrimSpace(s.Because) == "" {
			return nil, refused("Add a reason: the agent passes it on.", "a refusal needs a reason")
		}
	case ledger.SendBack:
		if strings.TrimSpace(s.Because) == "" {
			return nil, refused("Say what is to be different.", "a text is sent back with remarks")
		}
	case ledger.Amend:
		args, err := amendment(p, t, s.Args)
		if err != nil {
			return nil, err
		}
		if u := state.Turn(step); u != nil { // an answer, which may have a schema
			if shape := prompt.AnswerOf(p, u.Thread); shape != nil {
				if _, faults := ReadAnswer(shape, textOf(args)); faults != "" {
					return nil, refused("The answer has to fit the schema of its agent.", "the new answer does not fit: %s", faults)
				}
			}
		}
		ev.Args = args
	case ledger.Answer:
		text, ok := s.Result.(string)
		if !ok || strings.TrimSpace(text) == "" {
			return nil, refused("Give the answer in words.", "an answer needs words")
		}
		var said any = text
		shape, err := wanted(t.Raised)
		if err != nil {
			return nil, err
		}
		if shape != nil {
			v, err := value.Read([]byte(strings.TrimSpace(text)))
			if err != nil {
				v = strings.TrimSpace(text) // in words
			}
			fixed, _, faults := shape.Repair(v)
			if len(faults) > 0 {
				return nil, refused("Answer as the question asks.", "the answer does not fit: %s", schema.Say(faults))
			}
			said = fixed
		}
		raw, err := json.Marshal(said)
		if err != nil {
			return nil, err
		}
		ev.Result = raw
	case ledger.Happened: // of a step that a person looks at: they say what it brings in its place
		if t := p.Tools[t.Raised.Tool]; t != nil && s.Result != nil {
			if faults := t.Output.Check(s.Result); len(faults) > 0 {
				return nil, refused("Give a result as output: of the tool describes it, or omit it.", "the result is not one that %s gives: %s", t.Name, schema.Say(faults))
			}
		}
		raw, err := json.Marshal(s.Result)
		if err != nil {
			return nil, err
		}
		ev.Result = raw
	}
	e := ledger.New(step, ev)
	if s.Verb == ledger.Allow || s.Verb == ledger.Amend {
		e = agreed(p, state, step, t, ev)
	}
	return &e, nil
}

// voter gives the name of who settles a ticket, and as which approver, if they may.
func voter(state *run.State, t *run.Ticket, s Settlement) (by, as string, err error) {
	all := t.For()
	by = s.By
	switch {
	case s.Stands != nil:
		if as, err = standing(state, t, s); err != nil {
			return "", "", err
		}
	case len(all) > 0:
		if by = s.As; by == "" {
			by = all[0]
			for _, n := range all { // the first who has not agreed yet
				if !voted(t, n) {
					by = n
					break
				}
			}
		}
		if !slices.Contains(all, by) {
			return "", "", &NotEntitledError{As: by, For: all}
		}
	case s.As != "": // anybody may, and it is not known who is who
		by = s.As
	}
	switch {
	case t.Raised.Not != "" && by == t.Raised.Not:
		return "", "", refused("Somebody else has to decide.", "%s asked for it, and may not agree to it as well", by)
	case s.Verb == ledger.Allow && voted(t, by):
		return "", "", refused(fmt.Sprintf("It is for %s; %s to agree.", near.And(all), moreHave(t.Raised.Need-len(t.Votes))), "%s has agreed already", by)
	}
	return by, as, nil
}

// standing gives as which of those whom a ticket names a person settles it; "" as themselves.
// A ticket that names nobody is for those who may approve, and one that asks the person whom
// the run works for something is for that person as well.
func standing(state *run.State, t *run.Ticket, s Settlement) (string, error) {
	all := t.For()
	if len(all) == 0 {
		if (s.By == state.Opened().Person && t.Raised.Theirs()) || slices.Contains(s.Stands, string(right.Approve)) {
			return "", nil
		}
		return "", &NotEntitledError{As: s.By}
	}
	for _, n := range all {
		if slices.Contains(s.Stands, n) && (s.As == "" || s.As == n) {
			if n == s.By {
				n = ""
			}
			return n, nil
		}
	}
	return "", &NotEntitledError{As: cmp.Or(s.As, s.By), For: all}
}

func voted(t *run.Ticket, name string) bool {
	return slices.ContainsFunc(t.Votes, func(v *ledger.GateVoted) bool { return v.By == name })
}

// agreed gives the event of one who agrees: the settlement, or a vote where more have to. What
// somebody has changed is what all have to agree to.
func agreed(p *project.Project, s *run.State, step ledger.StepID, t *run.Ticket, ev *ledger.GateSettled) ledger.Event {
	votes := t.Votes
	if ev.Verb == ledger.Amend {
		votes = nil
	}
	if more := max(1, t.Raised.Need) - len(votes) - 1; more > 0 {
		v := &ledger.GateVoted{Verb: ev.Verb, By: ev.By, As: ev.As, Because: ev.Because, Args: ev.Args, ID: ev.ID, Shown: t.Shown(), Why: fmt.Sprintf("%s agrees; %s to", ev.By, moreHave(more))}
		if ev.Verb == ledger.Amend {
			v.Ask = t.Raised.Ask
			if t.Raised.Form == ledger.GateTicket {
				tool, c := p.Tools[t.Raised.Tool], s.Call(step)
				args, _ := value.Read(ev.Args) // written by amendment
				v.Ask = asked(s, c, tool.Gate, gateVars(p, s, c, tool, args), ev.Args)
			}
			v.Shown = Shown(t.Raised, v.Ask, ev.Args)
			v.Why = fmt.Sprintf("%s changed it; %s to agree", ev.By, moreHave(more))
		}
		return ledger.New(step, v)
	}
	if len(votes) > 0 {
		names, reasons := []string{}, []string{}
		for _, v := range votes {
			names = append(names, v.By)
			if v.Because != "" {
				reasons = append(reasons, v.Because)
			}
		}
		if ev.Because != "" {
			reasons = append(reasons, ev.Because)
		}
		ev.By = near.And(append(names, ev.By))
		ev.Because, ev.Why = strings.Join(reasons, "; "), ev.By+" decided"
		if t.Changed() && ev.Verb == ledger.Allow {
			ev.Verb, ev.Args = ledger.Amend, t.Args()
		}
	}
	return ledger.New(step, ev)
}

// wanted gives the schema that the answer to a question has to fit; nil where any words do.
func wanted(g *ledger.GateRaised) (*schema.Schema, error) {
	if g.Wants == nil {
		return nil, nil
	}
	doc, err := value.ReadObject(g.Wants)
	if err != nil {
		return nil, err
	}
	return schema.Compile(doc)
}

func verbList(v []ledger.Verb) string {
	out := make([]string, len(v))
	for i := range v {
		out[i] = string(v[i])
	}
	return strings.Join(out, ", ")
}

// amendment puts changed values into a ticket's arguments and checks them.
func amendment(p *project.Project, t *run.Ticket, change map[string]any) (json.RawMessage, error) {
	if t.Raised.Form == ledger.TextTicket || t.Raised.Form == ledger.PauseTicket {
		return textChange(change)
	}
	if t.Raised.Form == ledger.LimitTicket {
		return moreOf(change)
	}
	if len(change) == 0 {
		return nil, refused("Give the values to change, or allow it as it is.", "an amendment changes at least one value")
	}
	tool := p.Tools[t.Raised.Tool]
	args, err := value.ReadObject(t.Args())
	if err != nil {
		return nil, err
	}
	known := schema.Keys(tool.Input.Doc())
	for k, v := range change {
		if !slices.Contains(known, k) {
			return nil, refused("", "%s has no value %q.%s", tool.Name, k, near.Hint(k, known))
		}
		if v == nil {
			delete(args, k)
			continue
		}
		args[k] = v
	}
	raw, err := json.Marshal(args)
	if err != nil {
		return nil, err
	}
	if _, faults := tool.Input.CheckJSON(raw); len(faults) > 0 {
		return nil, refused("", "the new values do not fit: %s", schema.Say(faults))
	}
	return raw, nil
}
