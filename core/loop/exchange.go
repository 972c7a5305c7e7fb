package loop

import (
	"fmt"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

// speak lets the next of the two agents of an exchange speak: the first is told how it begins,
// the other that and what the first said, and then each what the other said last.
func (g *going) speak(l *project.Leg, v *run.Visit, step ledger.StepID, n int) []Action {
	who := l.Between[(n-1)%2]
	var say []string
	if n <= 2 {
		opening, err := g.say(l)
		if err != nil {
			return g.bad(l, v, "say", err)
		}
		say = append(say, opening)
	}
	if n > 1 {
		words := v.Results[n-2].Answer
		if n == 2 {
			words = l.Between[0] + ": " + words
		}
		say = append(say, words)
	}
	name, visit := v.Step.LegName()
	o := &ledger.ThreadOpened{Role: ledger.LegAgent, Agent: who, Say: strings.Join(say, "\n\n"), Why: who + " speaks"}
	o.Line = ledger.LineOf(g.t.ID(), fmt.Sprintf("%s:%d/%s", name, visit, who))
	o.From = g.t.LineFrom(o.Line)
	return one(ledger.New(step, o))
}

// agreed says what ends an exchange after what was said last: until, or its phrase; "" where
// it goes on.
func (g *going) agreed(l *project.Leg, v *run.Visit) (string, error) {
	words := v.Results[v.Done-1].Answer
	if l.Phrase != "" && strings.Contains(strings.ToLower(words), strings.ToLower(l.Phrase)) {
		return "phrase", nil
	}
	if l.Until == nil {
		return "", nil
	}
	vars := g.vars()
	vars["words"], vars["n"] = words, int64(v.Done)
	yes, err := l.Until.True(vars)
	if !yes || err != nil {
		return "", err
	}
	return "until", nil
}

// said ends an exchange: its value is all that was said, and what ended it.
func (g *going) said(l *project.Leg, v *run.Visit, ended string) []Action {
	all := []any{}
	for i, r := range v.Results {
		all = append(all, map[string]any{"agent": l.Between[i%2], "text": r.Answer})
	}
	last := v.Results[v.Done-1].Answer
	why := map[string]string{"until": "what until says holds", "phrase": "the phrase was said", "rounds": "its rounds are over"}[ended]
	return one(ledger.New(v.Step, &ledger.LegLeft{Outcome: ledger.EndDone, Keep: l.Keep, Go: g.r.After(l), Answer: last, Done: v.Done, Of: v.Done, Why: why,
		Value: g.text(map[string]any{"said": all, "last": last, "ended": ended})}))
}
