package understudy

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"stonebaton/core/ledger"
	"stonebaton/core/project"
	"stonebaton/core/prompt"
)

func TestDebug(t *testing.T) {
	f := os.Getenv("P")
	if f == "" {
		t.Skip()
	}
	text, _ := os.ReadFile("testdata/requests/" + f + ".yaml")
	p, probs := project.Compile(project.Source{Files: map[string]string{project.Main: string(text)}, Env: map[string]string{}})
	if p == nil {
		t.Fatal(probs)
	}
	a := os.Getenv("A")
	if a == "" {
		a = p.Start
	}
	r := prompt.Request{System: "It is 2026-05-04T09:00:00+01:00. " + os.Getenv("SYS"), Tools: p.Agents[a].Box.Contracts}
	var out prompt.Reply
	for _, s := range strings.Split(os.Getenv("S"), "|") {
		r.Messages = append(r.Messages, ledger.Message{Role: ledger.User, Text: s})
		out = PartOf(p, nil).Answer(r)
		r.Messages = append(r.Messages, ledger.Message{Role: ledger.Assistant, Text: out.Text})
	}
	fmt.Println(out.Reasoning)
	fmt.Println("TEXT:", out.Text)
	for _, c := range out.Calls {
		fmt.Println("CALL:", c.Tool, c.Args)
	}
}
