package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"stonebaton.example/api"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/tools"
)

// Try calls one tool alone and gives the words that a model would read. No
// gate stands in its way: who tries is the person.
func Try(ctx context.Context, p *project.Project, handlers engine.Tools, bl engine.Blanker, name, person string, in api.Try) (api.Tried, error) {
	t := p.Tools[name]
	if t == nil {
		return api.Tried{}, api.NewProblem(http.StatusNotFound, "`stonebaton tools` lists them.", "unknown tool %q.%s", name, near.Hint(name, names(p.Tools)))
	}
	if in.Tools == "" {
		in.Tools = ledger.ToolsLive
	}
	if in.Tools != ledger.ToolsLive && in.Tools != ledger.ToolsStubs {
		return api.Tried{}, api.NewProblem(http.StatusBadRequest, "Use live or stubs.", "tools cannot be %q on the bench", in.Tools)
	}
	if in.Args == nil {
		in.Args = map[string]any{}
	}
	if faults := p.CheckState(in.State); len(faults) > 0 {
		return api.Tried{}, api.NewProblem(http.StatusUnprocessableEntity, "state: in stonebaton.yaml describes it.", "the given state does not fit: %s", schema.Say(faults))
	}
	facts := p.NewState(in.State)
	out := api.Tried{Tool: name, Tools: in.Tools, Rung: t.Rung, Handler: t.Handler(), At: time.Now().UTC().Truncate(time.Microsecond), Args: in.Args}
	refuse := func(class, say, words string) (api.Tried, error) {
		out.Status, out.Class, out.Error, out.Known, out.Words = "refused", class, say, ledger.NotDone, words
		out.Tokens = prompt.Tokens(words)
		return out, nil
	}
	val, repairs, faults := t.Input.Repair(map[string]any(in.Args))
	out.Repairs = schema.SayRepairs(repairs)
	if len(faults) > 0 {
		return refuse("schema", schema.Say(faults), fmt.Sprintf("%s was not called: %s", name, deed.Sentence(schema.Say(faults))))
	}
	out.Args, _ = val.(map[string]any)
	vars := scope.Values{Project: p.Name, Person: person, At: time.Now(), Zone: p.Zone, State: facts, StateDoc: p.State.Doc()}.Vars()
	vars["args"], vars["gate"] = expr.Typed(t.Input.Doc(), val), scope.GateOf("", "")
	if words, hit := loop.Rejected(t, t.Unless, vars); hit {
		return refuse("unless", "a rule of the tool rejects it (unless)", words)
	}
	if words, hit := lookedUp(ctx, p, t, handlers, bl, person, facts, vars, in.Tools == ledger.ToolsStubs); hit {
		return refuse("unless", "a rule of the tool rejects it (unless)", words)
	}
	if why, held := loop.Held(t, vars, t.Rung); held {
		out.Gate = "in a run a person would be asked first: " + strings.TrimPrefix(why, "gate: ")
	}
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	began := time.Now()
	key := ledger.Key("bench", ledger.StepID(strconv.FormatInt(began.UnixNano(), 36)))
	r, bad := handlers.Call(ctx, deed.Invocation{Project: p, Tool: t, Args: val, Vars: vars, Facts: facts, Key: key, Stub: in.Tools == ledger.ToolsStubs, Bench: true, Person: person})
	out.MS = time.Since(began).Milliseconds()
	sent := r.Sent
	if bad == nil {
		r.Value = bl.Value(r.Value)
		value := r.Value
		if raw, err := json.Marshal(value); err == nil {
			out.Bytes = len(raw)
		}
		var sp loop.Spoken
		if sp, bad = loop.Speak(t, vars, r, ""); bad == nil {
			out.Status, out.Result, out.Words, out.Sets, out.Cut = "returned", value, sp.Words, sp.Sets, !sp.Whole
		} else {
			out.Result = value
		}
	}
	if bad != nil {
		if bad.Sent != nil {
			sent = bad.Sent
		}
		bad.Say = bl.Text(bad.Say)
		out.Status, out.Class, out.Error, out.Known, out.Words = "failed", string(bad.Class), bad.Say, bad.Outcome, bl.Text(loop.FailedWords(t, vars, bad))
	}
	out.Tokens, out.Sent = prompt.Tokens(out.Words), engine.BlankSent(bl, sent)
	return out, nil
}

// lookedUp makes the reads that rules of a tool are about, and gives the words of the first rule
// that rejects the call.
func lookedUp(ctx context.Context, p *project.Project, t *project.Tool, handlers engine.Tools, bl engine.Blanker, person string, facts map[string]any, vars expr.Vars, stub bool) (words string, hit bool) {
	found := map[string]any{}
	for _, l := range t.LooksUp {
		read := p.Tools[l.Tool]
		v, bad := readOnce(ctx, handlers, deed.Invocation{Project: p, Tool: read, Vars: vars, Facts: facts, Key: ledger.Key("bench", ledger.StepID(l.Name)), Stub: stub, Bench: true, Person: person}, l.Args)
		switch {
		case bad != nil && bad.Class == "not_found":
			found[l.Name] = nil
		case bad != nil:
			return loop.Unread(t, l.Name, bl.Text(bad.Say)), true
		default:
			found[l.Name] = expr.Typed(read.Output.Doc(), bl.Value(v))
		}
	}
	if len(t.LooksUp) == 0 {
		return "", false
	}
	vars["found"] = found
	return loop.Rejected(t, t.Checks, vars)
}

// DraftOf makes a stub of a try.
func DraftOf(t api.Tried) project.StubDraft {
	d := project.StubDraft{Args: t.Args, Returns: t.Result}
	if t.Status != "returned" {
		d.Fails, d.Class, d.Outcome = t.Error, t.Class, t.Known
		if t.Sent != nil {
			d.Status = t.Sent.Status
		}
	}
	return d
}

// Sources lists the sources of a project.
func Sources(p *project.Project) []api.Source {
	out := []api.Source{}
	for _, n := range names(p.Sources) {
		d := p.Sources[n]
		src := api.Source{ID: n, Status: "mcp", From: d.URL, Take: list(d.Take), Place: d.Place}
		if d.Code != nil {
			src.Status, src.From = "code", strings.Join(d.Code.Files, ", ")
		} else if d.Document != "" {
			src.Status, src.From = "openapi", d.Document
		} else if d.URL == "" {
			src.From = strings.Join(d.Command, " ")
			if d.Package != nil {
				src.From = strings.TrimSpace(d.Package.Name + " " + src.From)
			}
		}
		out = append(out, src)
	}
	return out
}

// Inspect asks a source what it offers, and says what is doubtful about each of
// its descriptions.
func Inspect(ctx context.Context, p *project.Project, shop *Workshop, name string) (api.Inspected, error) {
	d := p.Sources[name]
	if d == nil {
		return api.Inspected{}, api.NewProblem(http.StatusNotFound, "The project's files name them under source:.", "unknown source %q.%s", name, near.Hint(name, names(p.Sources)))
	}
	on, err := shop.Prepare(ctx, d)
	if on != nil {
		return api.Inspected{ID: name, Offers: []api.Offer{}, Also: []string{}, Broken: []project.Broken{}, Installing: &api.Installing{Package: on.Package, Since: on.Since, Line: on.Line}}, nil
	}
	var cat project.Catalogue
	remedy := "Can the registry be reached, and is the package named as there?"
	if err == nil {
		remedy = "Is it running, and is its address right?"
		cat, err = shop.Offers(ctx, d)
	}
	var untrusted *UntrustedError
	if errors.As(err, &untrusted) {
		return api.Inspected{}, api.NewProblem(http.StatusConflict, "`stonebaton trust` confirms it.", "%v", err)
	}
	if err != nil {
		return api.Inspected{}, api.NewProblem(http.StatusBadGateway, remedy, "%v", err)
	}
	return inspected(name, cat, d), nil
}

func inspected(name string, cat project.Catalogue, d *project.SourceDoc) api.Inspected {
	out := api.Inspected{ID: name, From: cat.From, Also: list(cat.Also), Offers: []api.Offer{}, Broken: append([]project.Broken{}, cat.Broken...)}
	taken := cat.Taken(d)
	for _, o := range cat.Tools {
		offer := api.Offer{ID: o.Tool, Status: "offered", Name: o.Name, Summary: o.Summary, Says: o.Says, Effect: o.Effect, Fault: o.Fault, Place: o.At, Input: o.Input, Remarks: []project.Remark{}}
		if o.Operation != nil {
			offer.Request = o.Operation.Method + " " + o.Operation.Path
		}
		if _, ok := taken.Find(o.Name); ok {
			offer.Status = "taken"
			offer.Change = tuned(d, o)
		}
		if o.Fault != "" {
			offer.Status = "broken"
		} else {
			offer.Remarks = append(offer.Remarks, project.Judge(o.Tool, o.Summary, o.Input)...)
			for _, lack := range o.Lacks {
				offer.Remarks = append(offer.Remarks, project.Remark{Grade: project.Warning, Say: lack})
			}
		}
		out.Offers = append(out.Offers, offer)
	}
	return out
}

// tuned gives what tune: changes about the input that a source says of a tool, as a unified
// difference; "" where it changes nothing.
func tuned(d *project.SourceDoc, o project.Offer) string {
	in := d.Tuned[o.Name]
	if in == nil {
		in = d.Tuned[o.Tool] // it may be taken by either name
	}
	if in == nil {
		return ""
	}
	was, err := json.MarshalIndent(o.Input, "", "  ")
	if err != nil {
		return ""
	}
	is, err := json.MarshalIndent(in, "", "  ")
	if err != nil {
		return ""
	}
	return tools.Diff("input", append(was, '\n'), append(is, '\n'))
}

// Models lists the models of a project.
func Models(p *project.Project) []api.Model {
	used, fallbacks := map[string]bool{}, map[string]bool{}
	for _, a := range p.Agents {
		used[a.Model] = true
	}
	for _, m := range p.Models {
		fallbacks[m.Fallback] = true
	}
	out := []api.Model{}
	for _, n := range names(p.Models) {
		m := p.Models[n]
		st := "unused"
		if fallbacks[n] {
			st = "fallback"
		}
		if used[n] {
			st = "used"
		}
		out = append(out, api.Model{ID: n, Status: st, Speaks: m.Speaks, URL: m.URL, Name: m.Remote, Key: m.Key, Fallback: m.Fallback, Input: m.Price.Input, Output: m.Price.Output})
	}
	return out
}

// TestModel asks a model one question and gives the result.
func TestModel(ctx context.Context, models engine.Models, bl engine.Blanker, p *project.Project, m *project.Model, longest bool) api.ModelTest {
	whole := ctx
	ctx, cancel := context.WithTimeout(ctx, m.Timeout)
	defer cancel()
	began := time.Now()
	r := deed.Request{Agent: "test", Model: m.Name, System: "Answer in one short sentence.", MaxTokens: 64,
		Messages: []ledger.Message{{Role: ledger.User, Text: "Hello. Are you there?"}}}
	pieces := 0
	reply, bad := models.Ask(ctx, p, r, func(string) { pieces++ })
	out := api.ModelTest{ID: m.Name, Status: "answers", MS: time.Since(began).Milliseconds(), Answer: bl.Text(reply.Text), Model: reply.Model, Tokens: reply.Usage}
	if bad != nil {
		out.Status = "fails"
		out.Error = &ledger.Problem{Class: "model." + string(bad.Class), Say: bl.Text(bad.Say), Remedy: bl.Text(bad.Remedy)}
		return out
	}
	if m.Speaks == "chat-completions" {
		can := Abilities(whole, models, p, m, pieces > 1, longest)
		out.Can = &can
	}
	return out
}

// lister is a way to models that can tell which there are.
type lister interface {
	List(ctx context.Context, m *project.Model) ([]string, *deed.ModelFailure)
}

// ListModels asks the endpoint of a model which models it has.
func ListModels(ctx context.Context, models engine.Models, bl engine.Blanker, p *project.Project, name string) ([]string, error) {
	m := p.Models[name]
	if m == nil {
		return nil, api.NewProblem(http.StatusNotFound, "`stonebaton models` lists them.", "unknown model %q.%s", name, near.Hint(name, names(p.Models)))
	}
	set, _ := models.(model.Set)
	l, ok := set[m.Speaks].(lister)
	if !ok {
		return nil, api.NewProblem(http.StatusConflict, "Ask a model that speaks chat-completions.", "the model %q has no endpoint that could list any", name)
	}
	list, bad := l.List(ctx, m)
	if bad != nil {
		return nil, api.NewProblem(http.StatusBadGateway, bl.Text(bad.Remedy), "%s", bl.Text(bad.Say))
	}
	return list, nil
}

// Tools lists the tools of a project, each with the problems that stand where it
// is defined.
func Tools(p *project.Project, probs []project.Problem) []api.Tool {
	out := []api.Tool{}
	of, users := problemsOf(p, probs), p.Users()
	for _, n := range names(p.Tools) {
		t := p.Tools[n]
		a := api.Tool{ID: n, Status: "live", Rung: t.Rung, Source: t.Source, Runs: t.Line(), Direct: t.Direct, ReasonFirst: t.ReasonFirst, Timeout: t.Timeout.String(), Rate: t.Rate.String(), Price: t.Price, Problems: []project.Problem{}, Summary: t.Summary, Effect: t.Effect, Handler: t.Handler(), Resend: t.Resend, Stubs: len(t.Stubs), By: []string{},
			Agents: list(users[n].Agents), Hooks: list(users[n].Hooks), Gates: list(users[n].Gates), Relays: list(users[n].Relays), Input: t.Input.Doc(), Output: t.Output.Doc(), Seen: t.Contract(), Place: t.Place}
		if a.Handler == "stub" {
			a.Status = "stub"
		}
		if g := t.Gate; g != nil {
			a.Gate, a.By = "always", list(g.Approvers())
			if g.When != nil {
				a.Gate = g.When.String()
			}
			if g.Why != "" {
				a.Gate = g.Why
			}
		}
		a.Problems = append(a.Problems, of[n]...)
		out = append(out, a)
	}
	return out
}

// problemsOf gives the problems of each tool: those that say that they are about it, and
// those of nothing else that stand in its document.
func problemsOf(p *project.Project, probs []project.Problem) map[string][]project.Problem {
	type span struct {
		tool      string
		from, end int
	}
	spans, ends := map[string][]span{}, p.Ends() // by file, and by tool
	for n, t := range p.Tools {
		if t.Source == "" {
			spans[t.Place.File] = append(spans[t.Place.File], span{n, t.Place.Line, ends[n]})
		}
	}
	of := map[string][]project.Problem{}
	for _, x := range probs {
		tool := x.Tool
		if at := slices.IndexFunc(spans[x.File], func(s span) bool { return x.Line >= s.from && x.Line < s.end }); tool == "" && at >= 0 {
			tool = spans[x.File][at].tool
		}
		of[tool] = append(of[tool], x)
	}
	return of
}

func names[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

func list(s []string) []string { return append([]string{}, s...) }
