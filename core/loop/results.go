package loop

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"strings"
	"time"

	"github.com/wI2L/jsondiff"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
	"stonebaton.example/core/value"
)

// Spoken is a result as the model reads it, with the state it sets.
type Spoken struct {
	Words string
	Whole bool // nothing was left out of the words
	Sets  map[string]any
	Link  string // opens the outside record of the call; "" is none
	// Pictures are those of the files that came with it which a model that takes some is shown.
	Pictures []ledger.File
}

// Speak checks a tool's result against its output schema and puts it into the
// words that the model reads; a result that does not fit is a failure. It
// serves runs and the bench alike. Handle is the name by which later calls can
// have the whole of a result that is cut; "" is none.
func Speak(t *project.Tool, v expr.Vars, r deed.Result, handle string) (Spoken, *deed.Failure) {
	value := r.Value
	bad := func(format string, args ...any) (Spoken, *deed.Failure) {
		return Spoken{}, &deed.Failure{Outcome: ledger.Unknown, Class: "result", Say: fmt.Sprintf(format, args...)}
	}
	if faults := t.Output.Check(value); len(faults) > 0 {
		return bad("the result does not fit the output schema: %s", schema.Say(faults))
	}
	v["result"] = expr.Typed(t.Output.Doc(), value)
	words, whole := Shorten(MostOf(t), value, handle)
	if value == nil {
		words = "Done; there is no result."
	}
	if t.Done != nil {
		w, err := t.Done.Fill(v)
		if err != nil {
			return bad("says.done could not be filled in: %v", err)
		}
		words, whole = Shorten(MostOf(t), w, handle)
	}
	if _, list := rowsOf(value); r.More {
		words += fmt.Sprintf("\n… there are more than these %d rows; they were not read. Ask for something narrower to see all of it.", len(list))
	}
	sp := Spoken{Whole: whole, Sets: map[string]any{}}
	sp.Words, sp.Pictures = withFiles(words, r.Sent)
	if t.Work.Sets {
		set, _ := value.(map[string]any)
		for k, x := range set {
			sp.Sets[k] = x
		}
	}
	maps.Copy(sp.Sets, r.Sets)
	for _, set := range t.Sets {
		x, err := set.To.Fill(v)
		if err != nil {
			return bad("sets.%s could not be evaluated: %v", set.Name, err)
		}
		sp.Sets[set.Name] = x
	}
	sp.Link = LinkOf(t, v)
	return sp, nil
}

// LinkOf fills in the address that opens the outside record of a call. It is one of the web, and
// "" where the values for it are not there yet.
func LinkOf(t *project.Tool, v expr.Vars) string {
	if t.Link == nil {
		return ""
	}
	text, err := t.Link.FillWith(v, url.PathEscape)
	if err != nil {
		return ""
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || (u.Scheme != "https" && u.Scheme != "http") {
		return ""
	}
	return text
}

// FailedWords gives what the model reads of a failure.
func FailedWords(t *project.Tool, v expr.Vars, f *deed.Failure) string {
	v["error"] = scope.FailureOf(f.Status, string(f.Class), f.Say, f.Body)
	for _, s := range t.Failed {
		if s.When != nil {
			if yes, err := s.When.True(v); err != nil || !yes {
				continue
			}
		}
		if w, err := s.Say.Fill(v); err == nil {
			return w
		}
	}
	if f.Outcome == ledger.Unknown && t.Effect != ledger.Read {
		return fmt.Sprintf("It is not known whether %s was done: %s", t.Name, deed.Sentence(f.Say))
	}
	return fmt.Sprintf("%s failed: %s", t.Name, deed.Sentence(f.Say))
}

func callVars(p *project.Project, s *run.State, t *project.Tool, c *run.Call) expr.Vars {
	v := prompt.Vars(p, s, c.Turn.Thread, s.At())
	args, _ := value.Read(c.Args) // written by decideCall, or checked when amended
	v["args"], v["gate"] = expr.Typed(t.Input.Doc(), args), scope.GateOf("", "")
	if len(t.LooksUp) > 0 && c.Looked != nil {
		v["found"] = found(p, t, c.Looked)
	}
	if st := c.Verdict; st != nil {
		v["gate"] = scope.GateOf(st.By, st.Because)
	}
	return v
}

// Vars gives the values that the handler of a call sees.
func Vars(p *project.Project, s *run.State, step ledger.StepID) expr.Vars {
	c := s.Call(step)
	return callVars(p, s, p.Tools[c.Decided.Tool], c)
}

// CallReturned gives the events of a call that brought a result: its return and
// the change of state that goes with it, or a failure when the result is unfit.
func CallReturned(p *project.Project, s *run.State, step ledger.StepID, r deed.Result, took time.Duration, now time.Time, jitter float64) []ledger.Event {
	c := s.Call(step)
	t := p.Tools[c.Decided.Tool]
	sp, bad := Speak(t, callVars(p, s, t, c), r, HandleOf(s.Run(), step))
	if bad != nil {
		bad.Sent = r.Sent
		return []ledger.Event{CallFailed(p, s, step, *bad, took, now, jitter)}
	}
	raw, err := json.Marshal(r.Value)
	if err != nil {
		return []ledger.Event{CallFailed(p, s, step, deed.Failure{Outcome: ledger.Unknown, Class: "result", Say: "the result is not JSON: " + err.Error(), Sent: r.Sent}, took, now, jitter)}
	}
	ret := &ledger.CallReturned{Result: raw, Words: amended(c) + sp.Words, Pictures: sp.Pictures, Sent: r.Sent, Link: sp.Link, MS: took.Milliseconds()}
	if !stubbed(s, c) && (r.Sent == nil || r.Sent.Method != deed.FromCache) {
		ret.Cost = t.Price
	}
	if !sp.Whole {
		ret.Handle = HandleOf(s.Run(), step)
	}
	events := []ledger.Event{ledger.New(step, ret)}
	if set, note := sets(p, c, sp.Sets); set != nil {
		events = append(events, *set)
	} else {
		ret.Note = note
	}
	return events
}

// Bounds of the pictures of one result that a model is shown.
const (
	maxPictures = 8
	maxPicture  = 5 << 20 // bytes of one
)

// withFiles names in the words of a result the files that came with it, where they do not, and
// gives those that are pictures for models.
func withFiles(words string, sent *ledger.Sent) (string, []ledger.File) {
	if sent == nil {
		return words, nil
	}
	var pictures []ledger.File
	for _, f := range sent.Files {
		if !strings.Contains(words, f.Path) {
			words += fmt.Sprintf("\nWith it came the file %s (%s, %d bytes).", f.Path, f.Type, f.Bytes)
		}
		switch f.Type {
		case "image/png", "image/jpeg", "image/gif", "image/webp":
			if f.Bytes <= maxPicture && len(pictures) < maxPictures {
				pictures = append(pictures, f)
			}
		}
	}
	return strings.TrimPrefix(words, "\n"), pictures
}

// sets gives the change of state that goes with a result; nil where there is none, with a
// note where it does not fit.
func sets(p *project.Project, c *run.Call, set map[string]any) (ev *ledger.Event, note string) {
	facts := c.Turn.Thread.Facts()
	next := put(facts, set)
	change := Change(facts, next)
	if change == nil {
		return nil, ""
	}
	if faults := p.State.Check(plain(next)); len(faults) > 0 {
		return nil, "the state was not changed: " + schema.Say(faults)
	}
	e := ledger.New(c.Step, &ledger.StateChanged{Patch: change, Why: c.Decided.Tool + " sets it"})
	return &e, ""
}

// put gives facts with some of them set; nil takes one away.
func put(facts, sets map[string]any) map[string]any {
	next := map[string]any{}
	for k, v := range facts {
		next[k] = v
	}
	for k, v := range sets {
		if v == nil {
			delete(next, k)
		} else {
			next[k] = v
		}
	}
	return next
}

// plain gives a value as encoding/json would read it back.
func plain(v any) any {
	b, err := json.Marshal(v)
	if err != nil {
		return v
	}
	out, _ := value.Read(b) // it was just written
	return out
}

// Change gives the JSON Patch from one state to another; nil where they are the same.
func Change(from, to map[string]any) json.RawMessage {
	if from == nil {
		from = map[string]any{}
	}
	patch, err := jsondiff.Compare(from, to, jsondiff.UnmarshalFunc(func(raw []byte, v any) error {
		dec := json.NewDecoder(bytes.NewReader(raw))
		dec.UseNumber() // so that long ones differ, and stay as they are
		return dec.Decode(v)
	}))
	if err != nil || len(patch) == 0 {
		return nil
	}
	raw, err := json.Marshal(patch)
	if err != nil {
		return nil
	}
	return raw
}

// CallFailed gives the event of a call that brought no result, and decides
// whether it is tried again. Jitter is from 0 to 1.
func CallFailed(p *project.Project, s *run.State, step ledger.StepID, f deed.Failure, took time.Duration, now time.Time, jitter float64) ledger.Event {
	c := s.Call(step)
	t := p.Tools[c.Decided.Tool]
	d := &ledger.CallFailed{Attempt: c.Attempt, Outcome: f.Outcome, Class: string(f.Class), Say: f.Say, Sent: f.Sent, MS: took.Milliseconds()}
	if f.Outcome != ledger.NotDone && !stubbed(s, c) {
		d.Cost = t.Price // it may have been done, and so charged
	}
	stopping := s.Ending() || s.TimeUp()
	sure := f.Outcome == ledger.NotDone || t.Effect == ledger.Read
	switch {
	case f.Retry && (sure || c.Decided.Resend != "") && c.Attempt <= t.Retries && !stopping:
		d.RetryAt = backoff(now, c.Attempt, f.After, jitter)
		d.Why = fmt.Sprintf("attempt %d of %d; it may be tried again", c.Attempt, t.Retries+1)
		return ledger.New(step, d)
	case !sure && !stopping && f.Class != "result":
		d.Why = "a write of unknown outcome: a person is asked"
		return ledger.New(step, d)
	}
	d.Final = true
	d.Words = amended(c) + FailedWords(t, callVars(p, s, t, c), &f)
	return ledger.New(step, d)
}

// TurnFailed gives the event of a turn that brought no reply, and decides
// whether it is asked again, of the same model or of its fallback.
func TurnFailed(p *project.Project, s *run.State, step ledger.StepID, f deed.ModelFailure, took time.Duration, now time.Time, jitter float64) ledger.Event {
	u := s.Turn(step)
	d := &ledger.TurnFailed{Attempt: u.Attempt, Status: f.Status, MS: took.Milliseconds(), Problem: ledger.Problem{Class: "model." + string(f.Class), Say: f.Say, Remedy: f.Remedy}}
	m := p.Models[u.Model]
	switch {
	case s.Ending() || s.TimeUp():
		d.Why = "the run is ending"
	case m != nil && f.After > longestWait && m.Fallback != "":
		d.RetryAt, d.Next = &now, m.Fallback
		d.Why = fmt.Sprintf("%s asks to wait for %s; its fallback %s is asked", u.Model, f.After, m.Fallback)
	case m != nil && f.After > longestWait && p.Limits.Time > 0 && f.After > p.Limits.Time:
		d.Why = fmt.Sprintf("it asks to wait for %s, which is longer than the run may take (limit time: %s), and there is no fallback", f.After, p.Limits.Time)
	case m != nil && f.Retry && u.Tries <= m.Retries:
		d.RetryAt = backoff(now, u.Tries, f.After, jitter)
		d.Why = fmt.Sprintf("attempt %d of %d of this model", u.Tries, m.Retries+1)
	case m != nil && m.Fallback != "":
		d.RetryAt, d.Next = &now, m.Fallback
		d.Why = fmt.Sprintf("%s does not answer; its fallback %s is asked", u.Model, m.Fallback)
	default:
		d.Why = "no attempt is left and there is no fallback"
	}
	return ledger.New(step, d)
}

// TurnReceived gives the event of a reply, its cost worked out.
func TurnReceived(p *project.Project, s *run.State, step ledger.StepID, r deed.Reply, took time.Duration) ledger.Event {
	d := &ledger.TurnReceived{Text: r.Text, Calls: r.Calls, Reasoning: r.Reasoning, Finish: r.Finish, Model: r.Model, Usage: r.Usage, MS: took.Milliseconds()}
	for i := range d.Calls {
		if d.Calls[i].ID == "" {
			d.Calls[i].ID = fmt.Sprintf("%s_%d", step, i+1)
		}
	}
	if a := p.Agent(s.Turn(step).Agent); a != nil {
		d.SentOn = a.SendsReasoning && d.Reasoning != ""
	}
	if m := p.Models[s.Turn(step).Model]; m != nil {
		d.Cost = m.Price.Of(r.Usage)
	}
	return ledger.New(step, d)
}
