package project

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
)

func (c *compiler) agent(d *document) {
	var r struct {
		Reasoning                            string
		Agent, Summary, Model, Rejoin, Waits string
		Prompt                               any
		Wordings                             map[string]any
		Examples                             []rawExample
		Settings                             struct {
			Temperature *float64
			Seed        *int
			MaxTokens   int `json:"max_tokens"`
			Calls       string
		}
		Tools         []string
		PassesTo      []any `json:"passes_to"`
		Consults      []any
		Input, Answer map[string]any
		GoodWhen      any `json:"good_when"`
		Tries         int
		Gate          *rawGate
		PersonAt      []ledger.Place `json:"person_at"`
		On            map[ledger.Moment][]rawHook
		Memory        struct {
			Keep     string
			Messages int
		}
		Limits struct{ Turns int }
	}
	c.into(d, &r)
	a := &Agent{Name: r.Agent, Summary: r.Summary, Model: r.Model, Tools: r.Tools, Sees: map[string]ledger.Sees{}, Turns: r.Limits.Turns, Rejoin: r.Rejoin, Aside: r.Waits == "aside", SendsReasoning: r.Reasoning == "again", PersonAt: r.PersonAt, Place: d.at("/agent"), Said: d.at("/prompt")}
	a.Settings = Settings{Temperature: r.Settings.Temperature, Seed: r.Settings.Seed, MaxTokens: r.Settings.MaxTokens, Calls: r.Settings.Calls}
	if a.Settings.Calls == "free" {
		a.Settings.Calls = ""
	}
	for _, v := range r.PassesTo {
		switch v := v.(type) {
		case string:
			a.PassesTo = append(a.PassesTo, v)
		case map[string]any:
			to, _ := v["agent"].(string)
			sees, _ := v["sees"].(string)
			a.PassesTo = append(a.PassesTo, to)
			if sees != "all" {
				a.Sees[to] = ledger.Sees(sees)
			}
		}
	}
	prompt, place := c.promptOf(d, r.Prompt)
	if secretRef.MatchString(prompt) {
		c.report(Error, d.at("/prompt"), "Give the secret to the tool that needs it.", "a prompt must not refer to a secret: the model, and everybody who reads the run, would see it")
	}
	a.Said = place
	a.Prompt = c.pieces(d, c.scope(d, nil), "/prompt", "instructions", place, prompt, r.Wordings)
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
		if t == AskPerson {
			a.Asks = true
			continue
		}
		if _, relay := c.names["relay "+t]; c.p.Tools[t] == nil && c.p.Relays[t] == nil && !relay {
			c.missing(at, "tool", t, append(append(keysOf(c.p.Tools), keysOf(c.p.Relays)...), AskPerson))
		}
		if slices.Contains(a.Tools[:i], t) {
			c.report(Error, at, "Keep one of them.", "the tool %q is listed twice", t)
		}
	}
	for _, t := range c.gives[a.Name] {
		if !slices.Contains(a.Tools, t) {
			a.Tools = append(a.Tools, t)
		}
	}
	a.Tools = slices.DeleteFunc(a.Tools, func(t string) bool { return t == AskPerson })
	if r.Memory.Keep == "window" {
		if a.Window = r.Memory.Messages; a.Window == 0 {
			a.Window = 30
		}
	}
	if r.Input != nil {
		a.Input = c.schema(d, "/input", r.Input)
		c.contradictions(d, "/input", a.Input.Conflicts(), Error)
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
		c.contradictions(d, "/answer", a.Answer.Conflicts(), Error)
	}
	a.Prompt = append(a.Prompt, c.examples(d, a, r.Examples)...)
	if k := a.Settings.Calls; k != "" && k != "none" && k != "some" && !slices.Contains(a.Tools, k) {
		c.report(Error, d.at("/settings/calls"), "Write free, none, some, or a tool of the agent.", "calls: %q is not a tool of %s.%s", k, a.Name, near.Hint(k, a.Tools))
	}
	if r.Gate != nil {
		c.gateOfAnswers(d, r.Gate, a)
	}
	a.On = c.hooks(d, r.On)
	a.Good = c.good(d, "", r.GoodWhen, r.Tries, a.Answer, nil)
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
	for _, g := range c.judges {
		queue = append(queue, g.Judge)
	}
	for _, n := range keysOf(c.p.Relays) {
		for _, l := range c.p.Relays[n].Legs {
			queue = append(queue, c.p.ByLeg(l).Agents...)
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
		for _, h := range c.p.ByAgent(a).Agents {
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
			if j := slices.Index(a.PassesTo, h); j < i {
				c.report(Error, at, "Keep one of them.", "%q is listed twice", h)
			}
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
	for _, g := range c.judges {
		if c.p.Agents[g.Judge] == nil {
			c.missing(g.Place, "agent", g.Judge, agents)
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
		seen := map[string]bool{} // from there no way leads back, or one was found
		var walk func(path []string) []string
		walk = func(path []string) []string {
			for _, x := range c.p.Agents[path[len(path)-1]].Consults {
				if x.Agent == name {
					return append(path, name)
				}
				if seen[x.Agent] {
					continue
				}
				seen[x.Agent] = true
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

// promptOf gives the instructions of an agent: a text, or that of a file.
func (c *compiler) promptOf(d *document, v any) (string, Place) {
	m, ok := v.(map[string]any)
	if !ok {
		text, _ := v.(string)
		return text, d.at("/prompt")
	}
	file, _ := m["file"].(string)
	name := path.Join(path.Dir(d.file), file)
	text, ok := c.src.Files[name]
	if !ok || path.Ext(name) != ".md" {
		var have []string
		for _, f := range keysOf(c.src.Files) {
			if path.Ext(f) == ".md" {
				have = append(have, f)
			}
		}
		c.report(Error, d.at("/prompt/file"), "The path counts from this file's folder, and ends in .md.", "cannot find the file %s.%s", name, near.Hint(name, have))
		return "", d.at("/prompt")
	}
	return strings.TrimRight(text, "\n"), Place{File: name, Line: 1, Col: 1}
}

// rawExample is a worked conversation.
type rawExample struct {
	Said  string
	Calls []struct {
		Tool string
		Args map[string]any
	}
	Answer any
}

// examples puts worked conversations into words, and holds them against today's tools.
func (c *compiler) examples(d *document, a *Agent, raw []rawExample) []Piece {
	var out []Piece
	s := c.scope(d, nil)
	for i, e := range raw {
		at := fmt.Sprintf("/examples/%d", i)
		var b strings.Builder
		fmt.Fprintf(&b, "\n\nExample %d\nThe person says: %s", i+1, e.Said)
		for j, call := range e.Calls {
			where := fmt.Sprintf("%s/calls/%d", at, j)
			args, err := json.Marshal(call.Args)
			if err != nil {
				continue // it was read
			}
			if call.Args == nil {
				args = []byte("{}")
			}
			fmt.Fprintf(&b, "\nYou call: %s %s", call.Tool, args)
			c.example(d, a, where, call.Tool, call.Args)
		}
		if e.Answer != nil {
			text, ok := e.Answer.(string)
			if !ok {
				v, _ := json.Marshal(e.Answer) // it was read
				text = string(v)
			}
			if a.Answer != nil {
				if faults := a.Answer.Check(e.Answer); len(faults) > 0 {
					c.report(Error, d.at(at+"/answer"), "Give an answer that the agent could give.", "the example does not fit answer: %s", schema.Say(faults))
				}
			}
			fmt.Fprintf(&b, "\nYou answer: %s", text)
		}
		if t, err := s.Template(strings.ReplaceAll(b.String(), "{{", "{{ '{{' }}")); err == nil {
			out = append(out, Piece{Name: fmt.Sprintf("example %d", i+1), Text: t, Place: d.at(at)})
		}
	}
	return out
}

// example holds a call of an example against the tool.
func (c *compiler) example(d *document, a *Agent, at, name string, args map[string]any) {
	var input *schema.Schema
	switch {
	case c.p.Tools[name] != nil && slices.Contains(a.Tools, name):
		input = c.p.Tools[name].Input
	case c.p.Relays[name] != nil && slices.Contains(a.Tools, name):
		input = c.p.Relays[name].Input
	case slices.Contains(a.PassesTo, strings.TrimPrefix(name, PassPrefix)) && strings.HasPrefix(name, PassPrefix):
		return
	case strings.HasPrefix(name, ConsultPrefix):
		return // its fields are known when every agent is
	default:
		c.report(Error, d.at(at), "Use a tool of the agent.", "the example calls %q, which %s does not have.%s", name, a.Name, near.Hint(name, a.Tools))
		return
	}
	given := any(args)
	if args == nil {
		given = map[string]any{}
	}
	if faults := input.Check(given); len(faults) > 0 {
		c.report(Error, d.at(at+"/args"), "Write the call as it has to be made today.", "the example does not fit %s: %s", name, schema.Say(faults))
	}
}
