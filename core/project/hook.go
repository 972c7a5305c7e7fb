package project

import (
	"fmt"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
)

// Hook is what happens with no model at a moment of an agent: facts are set, or a tool is
// called.
type Hook struct {
	When *expr.Expr    // nil: always
	Set  *expr.Mapping // an object of facts; nil: none
	Tool string        // "" calls none
	Args *expr.Mapping
}

// Moments are those at which hooks are fired, with the names that they see beside those of
// everywhere.
var Moments = map[ledger.Moment][]string{
	ledger.Taking:  {"said"},
	ledger.Calling: {"tool", "args"},
	ledger.Hearing: {"tool", "args", "words"},
	ledger.Leaving: {"said"},
}

type rawHook struct {
	When string
	Set  map[string]any
	Call *struct {
		Tool string
		Args map[string]any
	}
}

// hooks compiles on: of an agent.
func (c *compiler) hooks(d *document, raw map[ledger.Moment][]rawHook) map[ledger.Moment][]Hook {
	out := map[ledger.Moment][]Hook{}
	for _, on := range keysOf(map[string][]rawHook{"taking": raw[ledger.Taking], "calling": raw[ledger.Calling], "hearing": raw[ledger.Hearing], "leaving": raw[ledger.Leaving]}) {
		if len(raw[ledger.Moment(on)]) == 0 {
			continue
		}
		names := map[string]map[string]any{}
		for _, n := range Moments[ledger.Moment(on)] {
			names[n] = expr.Text
			if n == "args" {
				names[n] = expr.Any
			}
		}
		s := c.scope(d, names)
		for i, x := range raw[ledger.Moment(on)] {
			at := fmt.Sprintf("/on/%s/%d", on, i)
			h := Hook{When: c.cond(d, s, at+"/when", x.When)}
			if x.Set != nil {
				h.Set = c.object(d, s, at+"/set", x.Set)
				facts := stateDoc(c.p.State)
				props, _ := facts["properties"].(map[string]any)
				for _, k := range keysOf(x.Set) {
					if props[k] == nil {
						c.report(Error, d.key(at+"/set/"+k), "Describe it under state: in "+Main+".", "the state has no %q.%s", k, near.Hint(k, keysOf(props)))
					}
				}
			}
			if x.Call != nil {
				h.Tool, h.Args = x.Call.Tool, c.object(d, s, at+"/call/args", x.Call.Args)
				if c.p.Tools[h.Tool] == nil {
					c.missing(d.at(at+"/call/tool"), "tool", h.Tool, keysOf(c.p.Tools))
				}
			}
			out[ledger.Moment(on)] = append(out[ledger.Moment(on)], h)
		}
	}
	return out
}
