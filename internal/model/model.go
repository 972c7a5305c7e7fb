// Package model reaches models: it picks the wire of the project's model and
// hands the request to it. Each wire lives in a folder of its own.
package model

import (
	"context"
	"fmt"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/project"
)

// Wire speaks one protocol to models.
type Wire interface {
	Ask(ctx context.Context, p *project.Project, m *project.Model, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure)
}

// Set is an engine.Models made of wires by name.
type Set map[string]Wire

// Ask sends a request by the wire of its model.
func (s Set) Ask(ctx context.Context, p *project.Project, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure) {
	m := p.Models[r.Model]
	if m == nil {
		return deed.Reply{}, &deed.ModelFailure{Class: "model", Say: fmt.Sprintf("the project has no model %q", r.Model)}
	}
	w := s[m.Speaks]
	if w == nil {
		return deed.Reply{}, &deed.ModelFailure{Class: "config", Say: fmt.Sprintf("this program does not speak the wire %q", m.Speaks)}
	}
	return w.Ask(ctx, p, m, r, delta)
}
