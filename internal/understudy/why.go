package understudy

import (
	"fmt"
	"strings"
)

// why gives the reasons of a reply, for whoever watches the step.
func (th *thought) why() string {
	var b strings.Builder
	if th.request.kind != fresh && th.request.kind != "" {
		fmt.Fprintf(&b, "%s.\n", upperFirst(string(th.request.kind)))
	}
	for _, g := range th.goals {
		fmt.Fprintf(&b, "For %q:\n", g.clause.Text)
		for i, r := range g.ratings {
			if i == 4 || i > 0 && r.Score <= 0.2 {
				break
			}
			b.WriteString("  " + r.String() + "\n")
		}
	}
	for _, r := range th.reasons {
		b.WriteString(r + "\n")
	}
	return b.String()
}

// String gives a rating on one line: the tool, its score, and the words that earned it.
func (r Rating) String() string {
	out := fmt.Sprintf("%s %.1f", r.Tool, r.Score)
	if len(r.Words) > 0 {
		out += ": " + r.Because()
	}
	if !r.Enough {
		out += "; not enough"
	}
	return out
}
