package model_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/understudy"
)

func TestTheWireOfTheModelIsAsked(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	s := model.Set{"understudy": &understudy.Wire{}}
	words := ""
	r, bad := s.Ask(context.Background(), p, deed.Request{Model: "m", Messages: []ledger.Message{{Role: ledger.User, Text: "Hello"}}}, func(w string) { words += w })
	require.Nil(t, bad)
	assert.Equal(t, r.Text, words, "its words come as they are")
	assert.Positive(t, r.Usage.Out)
	_, bad = s.Ask(context.Background(), p, deed.Request{Model: "none"}, nil)
	assert.Contains(t, bad.Say, `the project has no model "none"`)
	_, bad = model.Set{}.Ask(context.Background(), p, deed.Request{Model: "m"}, nil)
	assert.Contains(t, bad.Say, `does not speak the wire "understudy"`)
}

func TestTheUnderstudyPlaysTheLinesOfItsModel(t *testing.T) {
	main := `
project: quay
start: desk
model: a
models:
  a: {speaks: understudy, lines: "a/*.yaml"}
  b: {speaks: understudy}
  c: {speaks: chat-completions, url: "http://127.0.0.1:1"}
---
agent: desk
summary: Desk.
prompt: The desk.
`
	p, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: main, "a/x.yaml": "lines:\n  - {who: the desk, said: hello, say: By heart.}\n"}})
	require.NotNil(t, p, "%v", probs)
	ask := func(w *understudy.Wire, name string) string {
		r, bad := w.Ask(context.Background(), p, p.Models[name], deed.Request{System: "The desk.", Messages: []ledger.Message{{Role: ledger.User, Text: "hello"}}}, func(string) {})
		require.Nil(t, bad)
		return r.Text
	}
	assert.Equal(t, "By heart.", ask(&understudy.Wire{}, "a"))
	assert.NotEqual(t, "By heart.", ask(&understudy.Wire{}, "b"), "its lines are its own")
	assert.Equal(t, "By heart.", ask(&understudy.Wire{Always: true}, "c"), "in a drill it plays every model")
}

func TestAReplyCanBeCutShort(t *testing.T) {
	r := understudy.Part{}.Answer(deed.Request{MaxTokens: 2, Messages: []ledger.Message{{Role: ledger.User, Text: "Hello"}}})
	assert.Equal(t, "length", r.Finish)
	assert.Len(t, r.Text, 8)
}
