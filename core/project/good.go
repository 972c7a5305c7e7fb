package project

import (
	"maps"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/schema"
)

// Good is what has to hold of an answer before it counts. One of When and Judge is set.
type Good struct {
	When  *expr.Expr
	Else  *expr.Template // what the agent is told where When does not hold; nil: When itself
	Judge string         // an agent
	That  *expr.Template // what it is to judge by
	Tries int            // answers, the first too
	Place Place
}

// Judgement is the schema of what an agent that judges answers.
var Judgement = mustCompile([]byte(`{"type":"object","additionalProperties":false,"required":["good","remarks"],"properties":{"good":{"type":"boolean","description":"Whether it is good as it is."},"remarks":{"type":"string","description":"What to change; empty where it is good."},"score":{"type":"integer","minimum":0,"maximum":10,"description":"How good it is: 10 is best."}}}`))

const triesOfAnswer = 2 // by default

// good compiles good_when and tries of an agent or a leg. Names are those that its expression
// sees beside the answer.
func (c *compiler) good(d *document, at string, raw any, tries int, answer *schema.Schema, names map[string]map[string]any) *Good {
	if raw == nil {
		if tries != 0 {
			c.report(Error, d.key(at+"/tries"), "Remove it, or say good_when:.", "tries: is how often an answer may be given that good_when: is said of")
		}
		return nil
	}
	g := &Good{Tries: tries, Place: d.key(at + "/good_when")}
	if g.Tries == 0 {
		g.Tries = triesOfAnswer
	}
	at += "/good_when"
	inner := maps.Clone(names)
	if inner == nil {
		inner = map[string]map[string]any{}
	}
	inner["answer"] = expr.Text
	if answer != nil {
		inner["answer"] = answer.Doc()
	}
	s := c.scope(d, inner)
	switch x := raw.(type) {
	case string:
		g.When = c.cond(d, s, at, x)
	case map[string]any:
		when, _ := x["when"].(string)
		say, _ := x["say"].(string)
		that, _ := x["that"].(string)
		g.Judge, _ = x["judge"].(string)
		if g.Judge == "" {
			g.When, g.Else = c.cond(d, s, at+"/when", when), c.template(d, s, at+"/say", say)
			break
		}
		g.That = c.template(d, c.scope(d, nil), at+"/that", that)
		c.judges = append(c.judges, g)
	}
	return g
}
