package loop

import (
	"encoding/json"
	"fmt"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// hooked gives the next hook that is due on a thread, whatever else is: one at a time, so that
// each sees what the one before did. Hooks fire no hooks.
func hooked(p *project.Project, s *run.State, t *run.Thread) []Action {
	u := t.Turn()
	if t.IsHook() || (u != nil && u.N == 0) {
		return nil
	}
	a := p.Agents[t.Agent()]
	if a == nil || len(a.On) == 0 {
		return nil
	}
	if t.Wants() && (u == nil || u.Agent != t.Agent()) {
		if acts := fire(p, s, t, a, ledger.Taking, t.Passed(), map[string]any{"said": lastSaid(t)}); acts != nil {
			return acts
		}
	}
	if u == nil || !u.Decided() || u.Agent != t.Agent() {
		return nil
	}
	for _, c := range u.Calls {
		if c.Decided.Verdict == ledger.Refuse {
			continue
		}
		names := map[string]any{"tool": c.Decided.Tool, "args": map[string]any{}}
		if args, err := value.ReadObject(c.Args); err == nil {
			names["args"] = args
		}
		if c.Progress == run.Decided {
			if acts := fire(p, s, t, a, ledger.Calling, c.Step, names); acts != nil {
				return acts
			}
		}
		if c.Progress == run.Returned && u.Over() {
			names["words"] = c.Words
			if acts := fire(p, s, t, a, ledger.Hearing, c.Step, names); acts != nil {
				return acts
			}
		}
	}
	return nil
}

// leaving gives the next hook that is due before an agent answers or gives the baton away.
func leaving(p *project.Project, s *run.State, t *run.Thread) []Action {
	u := t.Turn()
	a := p.Agents[u.Agent]
	if a == nil || t.IsHook() {
		return nil
	}
	return fire(p, s, t, a, ledger.Leaving, u.Step, map[string]any{"said": u.Reply.Text})
}

// lastSaid is the newest message of a thread.
func lastSaid(t *run.Thread) string {
	if m := t.Messages(); len(m) > 0 {
		return m[len(m)-1].Text
	}
	return ""
}

// fire fires the first hook of a moment that was not fired about it, whether or not its
// condition holds: it is looked at once.
func fire(p *project.Project, s *run.State, t *run.Thread, a *project.Agent, on ledger.Moment, about ledger.StepID, names map[string]any) []Action {
	for i, h := range a.On[on] {
		if t.Fired(on, i+1, about) {
			continue
		}
		e := &ledger.HookFired{On: on, N: i + 1, About: about, Agent: a.Name, Why: fmt.Sprintf("%s has it on %s", a.Name, on)}
		v := prompt.Vars(p, s, t, s.At())
		for k, x := range names {
			v[k] = x
		}
		what(p, t, h, v, e)
		acts := one(ledger.New(t.ID().Hook(t.Hooks()+1), e))
		if e.Call != nil {
			acts = append(acts, Record{ledger.New(t.ID().Hook(t.Hooks()+1), &ledger.ThreadOpened{Role: ledger.HookCall, Agent: a.Name, Call: e.Call, Why: fmt.Sprintf("a hook of %s, on %s", a.Name, on)})})
		}
		return acts
	}
	return nil
}

// what fills in what a hook does; where its condition does not hold, or something cannot be
// evaluated, it does nothing, and says so.
func what(p *project.Project, t *run.Thread, h project.Hook, v expr.Vars, e *ledger.HookFired) {
	if h.When != nil {
		yes, err := h.When.True(v)
		if err != nil {
			e.Note = "when could not be evaluated: " + err.Error()
			return
		}
		if !yes {
			e.Note = h.When.String() + " does not hold"
			return
		}
	}
	if h.Set != nil {
		val, err := h.Set.Fill(v)
		if err != nil {
			e.Note = "set could not be evaluated: " + err.Error()
			return
		}
		facts, _ := value.Plain(val).(map[string]any)
		next := put(t.Facts(), facts)
		if faults := p.State.Check(plain(next)); len(faults) > 0 {
			e.Note = "the state was not changed: " + schema.Say(faults)
			return
		}
		e.Patch = Change(t.Facts(), next)
	}
	if h.Tool == "" {
		return
	}
	val, err := h.Args.Fill(v)
	if err != nil {
		e.Note = "the arguments could not be evaluated: " + err.Error()
		return
	}
	args, err := json.Marshal(value.Plain(val))
	if err != nil {
		e.Note = "the arguments are not JSON: " + err.Error()
		return
	}
	e.Call = &ledger.Ask{ID: "hook", Tool: h.Tool, Args: string(args)}
}
