package project

import (
	"fmt"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
)

// Beside is a read whose result is shown beside a conversation.
type Beside struct {
	Tool  string
	Title string
	Args  *expr.Mapping // over the state and the person; nil: none
}

type rawBeside struct {
	Tool, Title string
	Args        map[string]any
}

// besides compiles what is shown beside conversations, when every tool is known.
func (c *compiler) besides(list []rawBeside) {
	for i, r := range list {
		at := fmt.Sprintf("/beside/%d", i)
		t := c.p.Tools[r.Tool]
		switch {
		case t == nil:
			c.missing(c.main.at(at+"/tool"), "tool", r.Tool, keysOf(c.p.Tools))
			continue
		case t.Effect != ledger.Read:
			c.report(Error, c.main.at(at+"/tool"), "Show reads alone: it is called whenever somebody looks.", "%q is a %s", r.Tool, t.Effect)
			continue
		}
		b := Beside{Tool: r.Tool, Title: r.Title}
		if b.Title == "" {
			b.Title = r.Tool
		}
		if r.Args != nil {
			b.Args = c.mapping(c.main, c.scope(c.main, nil), at+"/args", r.Args)
		}
		c.p.Beside = append(c.p.Beside, b)
	}
}
