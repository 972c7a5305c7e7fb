package project

import (
	"cmp"
	"fmt"
	"strings"

	"stonebaton.example/core/ledger"
)

// Explain says of each leg of a relay what it does, what it is told where the file says
// nothing, what it goes on with, and where the relay goes on: every default in words.
func (r *Relay) Explain() []LegSaid {
	out := make([]LegSaid, 0, len(r.Legs))
	for i, l := range r.Legs {
		out = append(out, LegSaid{Leg: l.Name, Lines: r.explain(i, l), Place: l.Place})
	}
	return out
}

// LegSaid is what is to be said of a leg.
type LegSaid struct {
	Leg   string   `json:"leg"`
	Lines []string `json:"lines"`
	Place Place    `json:"place"`
}

func (r *Relay) explain(i int, l *Leg) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	told := func() {
		switch {
		case l.Say != nil:
			add("it is told what say: gives")
		case i == 0 && l.Each == nil:
			add("it is told the input of the relay: its one text, or each field by its name")
		case l.Each == nil:
			add("it is told the input of the relay, and the name and value of the leg before")
		default:
			add("it is told the input of the relay, the item, and the name and value of the leg before")
		}
		add("%s", map[Remembers]string{Fresh: "it begins afresh at every visit", Same: "it goes on with what it was told and said at earlier visits in the run", Session: "it goes on with what it was told and said in the session"}[l.Thread])
		switch {
		case l.Answer != nil:
			add("its answer has to fit the schema of the leg; one that does not is sent back once with its faults, then the leg fails")
		case l.Kind != LegPrompt:
			add("its answer has to fit the agent's own schema, where that has one")
		}
	}
	switch l.Kind {
	case LegOfAgent:
		add("the agent %s works, on a thread of its own", l.Does)
		told()
	case LegPrompt:
		add("the model %s is asked once, with no agent and no tools", l.Own.Model)
		told()
	case LegPlan:
		add("the agent %s takes one step after another, at most %d, each by one of %s", l.Does, l.Steps, strings.Join(l.Among, ", "))
		told()
	case LegExchange:
		add("%s and %s speak in turn, at most %d rounds", l.Between[0], l.Between[1], l.Rounds)
		add("the first is told %s; the other that, and what the first said; then each what the other said last", map[bool]string{true: "what say: gives", false: "the input of the relay, and the value of the leg before"}[l.Say != nil])
	case LegOfTool:
		add("the tool %s is called with args:; its gate, rung and rules hold", l.Does)
	case LegOfRelay:
		add("the relay %s goes its course with input:", l.Does)
	case LegAsk:
		add("the person is asked, and the relay waits for the answer")
		if l.Answer != nil {
			add("the answer has to fit the schema of the leg; the person is told where it does not")
		}
	case LegGate:
		add("%s before people, and the relay waits for what they decide", map[bool]string{true: "the text of show: is put", false: "its question is put"}[l.Gate.Show != nil])
		add("it may be settled by %s", cmp.Or(strings.Join(l.Gate.Approvers(), ", "), "anybody"))
		if l.Gate.Amend != "" {
			add("they may change the text; what they make of it takes the place of kept.%s", l.Gate.Amend)
		}
		if l.Back != "" {
			add("they may send it back to %s with remarks, %d times at most; what %s is told has the remarks added", l.Back, l.Tries, l.Back)
		}
		add("where they refuse, %s", map[bool]string{true: "the relay fails", false: l.Refused + " comes next"}[l.Refused == ""])
		switch {
		case l.Gate.Within == 0:
		case l.Lapsed != "":
			add("where nobody decides in %s, %s comes next", l.Gate.Within, l.Lapsed)
		default:
			add("where nobody decides in %s, %s", l.Gate.Within, map[ledger.Lapse]string{ledger.LapseRefuses: "it is as where they refuse", ledger.LapseAllows: "it is as where they agree", ledger.LapseFails: "the leg fails"}[l.Gate.Lapse])
		}
	case LegTogether:
		add("%d branches work side by side; its value has the result of each, by its name", len(l.Branches))
	case LegSet:
		add("it keeps %s", strings.Join(l.Set.Keys(), ", "))
	case LegChoose:
		add("the first of %d ways whose condition holds is taken", len(l.Ways))
	case LegFinish:
		add("the relay ends here, with this value")
	}
	if l.Each != nil {
		add("for each item of the list, %d at once; its value is the list of the results", l.AtOnce)
	}
	if l.Within > 0 {
		add("it may take %s, waits for people not counted", l.Within)
	}
	if l.Keep != "" {
		add("its value is kept as kept.%s", l.Keep)
	}
	switch {
	case l.Kind == LegFinish:
	case l.Collect:
		add("an item that fails is kept as {problem}, the others as {value}")
	case l.OnError != "":
		add("where it fails, %s comes next", l.OnError)
	case l.Kind == LegSet || l.Kind == LegChoose:
	default:
		add("where it fails, the relay fails")
	}
	switch next := r.After(l); {
	case l.Kind == LegFinish:
	case l.Kind == LegChoose && len(l.Ways) > 0 && l.Ways[len(l.Ways)-1].When == nil:
	case l.Kind == LegChoose && next != "":
		add("where no way holds, %s comes next", next)
	case l.Kind == LegChoose:
		add("where no way holds, the relay ends")
	case next == "":
		add("then the relay ends, with its value")
	default:
		add("then %s", next)
	}
	return append(out, map[string]string{"answer": "the person sees its words", "progress": "the person sees that it is done", "hidden": "the person sees nothing of it but its steps"}[string(l.Shown)])
}
