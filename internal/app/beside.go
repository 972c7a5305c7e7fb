package app

import (
	"context"
	"sync"
	"time"

	"stonebaton.example/api"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
	"stonebaton.example/internal/engine"
)

// Beside makes the reads that a project shows beside a conversation, side by side.
func Beside(ctx context.Context, p *project.Project, handlers engine.Tools, bl engine.Blanker, person string, facts map[string]any) []api.Shown {
	out := make([]api.Shown, len(p.Beside))
	var all sync.WaitGroup
	for i, b := range p.Beside {
		all.Go(func() {
			out[i] = api.Shown{Title: b.Title, Tool: b.Tool, Status: "read"}
			v, err := besideOne(ctx, p, handlers, b, person, facts)
			if err != "" {
				out[i].Status, out[i].Problem = "failed", bl.Text(err)
				return
			}
			out[i].Value = bl.Value(v)
		})
	}
	all.Wait()
	return out
}

// besideOne makes one read; the text says why it cannot be made.
func besideOne(ctx context.Context, p *project.Project, handlers engine.Tools, b project.Beside, person string, facts map[string]any) (any, string) {
	t := p.Tools[b.Tool]
	vars := scope.Values{Project: p.Name, Person: person, At: time.Now(), Zone: p.Zone, State: facts, StateDoc: p.State.Doc()}.Vars()
	args := any(map[string]any{})
	if b.Args != nil {
		var err error
		if args, err = b.Args.Fill(vars); err != nil {
			return nil, err.Error()
		}
	}
	val, _, faults := t.Input.Repair(args)
	if len(faults) > 0 {
		return nil, schema.Say(faults)
	}
	vars["args"], vars["gate"] = expr.Typed(t.Input.Doc(), val), scope.GateOf("", "")
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	r, bad := handlers.Call(ctx, deed.Invocation{Project: p, Tool: t, Args: val, Vars: vars, Facts: facts, Key: ledger.Key("beside", ledger.StepID(b.Tool)), Person: person})
	if bad != nil {
		return nil, bad.Say
	}
	return r.Value, ""
}
