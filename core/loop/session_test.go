package loop_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
)

func TestASessionKeepsWhatTheRelaySays(t *testing.T) {
	w := through(t, "better", `{"text":"um tide fri?"}`)
	w.Step()
	w.Reply("When is high tide on Friday?")
	w.Step()
	assert.Equal(t, "When is high tide on Friday?", w.Asked[1].Messages[0].Text)
	w.Reply("At noon.")
	w.Step()
	require.NotNil(t, w.S.Closed())
	kept := w.S.Kept()
	assert.Equal(t, []string{"When is high tide on Friday?", "At noon."}, []string{kept.Memory[0].Text, kept.Memory[1].Text}, "the better question, not the rough one")
	require.Len(t, kept.Lines["better#rewrite"], 2, "the leg remembers over the session")
	var said [][3]string
	for _, s := range view.Talk(w.Events) {
		said = append(said, [3]string{s.Who, s.Agent, s.Text})
	}
	assert.Equal(t, [][3]string{{"user", "", "better"}, {"leg", "rewrite", "When is high tide on Friday?"}, {"leg", "reply", ""}, {"agent", "better", "At noon."}}, said)

	raw, err := json.Marshal(kept)
	require.NoError(t, err)
	kept, err = run.ReadKept(raw)
	require.NoError(t, err)
	next := coretest.Begin(w.P, ledger.RunOpened{Relay: "better", Input: json.RawMessage(`{"text":"and sat"}`), Text: "and sat", Memory: kept.Memory, Lines: kept.Lines})
	next.Step()
	m := next.Asked[0].Messages
	require.Len(t, m, 3)
	assert.Equal(t, "um tide fri?", m[0].Text)
	assert.Equal(t, "and sat", m[2].Text)
	next.Reply("When is high tide on Saturday?")
	next.Step()
	assert.Len(t, next.Asked[1].Messages, 1, "the other leg begins afresh")
}
