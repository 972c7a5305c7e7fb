package understudy

import (
	"encoding/json"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
)

// A plan is read as if whom it can set to work were tools of its own: those are weighed as
// always, and the first call that comes of it is the next step; the others are ahead.

// planned gives a request in which the candidates of a plan, and the steps taken, stand as
// tools and their calls; nil where no plan is made.
func planned(r deed.Request) *deed.Request {
	i := slices.IndexFunc(r.Tools, func(c project.Contract) bool { return c.Name == project.NextStep })
	if i < 0 {
		return nil
	}
	var doc struct {
		Properties struct{ Who struct{ Enum []string } }
		Defs       map[string]json.RawMessage `json:"$defs"`
	}
	if json.Unmarshal(r.Tools[i].Parameters, &doc) != nil {
		return nil
	}
	r.Tools = slices.Delete(slices.Clone(r.Tools), i, i+1)
	names := map[string]string{} // under which a candidate stands as a tool
	for _, who := range doc.Properties.Who.Enum {
		var def struct{ Title, Description string }
		if json.Unmarshal(doc.Defs[who], &def) != nil {
			continue
		}
		c := project.Contract{Name: who, Summary: def.Description, Parameters: doc.Defs[who]}
		if def.Title == project.StepOfAgent {
			c = project.Contract{Name: project.ConsultPrefix + who, Summary: "Ask " + who + ", and get its answer: " + def.Description,
				Parameters: json.RawMessage(`{"type":"object","required":["question"],"properties":{"question":{"type":"string"}}}`)}
		}
		names[who] = c.Name
		r.Tools = append(r.Tools, c)
	}
	steps := map[string]string{} // calls that took a step, and the tool that they stand for
	messages := slices.Clone(r.Messages)
	for i, m := range messages {
		for j, c := range m.Calls {
			args, err := value.ReadObject([]byte(c.Args))
			who, _ := args["who"].(string)
			if c.Tool != project.NextStep || err != nil || names[who] == "" {
				continue
			}
			if j == 0 {
				messages[i].Calls = slices.Clone(m.Calls)
			}
			given := args["with"]
			if names[who] != who {
				given = map[string]any{project.Question: args["ask"]}
			}
			if given == nil {
				given = map[string]any{}
			}
			steps[c.ID] = names[who]
			messages[i].Calls[j].Tool, messages[i].Calls[j].Args = names[who], show(given)
		}
		if tool := steps[m.Call]; m.Role == ledger.FromTool && tool != "" {
			messages[i].Tool = tool
		}
	}
	r.Messages = messages
	return &r
}

// steps puts calls of candidates into the one that takes the next step.
func (th *thought) steps(calls []ledger.Ask, own []project.Contract) []ledger.Ask {
	type step struct {
		Who string `json:"who"`
		Ask string `json:"ask,omitempty"`
	}
	next := struct {
		Aim string `json:"aim"`
		step
		With  json.RawMessage `json:"with,omitempty"`
		Ahead []step          `json:"ahead,omitempty"`
	}{Aim: th.said}
	for _, c := range calls {
		if slices.ContainsFunc(own, func(o project.Contract) bool { return o.Name == c.Tool }) {
			return []ledger.Ask{c} // its own tool: no step of the plan
		}
		s, with := step{Who: c.Tool}, json.RawMessage(c.Args)
		if who, ok := strings.CutPrefix(c.Tool, project.ConsultPrefix); ok {
			var args struct{ Question string }
			_ = json.Unmarshal(with, &args) // written by consult
			s, with = step{Who: who, Ask: args.Question}, nil
		}
		if next.Who == "" {
			next.step, next.With = s, with
			continue
		}
		next.Ahead = append(next.Ahead, s)
	}
	if next.Who == "" {
		return calls
	}
	return []ledger.Ask{{Tool: project.NextStep, Args: show(next)}}
}
