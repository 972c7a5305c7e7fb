package view

import (
	"strings"
	"time"

	"stonebaton.example/core/ledger"
)

// Said is one part of a session's conversation.
type Said struct {
	Run    string        `json:"run"`
	Who    string        `json:"who"` // user, agent, pass, leg, or problem
	Agent  string        `json:"agent,omitempty"`
	To     string        `json:"to,omitempty"` // of a handoff
	Text   string        `json:"text"`
	Step   ledger.StepID `json:"step,omitempty"`
	At     time.Time     `json:"at"`
	Status string        `json:"status,omitempty"` // of the run, with its last part
	Links  []Link        `json:"links,omitempty"`  // of what an agent says: open the outside records of the calls before it
}

// Link opens the outside record of a call.
type Link struct {
	Tool string `json:"tool"`
	URL  string `json:"url"`
}

// Talk gives the conversation of a run: what was said by whom, the handoffs, the answer
// that a direct tool gave in place of a model, the legs of its relay that are shown, the
// relay's answer, and why it ended where it did not end well.
func Talk(events []ledger.Event) []Said {
	var out []Said
	agent, words, returned := "", "", ledger.StepID("") // who has the baton, their newest words, the newest call that returned
	var links []Link                                    // of calls that nothing was said of
	tools := map[ledger.StepID]string{}
	relay, asked := false, ledger.StepID("") // the answer that people decide about
	shown := ledger.Hidden                   // of the leg that the run's relay is at
	for _, e := range events {
		if e.Thread == string(ledger.Root) {
			switch d := e.Data.(type) {
			case *ledger.LegEntered:
				shown = d.Shown
			case *ledger.LegLeft:
				name, _ := e.Step.LegName()
				said := Said{Run: e.Run, At: e.At, Step: e.Step, Who: "leg", Agent: name}
				switch shown {
				case ledger.ShownAnswer:
					said.Text = d.Answer
				case ledger.ShownProgress:
				default:
					continue
				}
				out = append(out, said)
			}
			continue
		}
		if e.Thread != ledger.MainThread {
			continue // what agents say to one another is not said to the person
		}
		said := Said{Run: e.Run, At: e.At, Step: e.Step}
		switch d := e.Data.(type) {
		case *ledger.RunOpened:
			agent, relay = d.Agent, d.Relay != ""
			if relay {
				agent = d.Relay
			}
			if said.Who, said.Text = "user", d.Text; d.Via == ledger.ViaAside {
				said.Who = "note"
			}
		case *ledger.TurnReceived:
			if words = strings.TrimSpace(d.Text); words == "" {
				continue
			}
			said.Who, said.Agent, said.Text = "agent", agent, d.Text
		case *ledger.GateRaised: // what people have not let through is not said
			if n := len(out) - 1; d.Form == ledger.TextTicket && n >= 0 && out[n].Step == e.Step {
				out, words, asked = out[:n], "", e.Step
			}
			continue
		case *ledger.CallDecided:
			tools[e.Step] = d.Tool
			continue
		case *ledger.CallReturned:
			if returned, words = e.Step, ""; d.Link != "" {
				links = append(links, Link{tools[e.Step], d.Link})
			}
			continue
		case *ledger.BatonPassed:
			agent = d.To
			said.Who, said.Agent, said.To, said.Text = "pass", d.From, d.To, d.Because
		case *ledger.RunClosed:
			said.Status = string(d.Status)
			switch {
			case d.Problem != nil:
				said.Who, said.Text = "problem", d.Problem.Say
				if d.Problem.Remedy != "" {
					said.Text += ". " + d.Problem.Remedy
				}
			case d.Answer != "" && relay:
				said.Who, said.Agent, said.Text, said.Step = "agent", agent, d.Answer, ledger.Root
			case d.Answer != "" && asked != "":
				said.Who, said.Agent, said.Text, said.Step = "agent", agent, d.Answer, asked
			case d.Answer != "" && words == "" && returned != "":
				said.Who, said.Agent, said.Text, said.Step = "agent", agent, d.Answer, returned
			default:
				continue
			}
		default:
			continue
		}
		if said.Who == "agent" {
			said.Links, links = links, nil
		}
		out = append(out, said)
	}
	return out
}
