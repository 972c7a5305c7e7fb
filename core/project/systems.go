package project

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// What a careful colleague would say of how agents and relays work together.

// judgeSystems looks at whom a model chooses between, at answers, and at the legs of relays.
func (c *compiler) judgeSystems() {
	docs := map[string]*document{}
	for _, d := range c.docs {
		if name, _ := d.value[d.kind].(string); name != "" {
			docs[d.kind+" "+name] = d
		}
	}
	told := map[[2]string]bool{}
	for _, n := range keysOf(c.p.Agents) {
		a := c.p.Agents[n]
		next := slices.Clone(a.PassesTo)
		for _, x := range a.Consults {
			if !slices.Contains(next, x.Agent) {
				next = append(next, x.Agent)
			}
		}
		c.confused(next, n, told)
		if d := docs["agent "+n]; d != nil && a.Answer != nil {
			prompt, _ := d.value["prompt"].(string)
			c.unsaid(d, "/answer", a.Answer.Doc(), prompt, n)
		}
	}
	for _, n := range keysOf(c.p.Relays) {
		r, d := c.p.Relays[n], docs["relay "+n]
		if d == nil {
			continue
		}
		for _, l := range r.Legs {
			if l.Kind == LegPlan {
				c.confused(l.Among, "the plan "+l.Name+" of "+n, told)
			}
		}
		c.keptUnread(d, r)
		c.circling(r)
		c.unbounded(d, r)
	}
	c.through()
}

// confused tells of agents among some that a model chooses from whose summaries share most of
// their words.
func (c *compiler) confused(names []string, who string, told map[[2]string]bool) {
	names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return c.p.Agents[n] == nil })
	slices.Sort(names)
	for i, n := range names {
		for _, m := range names[i+1:] {
			pair := [2]string{n, m}
			one, two := wordsIn(c.p.Agents[n].Summary), wordsIn(c.p.Agents[m].Summary)
			if shared, share := overlap(one, two); share >= alikeShare && !told[pair] {
				told[pair] = true
				for x := range shared {
					shared[x] = one.word[shared[x]]
				}
				c.coded("alike", Warning, c.p.Agents[m].Place, "Say in each what it is for and what is the other's.", "the agents %q and %q, which %s chooses between, will be confused: both say %s", n, m, who, strings.Join(shared, ", "))
			}
		}
	}
}

// unsaid tells of fields of an answer that neither a description nor the instructions speak
// of: nobody knows what to put there.
func (c *compiler) unsaid(d *document, at string, doc map[string]any, prompt, who string) {
	props, _ := doc["properties"].(map[string]any)
	for _, k := range keysOf(props) {
		field, _ := props[k].(map[string]any)
		said := strings.Contains(strings.ToLower(prompt), strings.ToLower(strings.ReplaceAll(k, "_", " "))) || strings.Contains(strings.ToLower(prompt), strings.ToLower(k))
		if field["description"] == nil && field["enum"] == nil && field["const"] == nil && !said {
			c.coded("answer", Hint, d.at(at+"/properties/"+k), "Describe it, or speak of it in the instructions.", "nothing says what %q of the answer of %s is, so nobody will fill it well", k, who)
		}
	}
}

// keptUnread tells of values that legs keep and nothing reads.
func (c *compiler) keptUnread(d *document, r *Relay) {
	if _, list := d.value["legs"].([]any); list {
		return // the short form keeps all
	}
	raw, err := json.Marshal(d.value)
	if err != nil {
		return
	}
	for _, l := range r.Legs {
		for _, k := range l.keeps() {
			if !regexp.MustCompile(`kept\s*\.\s*\??` + k + `\b|kept\[['\\"]+` + k + `['\\"]`).Match(raw) {
				c.coded("kept", Hint, l.Place, "Remove keep:, or read it as kept."+k+".", "nothing reads %q, which the leg %s of %s keeps", k, l.Name, r.Name)
			}
		}
	}
}

// circling tells of legs that go round in a circle with no way out that counts visits.
func (c *compiler) circling(r *Relay) {
	for _, l := range r.Legs {
		round := c.back(r, l)
		if round == nil {
			continue
		}
		counted := false
		for i, n := range round {
			next := l.Name // in the circle
			if i+1 < len(round) {
				next = round[i+1]
			}
			counted = counted || (r.Leg(n).Back == next && r.After(r.Leg(n)) != next) // a gate counts how often it sends back
			for _, w := range r.Leg(n).Ways {
				counted = counted || (w.When != nil && strings.Contains(w.When.String(), "visits."))
			}
		}
		if !counted {
			c.coded("circle", Warning, l.Place, fmt.Sprintf("Add a way out that counts, such as visits.%s >= 3.", l.Name), "the legs of %s go round in a circle that nothing counts (%s): only limits: legs ends it", r.Name, strings.Join(append(round, l.Name), " → "))
		}
		return // one circle is told; the others show when it is fixed
	}
}

// back gives the legs of a circle through a leg; nil where there is none.
func (c *compiler) back(r *Relay, l *Leg) []string {
	seen := map[string]bool{}
	var walk func(n string, path []string) []string
	walk = func(n string, path []string) []string {
		for _, to := range r.Ways(r.Leg(n)) {
			if to == l.Name {
				return append(path, n)
			}
			if to == "" || seen[to] || r.Leg(to) == nil {
				continue
			}
			seen[to] = true
			if found := walk(to, append(slices.Clip(path), n)); found != nil {
				return found
			}
		}
		return nil
	}
	return walk(l.Name, nil)
}

var fromInput = regexp.MustCompile(`^=\s*input\.\??([a-z_][a-z0-9_]*)$`)

// unbounded tells of legs that ask a model for each item of a list of the input with no bound.
func (c *compiler) unbounded(d *document, r *Relay) {
	props, _ := r.Input.Doc()["properties"].(map[string]any)
	for _, l := range r.Legs {
		if l.Each == nil || l.Kind == LegOfTool {
			continue
		}
		legs, _ := d.value["legs"].(map[string]any)
		leg, _ := legs[l.Name].(map[string]any)
		src, _ := leg["each"].(string)
		m := fromInput.FindStringSubmatch(strings.TrimSpace(src))
		if m == nil {
			continue
		}
		field, _ := props[m[1]].(map[string]any)
		if field != nil && field["maxItems"] == nil {
			c.coded("bound", Hint, l.Place, "Add maxItems: to the list in input:.", "the leg %s of %s asks a model for each item of %q, which may have %d", l.Name, r.Name, m[1], MostItems)
		}
	}
}

// through warns of relays that agents of their legs can begin again: they end at the depth
// that nothing goes below.
func (c *compiler) through() {
	for _, n := range keysOf(c.p.Relays) {
		r := c.p.Relays[n]
		for _, l := range r.Legs {
			told := map[string]bool{}
			for _, name := range c.p.ByLeg(l).Agents {
				for _, a := range c.reachable(name) {
					if slices.Contains(a.Tools, n) && !told[a.Name] {
						told[a.Name] = true
						c.coded("circle", Warning, l.Place, "Take "+n+" out of the tools of "+a.Name+".", "the relay %s can begin itself again: its leg %s sets %s to work, which has it as a tool; that ends %d deep", n, l.Name, a.Name, DeepestConsult)
					}
				}
			}
		}
	}
}
