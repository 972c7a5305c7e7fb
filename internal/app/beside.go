package app

import (
	"context"
	"maps"
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
	vars := scope.Values{Project: p.Name, Person: person, At: time.Now(), Zone: p.Zone, State: facts, StateDoc: p.State.Doc()}.Vars()
	vars["gate"] = scope.GateOf("", "")
	v, bad := readOnce(ctx, handlers, deed.Invocation{Project: p, Tool: p.Tools[b.Tool], Vars: vars, Facts: facts, Key: ledger.Key("beside", ledger.StepID(b.Tool)), Person: person}, b.Args)
	if bad != nil {
		return nil, bad.Say
	}
	return v, ""
}

// readOnce makes a read of which nothing is kept, with arguments over the values of the invocation.
func readOnce(ctx context.Context, handlers engine.Tools, i deed.Invocation, args *expr.Mapping) (any, *deed.Failure) {
	given := any(map[string]any{})
	if args != nil {
		var err error
		if given, err = args.Fill(i.Vars); err != nil {
			return nil, deed.NotDone("args", "%v", err)
		}
	}
	val, _, faults := i.Tool.Input.Repair(given)
	if len(faults) > 0 {
		return nil, deed.NotDone("args", "%s", schema.Say(faults))
	}
	i.Args, i.Vars = val, maps.Clone(i.Vars)
	i.Vars["args"] = expr.Typed(i.Tool.Input.Doc(), val)
	ctx, cancel := context.WithTimeout(ctx, i.Tool.Timeout)
	defer cancel()
	r, bad := handlers.Call(ctx, i)
	if bad != nil {
		return nil, bad
	}
	return r.Value, nil
}
