package project

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

func (c *compiler) agent(d *document) {
	var r struct {
		Agent, Summary, Prompt, Model string
		Tools                         []string
		PassesTo                      []string `json:"passes_to"`
		Consults                      []any
		Input, Answer                 map[string]any
		Memory                        struct {
			Keep     string
			Messages int
		}
		Limits struct{ Turns int }
	}
	c.into(d, &r)
	a := &Agent{Name: r.Agent, Summary: r.Summary, Model: r.Model, Tools: r.Tools, PassesTo: r.PassesTo, Turns: r.Limits.Turns, Place: d.at("/agent"), Said: d.at("/prompt")}
	if secretRef.MatchString(r.Prompt) {
		c.report(Error, d.at("/prompt"), "Give the secret to the tool that needs it.", "a prompt must not refer to a secret: the model, and everybody who reads the run, would see it")
	}
	a.Prompt = c.template(d, c.scope(d, nil), "/prompt", r.Prompt)
	if a.Model == "" {
		a.Model = c.model
		if c.model == "" {
			c.report(Error, d.at("/agent"), "Add model: here or in "+Main+".", "the agent %q has no model", a.Name)
		}
	} else if c.p.Models[a.Model] == nil {
		c.missing(d.at("/model"), "model", a.Model, keysOf(c.p.Models))
	}
	for i, t := range a.Tools {
		at := d.at(fmt.Sprintf("/tools/%d", i))
		if _, relay := c.names["relay "+t]; c.p.Tools[t] == nil && c.p.Relays[t] == nil && !relay {
			c.missing(at, "tool", t, append(keysOf(c.p.Tools), keysOf(c.p.Relays)...))
		}
		if slices.Contains(a.Tools[:i], t) {
			c.report(Error, at, "Keep one of them.", "the tool %q is listed twice", t)
		}
	}
	if r.Memory.Keep == "window" {
		if a.Window = r.Memory.Messages; a.Window == 0 {
			a.Window = 30
		}
	}
	if r.Input != nil {
		a.Input = c.schema(d, "/input", r.Input)
		c.contradictions(d, "/input", a.Input)
		if t, _ := r.Input["type"].(string); t != "object" {
			c.report(Error, d.at("/input"), "Say type: object, and its properties.", "the input of an agent is an object")
			a.Input = nil
		} else if inner, _ := r.Input["properties"].(map[string]any); inner[Question] != nil {
			c.report(Error, d.at("/input/properties/"+Question), "Give it another name.", "%q is what every consult asks", Question)
			a.Input = nil
		}
	}
	if r.Answer != nil {
		a.Answer = c.schema(d, "/answer", r.Answer)
		c.contradictions(d, "/answer", a.Answer)
	}
	for i, v := range r.Consults {
		at := fmt.Sprintf("/consults/%d", i)
		use := &Consult{}
		switch v := v.(type) {
		case string:
			use.Agent = v
		case map[string]any:
			use.Agent, _ = v["agent"].(string)
			use.Kept, use.Asks = v["memory"] == "kept", v["asks"] == "person"
		}
		if a.Consulted(use.Agent) != nil {
			c.report(Error, d.at(at), "Keep one of them.", "%q is listed twice", use.Agent)
			continue
		}
		a.Consults = append(a.Consults, use)
	}
	c.p.Agents[a.Name] = a
}

// references checks what can be checked only when every agent is known.
func (c *compiler) references() {
	agents := keysOf(c.p.Agents)
	if c.p.Agents[c.p.Start] == nil && c.p.Relays[c.p.Start] == nil {
		c.missing(c.main.at("/start"), "agent", c.p.Start, append(agents, keysOf(c.p.Relays)...))
	}
	queue := []string{c.p.Start}
	for _, n := range keysOf(c.p.Relays) {
		for _, leg := range c.p.Relays[n].Legs {
			for _, l := range leg.parts() {
				queue = append(queue, l.agents()...)
			}
		}
	}
	reached := map[string]bool{}
	for _, n := range queue {
		reached[n] = true
	}
	for len(queue) > 0 {
		a := c.p.Agents[queue[0]]
		queue = queue[1:]
		if a == nil {
			continue
		}
		next := slices.Clone(a.PassesTo)
		for _, x := range a.Consults {
			next = append(next, x.Agent)
		}
		for _, h := range next {
			if !reached[h] {
				reached[h] = true
				queue = append(queue, h)
			}
		}
	}
	for _, d := range c.docs {
		if d.kind != "agent" {
			continue
		}
		name, _ := d.value["agent"].(string)
		a := c.p.Agents[name]
		if a == nil {
			continue
		}
		for i, h := range a.PassesTo {
			at := d.at(fmt.Sprintf("/passes_to/%d", i))
			if h == name {
				c.report(Error, at, "Remove it.", "%q cannot hand over to itself", name)
			} else if c.p.Agents[h] == nil {
				c.missing(at, "agent", h, agents)
			}
		}
		var good []*Consult
		for i, x := range a.Consults {
			if c.consult(d.at("/consults/"+strconv.Itoa(i)), a, x) {
				good = append(good, x)
			}
		}
		a.Consults = good
		if !reached[name] {
			c.report(Warning, d.at("/agent"), fmt.Sprintf("Put it into passes_to: or consults: of another agent, or begin there with -to %s.", name), "nobody hands over to %q, and nobody consults it", name)
		}
	}
	c.circles()
}

// consult checks whom an agent asks. It is false where it cannot.
func (c *compiler) consult(at Place, a *Agent, x *Consult) bool {
	other := c.p.Agents[x.Agent]
	if x.Agent == a.Name {
		c.report(Error, at, "Remove it.", "%q cannot consult itself", a.Name)
		return false
	}
	if other == nil {
		c.missing(at, "agent", x.Agent, keysOf(c.p.Agents))
		return false
	}
	var err error
	if x.Params, err = other.Params(); err != nil {
		c.report(Error, at, "Fix input: of "+x.Agent+".", "%q cannot be consulted: %v", x.Agent, err)
		return false
	}
	return true
}

// circles warns of consults that lead back to where they began: they can go on until the
// depth is used up.
func (c *compiler) circles() {
	told := map[string]bool{}
	for _, name := range keysOf(c.p.Agents) {
		var walk func(path []string) []string
		walk = func(path []string) []string {
			for _, x := range c.p.Agents[path[len(path)-1]].Consults {
				if x.Agent == name {
					return append(path, name)
				}
				if slices.Contains(path, x.Agent) {
					continue
				}
				if found := walk(append(slices.Clip(path), x.Agent)); found != nil {
					return found
				}
			}
			return nil
		}
		path := walk([]string{name})
		key := strings.Join(slices.Sorted(slices.Values(path[:max(0, len(path)-1)])), " ")
		if path == nil || told[key] {
			continue
		}
		told[key] = true
		c.report(Warning, c.p.Agents[name].Place, "Remove one of them, or say in their prompts who answers what.", "consults can go round in a circle: %s; they end %d deep", strings.Join(path, " → "), DeepestConsult)
	}
}
