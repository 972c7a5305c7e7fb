package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/rows"
)

// span shows milliseconds as people say them.
func span(ms int64) string {
	switch d := time.Duration(ms) * time.Millisecond; {
	case d < 10*time.Second:
		return fmt.Sprintf("%d ms", ms)
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	default:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
}

func spaced(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

// The column of who acts is this wide, in letters.
const (
	narrowest = 8
	widest    = 20
)

// column is how wide the column of who acts is.
func (k *call) column() int { return max(narrowest, min(k.wide, widest)) }

// widen makes the column of who acts wide enough for some steps.
func (k *call) widen(steps ...*trace.Step) {
	for _, s := range steps {
		k.wide = max(k.wide, len(indent(s))+len(s.Agent))
	}
}

// line is one step on one line: who, what, how long, tokens, and why or what.
func (k *call) line(s *trace.Step) painted {
	who, what, took, tok, say := indent(s)+s.Agent, s.Name, "", "", s.Why
	if s.MS > 0 || s.Kind == trace.Turn || s.Status == "returned" {
		took = span(s.MS)
	}
	if s.Tokens != nil {
		tok = spaced(s.Tokens.In+s.Tokens.Out) + " tok"
	}
	if s.Asked != nil {
		what, tok, took = opens(s), "", ""
		if n := s.Asked.Tokens.In + s.Asked.Tokens.Out; n > 0 {
			tok = spaced(n) + " tok"
		}
		if s.Status == "returned" || s.Status == "failed" {
			took = span(s.MS)
		}
	}
	switch {
	case s.Kind == trace.Pass && s.Status == "returned":
		return sprint("%-*s → %-14s %9s %10s   %s", k.column(), who, s.To, "", "", say)
	case s.Status == "waiting" && s.Wait != nil && s.Wait.Settled == nil:
		took, say = "held", s.Wait.Why
		return sprint("%-*s %s %s %10s   %s", k.column(), who, k.paint("31", fmt.Sprintf("%-16s", what)), k.paint("31", fmt.Sprintf("%9s", took)), tok, say)
	case s.Status == "aside":
		took, say = "aside", s.Brief+"   "+s.Aside
	case s.Status == "failed" || s.Status == "refused" || s.Status == "retrying" || s.Status == "lost":
		if took == "" || s.Status == "refused" {
			took = s.Status
		}
		say = s.Status + ": " + s.Brief
		if s.Status == "refused" {
			say = s.Brief
		}
		if s.Asked != nil && s.Status != "refused" {
			say += below(s)
		}
	case s.Kind == trace.Leg && s.Title == string(project.LegChoose):
		say = s.Brief
		if s.To != "" {
			say += " → " + s.To
		}
	case s.Asked != nil:
		say = s.Title
		if s.Brief != "" {
			say += " → " + s.Brief
		}
		say += below(s)
	case s.Kind == trace.Turn && s.Model != "":
		if say += "   (" + s.Model + ")"; strings.HasPrefix(s.Brief, "sent back: ") {
			say = s.Brief
		}
	case s.Kind == trace.Call:
		say = s.Title
		if s.Brief != "" {
			say += " → " + s.Brief
		}
		if s.Wait != nil && s.Wait.Settled != nil {
			say += "   " + settledBy(s.Wait)
		}
		if s.Link != "" {
			say += "   " + s.Link
		}
	}
	if s.Kind != trace.Turn && s.Stub {
		say += "   (stub)"
	}
	if s.Kind == trace.Call && s.Rung != "" && s.Rung != ledger.RungFree {
		say += "   (rung " + string(s.Rung) + ")"
	}
	if s.Undone != nil {
		say += "   (undone " + s.Undone.Local().Format("2 Jan 15:04") + ")"
	}
	return painted(strings.TrimRight(string(sprint("%-*s %-16s %9s %10s   %s", k.column(), who, what, took, tok, say)), " "))
}

// opens says what a step opens: a consult, a relay, or what a leg does.
func opens(s *trace.Step) string {
	switch s.Kind {
	case trace.Consult:
		return "asks " + s.To
	case trace.Relay:
		return "relay " + s.To
	case trace.Leg:
		return "leg " + s.Name
	case trace.Planned:
		return "step " + s.Name
	case trace.Turn, trace.Call, trace.Pass, trace.Judged, trace.Hooked:
	}
	return s.Name
}

// indent sets what happens on the thread of a consult off from what it was asked for.
func indent(s *trace.Step) string { return strings.Repeat("  ", s.Depth) }

// below says what a consult took.
func below(s *trace.Step) string {
	a := s.Asked
	if c := a.Course; c != nil && s.Ended == nil {
		return "   (" + ahead(c) + ")"
	}
	if a.Turns == 0 {
		return ""
	}
	out := "   (" + count(a.Turns, "turn") + ", " + count(a.Calls, "call")
	if a.Cost > 0 {
		out += ", cost " + price(a.Cost)
	}
	if a.Kept {
		out += ", it remembers"
	}
	if a.Open > 0 {
		out += ", waits for a person"
	}
	return out + ")"
}

// ahead says how far a plan is, and what it has ahead.
func ahead(c *trace.Course) string {
	out := fmt.Sprintf("step %d of at most %d: %s", c.N, c.Of, c.Who)
	names := make([]string, len(c.Ahead))
	for i, a := range c.Ahead {
		names[i] = a.Who
	}
	if len(names) > 0 {
		out += "; ahead: " + strings.Join(names, ", ")
	}
	return out
}

func settledBy(w *trace.Wait) string {
	if w.Verb == ledger.Lapsed {
		return "lapsed"
	}
	verb := map[ledger.Verb]string{ledger.Allow: "allowed", ledger.RefuseIt: "refused", ledger.Amend: "changed and allowed", ledger.Happened: "said to have happened", ledger.NotHappened: "said not to have happened", ledger.GiveUp: "given up", ledger.Answer: "answered", ledger.SendBack: "sent back", ledger.Withdrawn: "withdrawn"}[w.Verb]
	if w.Who == "" {
		return verb
	}
	return verb + " by " + w.Who
}

// vote says what one of several people has said who have to agree.
func vote(v view.Vote) painted {
	does := "agrees"
	if v.Verb == ledger.Amend {
		does = "changed it, and agrees"
	}
	out := sprint("%s %s", v.By, does)
	if v.Because != "" {
		out += sprint(": %s", v.Because)
	}
	return out
}

// ticketLines tells of a ticket, with the arguments that it is about, and how to settle it.
func (k *call) ticketLines(t rows.Ticket) painted {
	who := strings.Join(t.By, ", ")
	if who == "" {
		who = "anybody"
	}
	due := ""
	if t.Due != nil {
		left := time.Until(t.Due.Time).Round(time.Second)
		due = ", lapses in " + span(left.Milliseconds())
		if left < 0 {
			due = ", lapses now"
		}
	}
	if t.Need > 1 {
		who = fmt.Sprintf("%d of %s", t.Need, who)
	}
	if t.Escalates != nil {
		due += fmt.Sprintf(", from %s on %s too", t.Escalates.Local().Format("15:04"), strings.Join(t.EscalateTo, ", "))
	}
	out := sprint("         %s: %s   %s%s\n", k.paint("1;31", fmt.Sprintf("ticket %d", t.ID)), t.Ask, who, due)
	switch ledger.TicketKind(t.Form) {
	case ledger.TextTicket, ledger.PauseTicket:
		out += painted("           " + hanging(textOf(t), 11) + "\n")
	case ledger.LimitTicket:
	case ledger.GateTicket, ledger.OutcomeTicket:
		out += k.argsOf(t)
	case ledger.QuestionTicket:
	}
	if t.Reason != "" {
		out += sprint("         %s says: %s\n", t.Agent, t.Reason)
	}
	if t.Barred != "" {
		out += sprint("         %s asked for it, and may not agree as well\n", t.Barred)
	}
	for _, v := range t.Votes {
		out += sprint("         %s\n", vote(v))
	}
	if t.Diff != "" {
		out += painted("         " + hanging(t.Diff, 9) + "\n")
	}
	if t.Link != "" {
		out += sprint("         %s\n", t.Link)
	}
	if t.Form == string(ledger.OutcomeTicket) {
		return out + sprint("         it happened: stonebaton answer %d happened    it did not: stonebaton answer %d not_happened    or: stonebaton answer %d give_up\n", t.ID, t.ID, t.ID)
	}
	if t.Form == string(ledger.QuestionTicket) {
		options, fields := wanted(t)
		for i, o := range options {
			out += sprint("         %d  %s\n", i+1, o)
		}
		for _, f := range fields {
			out += sprint("         %s\n", f)
		}
		answer := `"…"`
		if len(fields) > 0 {
			answer = "'{…}'"
		}
		return out + k.ways(fmt.Sprintf("answer with   stonebaton answer %d %s", t.ID, answer), fmt.Sprintf("decline with   stonebaton refuse %d -because …", t.ID))
	}
	allow, amend, refuse := fmt.Sprintf("stonebaton allow %d", t.ID), fmt.Sprintf("stonebaton amend %d -args ", t.ID), fmt.Sprintf("stonebaton refuse %d -because …", t.ID)
	if t.Form == string(ledger.LimitTicket) {
		return out + k.ways("give that with   "+allow, "another amount with   "+amend+`'{"more": …}'`, "no more with   "+refuse)
	}
	if t.Form == string(ledger.PauseTicket) {
		return out + k.ways("go on with   "+allow, "change that with   "+amend+`'{"text": "…"}'`, fmt.Sprintf(`say something with   stonebaton answer %d "…"`, t.ID), "go on without looking with   "+allow+" -spare")
	}
	if t.Form == string(ledger.TextTicket) {
		ways := []string{"allow with   " + allow}
		for _, v := range t.Verbs {
			switch v {
			case ledger.Amend:
				ways = append(ways, "change with   "+amend+`'{"text": "…"}'`)
			case ledger.SendBack:
				ways = append(ways, fmt.Sprintf("send back with   stonebaton back %d -because …", t.ID))
			}
		}
		return out + k.ways(append(ways, "refuse with   "+refuse)...)
	}
	return out + k.ways("allow with   "+allow, "change with   "+amend+"'{…}'", "refuse with   "+refuse)
}

// ways gives the commands with which a ticket is settled; on a terminal that is too narrow for
// all of them each has a line of its own.
func (k *call) ways(list ...string) painted {
	line := strings.Join(list, "    ")
	if k.tty && len([]rune(line))+10 > k.width() {
		line = strings.Join(list, "\n         ")
	}
	return sprint("         %s\n", painted(line))
}

// textOf gives the text that a ticket is about.
func textOf(t rows.Ticket) string {
	var args struct{ Text string }
	_ = json.Unmarshal(t.Args, &args) // the loop wrote it
	return args.Text
}

// wanted gives the answers that a question lets one choose from, or the fields of its form,
// each with its type and what it is.
func wanted(t rows.Ticket) (options, fields []string) {
	var doc struct {
		Enum       []any
		Properties map[string]struct {
			Type, Description, Format string
			Enum                      []string
		}
	}
	if len(t.Wants) == 0 || json.Unmarshal(t.Wants, &doc) != nil {
		return nil, nil
	}
	for _, o := range doc.Enum {
		options = append(options, expr.Show(o))
	}
	for _, name := range slices.Sorted(maps.Keys(doc.Properties)) {
		p := doc.Properties[name]
		line := name + ": " + cmp.Or(p.Format, p.Type)
		if len(p.Enum) > 0 {
			line = name + ": " + near.Or(p.Enum)
		}
		if p.Description != "" {
			line += ", " + p.Description
		}
		fields = append(fields, line)
	}
	return options, fields
}

// summary is the last line of a run: how it stands and what it cost.
func summary(t trace.Totals) string {
	s := fmt.Sprintf("run %s %s: %s, %s, %s tok", t.ID, t.Status, count(t.Turns, "turn"), count(t.Calls, "call"), spaced(t.Tokens.In+t.Tokens.Out))
	if t.Cost > 0 {
		s += ", cost " + price(t.Cost)
	}
	if len(t.Models) > 0 {
		s += ", by " + strings.Join(t.Models, ", ")
	}
	return s + ", " + span(t.MS)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// argsOf prints the arguments of a ticket's call: as JSON, and texts of several lines as they are.
func (k *call) argsOf(t rows.Ticket) painted {
	args, err := value.ReadObject(t.Args)
	long := map[string]string{}
	for name, v := range args {
		if s, ok := v.(string); ok && strings.Contains(s, "\n") {
			long[name] = s
			delete(args, name)
		}
	}
	if err != nil || len(long) == 0 {
		return sprint("         %s %s\n", t.Tool, string(harmless(t.Args)))
	}
	raw, err := json.Marshal(args)
	if err != nil {
		raw = t.Args
	}
	out := sprint("         %s %s\n", t.Tool, string(harmless(raw)))
	for _, name := range slices.Sorted(maps.Keys(long)) {
		out += sprint("         %s:\n", name) + painted("           "+hanging(strings.TrimRight(long[name], "\n"), 11)+"\n")
	}
	return out
}
