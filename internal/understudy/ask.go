package understudy

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/reading"
)

func list(names []string) string { return enumerated(names, "and") }

func either(names []string) string { return enumerated(names, "or") }

// enumerated joins names as one says them: a, b and c.
func enumerated(names []string, last string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " " + last + " " + names[len(names)-1]
}

func lowerFirst(s string) string {
	if len(s) > 1 && s[1] >= 'a' && s[1] <= 'z' || len(s) == 1 || len(s) > 1 && s[1] == ' ' {
		return strings.ToLower(s[:1]) + s[1:]
	}
	return s
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

var (
	asideRE = regexp.MustCompile(`\s*(?:[;:(]|\s[-–—]\s|, so that |, for whoever |, such as ).*$`)
	orRE    = regexp.MustCompile(`^(?:or|and) \w+`)
	thirdRE = regexp.MustCompile(`^([A-Za-z]{3,}?)(s|es)$`)
)

// doing says what a tool does, as one would after "I can".
func (c *card) doing() string {
	s := strings.TrimRight(strings.TrimSpace(asideRE.ReplaceAllString(firstSentence(c.Summary), "")), ".")
	if s == "" {
		return "use " + spaced(c.Name)
	}
	first, rest, _ := strings.Cut(s, " ")
	if m := thirdRE.FindStringSubmatch(first); m != nil && !reading.Verb(strings.ToLower(first)) { // Returns the price
		low := strings.ToLower(first)
		switch {
		case reading.Verb(strings.TrimSuffix(low, "s")):
			first = strings.TrimSuffix(low, "s")
		case reading.Verb(strings.TrimSuffix(low, "es")):
			first = strings.TrimSuffix(low, "es")
		}
	}
	if !reading.Verb(strings.ToLower(first)) {
		return "tell you " + lowerFirst(s)
	}
	rest = orRE.ReplaceAllStringFunc(rest, func(w string) string { // locks or unlocks
		if cut := strings.TrimSuffix(w, "s"); cut != w && reading.Verb(strings.TrimPrefix(strings.TrimPrefix(cut, "or "), "and ")) {
			return cut
		}
		return w
	})
	if rest == "" {
		return lowerFirst(first)
	}
	return lowerFirst(first) + " " + rest
}

func firstSentence(s string) string {
	if i := strings.Index(s, ". "); i > 0 {
		return s[:i]
	}
	return s
}

// question asks for what a tool still needs, in a sentence.
func (th *thought) question(c *card, missing []*param, half map[string]string) string {
	th.because("%s lacks %s; it asks and does not guess.", c.Name, list(names(missing)))
	if len(missing) == 1 {
		return missing[0].question(half[missing[0].name])
	}
	var parts []string
	for _, p := range missing {
		words := p.clause()
		if half[p.name] != "" {
			words += ", with the time of day"
		}
		parts = append(parts, words)
	}
	return "I can " + c.doing() + ". Can you tell me " + list(parts) + "?"
}

func names(ps []*param) []string {
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = p.name
	}
	return out
}

// brief gives the description of a parameter without examples and asides.
func (p *param) brief() string {
	d := strings.TrimRight(strings.TrimSpace(p.desc), ".")
	d = regexp.MustCompile(`(?i)\s*(?:[;:(]|,? such as |,? for example|,? e\.g\.|, by default|, if |\. ).*$`).ReplaceAllString(d, "")
	return lowerFirst(strings.TrimSpace(d))
}

var asksRE = regexp.MustCompile(`^(?:for |to |at |on |from |until |by |in |with )?(?:how|which|what|who|whom|when|where|whether|why)\b`)

var nounRE = regexp.MustCompile(`^(?:the|a|an|its|their|his|her|this)\s`)

// clause gives a parameter as the object of "tell me".
func (p *param) clause() string {
	b := p.brief()
	switch {
	case p.enum != nil:
		what := spaced(p.name)
		return "which " + what + " (" + either(values(p.enum)) + ")"
	case b == "":
		return "the " + spaced(p.name)
	case asksRE.MatchString(b):
		return b
	case nounRE.MatchString(b):
		return b
	}
	return "the " + b
}

func values(list []any) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = expr.Show(v)
	}
	return out
}

// question asks for one parameter.
func (p *param) question(half string) string {
	if half != "" {
		return upperFirst(half) + "?"
	}
	b := p.brief()
	if p.kind == "boolean" {
		if m := pairRE.FindStringSubmatch(p.desc); m != nil {
			return "Shall it be " + m[1] + " or " + m[2] + "?"
		}
		if !strings.HasPrefix(b, "whether") {
			b = "whether it is " + spaced(p.name)
		}
		return "Can you tell me " + b + "?"
	}
	switch {
	case p.enum != nil && len(p.enum) <= 12:
		if asksRE.MatchString(b) && len(strings.Fields(b)) <= 3 && !strings.HasPrefix(b, "whe") {
			return upperFirst(b) + ": " + either(values(p.enum)) + "?"
		}
		return "Which " + spaced(p.name) + ": " + either(values(p.enum)) + "?"
	case b == "" && (p.role == aMoment || p.role == aDay) && len(p.label) == 0:
		if p.role == aDay {
			return "On which day?"
		}
		return "At what time, and on which day?"
	case b == "" && len(p.label) == 0:
		return "What shall I take for “" + p.name + "”?"
	case b == "":
		return "What is the " + spaced(p.name) + "?"
	case asksRE.MatchString(b) && len(strings.Fields(b)) <= 3:
		return upperFirst(b) + "?"
	case strings.HasPrefix(b, "who "):
		return upperFirst(b) + "?"
	case asksRE.MatchString(b):
		return "Can you tell me " + b + "?"
	case nounRE.MatchString(b):
		return "What is " + b + "?"
	}
	verb := "is"
	if p.kind == "array" {
		verb = "are"
	}
	return "What " + verb + " the " + b + "?"
}

// abilities says what the agent can do, from the summaries and allowed values of
// its tools and the summaries of the agents it passes to.
func (th *thought) abilities(greets bool) string {
	var can, others []string
	for _, c := range th.cards {
		if c.handoff != "" {
			s := c.Summary
			if i := strings.Index(s, ": "); i >= 0 {
				s = s[i+2:]
			}
			how := "pass you on to"
			if c.consult {
				how = "ask"
			}
			others = append(others, fmt.Sprintf("- %s %s: %s", how, spaced(c.handoff), strings.TrimRight(lowerFirst(s), ".")))
			continue
		}
		line := "- " + c.doing()
		for _, p := range c.params {
			if p.required && len(p.enum) > 0 && len(p.enum) <= 8 {
				line += fmt.Sprintf(" (%s: %s)", spaced(p.name), either(values(p.enum)))
				break
			}
		}
		can = append(can, line)
	}
	hello := ""
	if greets {
		hello = "Good day. "
	}
	all := append(can, others...)
	if len(all) == 0 {
		return hello + "I have no tools here, and I only know what tools tell me."
	}
	const most = 20
	if len(all) > most {
		all = append(all[:most], fmt.Sprintf("- and %d more things", len(all)-most))
	}
	return hello + "I can:\n\n" + strings.Join(all, "\n")
}

// greeting answers a hello with what can be done here, in one sentence.
func (th *thought) greeting() string {
	var can []string
	for _, c := range th.cards {
		if c.handoff == "" {
			can = append(can, c.doing())
		}
	}
	for _, c := range th.cards {
		if c.handoff != "" && len(can) < 3 {
			can = append(can, "pass you on to "+spaced(c.handoff))
		}
	}
	switch {
	case len(can) == 0:
		return "Good day. I have no tools here, and I only know what tools tell me."
	case len(can) > 3:
		return "Good day. I can " + strings.Join(can[:3], ", ") + ", and more. What do you need?"
	}
	return "Good day. I can " + list(can) + ". What do you need?"
}

// alreadyDone asks whether a write is to be made once more, with a change.
func (th *thought) alreadyDone(c *card, old *asked, args map[string]any) string {
	var diff []string
	for _, k := range slices.Sorted(maps.Keys(args)) {
		if show(args[k]) != show(old.args[k]) {
			diff = append(diff, plainValue(args[k]))
		}
	}
	with := ""
	if len(diff) > 0 {
		with = ", now with " + list(diff)
	}
	return fmt.Sprintf("That is already done, with %s. Shall I %s once more%s?", list(argWords(old.args)), c.doing(), with)
}

func argWords(args map[string]any) []string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(args)) {
		out = append(out, spaced(k)+" "+plainValue(args[k]))
	}
	return out
}
