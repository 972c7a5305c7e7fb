package prompt_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
)

// talk plays n questions, each answered through a call.
func talk(w *coretest.World, n int) {
	for i := range n {
		w.Step()
		w.Reply("", "tide")
		w.Step()
		w.Return(ledger.StepID("").Turn(i+1).Call(1), "high")
	}
}

func TestAWindowBeginsAtWhatAPersonSaid(t *testing.T) {
	main := strings.Replace(coretest.Main, "passes_to: [berths]", "passes_to: [berths]\nmemory: {keep: window, messages: 3}", 1)
	w := coretest.Open(coretest.Project(t, strings.Replace(main, "same_call: 3", "same_call: 99", 1)), "first")
	talk(w, 3)
	b, err := prompt.Build(w.P, w.S, w.S.Main(), "m", w.Now)
	require.NoError(t, err)
	assert.Len(t, b.Messages, 7, "the window reaches back to the person's message, or a result would stand without its call")
	assert.Equal(t, ledger.User, b.Messages[0].Role)
	memory := w.S.Memory()
	next := coretest.Begin(w.P, ledger.RunOpened{Text: "second", Memory: memory})
	b, err = prompt.Build(w.P, next.S, next.S.Main(), "m", w.Now)
	require.NoError(t, err)
	assert.Equal(t, "second", b.Messages[0].Text, "what is before the window is left out")
}

func TestARequestIsBuiltTheSameTwiceAndSaysWhereItsPartsComeFrom(t *testing.T) {
	text := strings.Replace(coretest.Main, "Today is {{ today }}.", "Today is {{ today }}. {{ wording.tone }}", 1)
	text = strings.Replace(text, "passes_to: [berths]", "passes_to: [berths]\nsettings: {temperature: 0.3, seed: 7, max_tokens: 55, calls: some}\nanswer: {enum: [yes, no]}", 1) + "---\nwording: tone\ntext: Be brief.\n"
	w := coretest.Open(coretest.Project(t, text), "hello")
	b, err := prompt.Build(w.P, w.S, w.S.Main(), "m", w.Now)
	require.NoError(t, err)
	again, err := prompt.Build(w.P, w.S, w.S.Main(), "m", w.Now)
	require.NoError(t, err)
	assert.Equal(t, b, again)
	var names []string
	for _, p := range b.Parts {
		names = append(names, p.Name)
		assert.Positive(t, p.Tokens, p.Name)
	}
	assert.Equal(t, []string{"instructions", "wording tone", "answer"}, names[:3])
	assert.Contains(t, names, "tool look")
	assert.Contains(t, b.System, "Be brief.")
	assert.Equal(t, []any{0.3, 7, 55, "some"}, []any{*b.Temperature, *b.Seed, b.MaxTokens, b.Choice})
	w.Step()
	w.Reply("", "look {}")
	w.Step()
	b, err = prompt.Build(w.P, w.S, w.S.Main(), "m", w.Now)
	require.NoError(t, err)
	assert.Empty(t, b.Choice, "only the first turn after a message has to call")
}

func TestToolsOffTakesEveryToolAway(t *testing.T) {
	w := coretest.Open(coretest.Project(t, coretest.Main), "hello")
	w.S.Opened().Tools = ledger.ToolsOff
	b, err := prompt.Build(w.P, w.S, w.S.Main(), "m", w.Now)
	require.NoError(t, err)
	assert.Empty(t, b.Tools)
	assert.Equal(t, project.NoTools.Hash, b.ToolsHash)
}

func TestWhatCannotBeBuiltSaysWhy(t *testing.T) {
	w := coretest.Open(coretest.Project(t, coretest.Main), "hello")
	_, err := prompt.Build(w.P, w.S, w.S.Main(), "gone", w.Now)
	require.ErrorContains(t, err, `the model "gone" is not in this version`)
	w = coretest.Begin(w.P, ledger.RunOpened{Text: "hello", Agent: "gone"})
	_, err = prompt.Build(w.P, w.S, w.S.Main(), "m", w.Now)
	require.ErrorContains(t, err, `the agent "gone", which holds the baton`)
	p := coretest.Project(t, strings.Replace(coretest.Main, "Today is {{ today }}.", "{{ state.length_m }}", 1))
	w = coretest.Open(p, "hello")
	_, err = prompt.Build(p, w.S, w.S.Main(), "m", w.Now)
	require.ErrorContains(t, err, "the prompt of desk cannot be filled in")
}

func TestDelta(t *testing.T) {
	h := func(s string) []ledger.Hash {
		var out []ledger.Hash
		for _, c := range s {
			out = append(out, ledger.Hash(c))
		}
		return out
	}
	for _, c := range []struct {
		before, now string
		skip, kept  int
		added       string
	}{{"", "abc", 0, 0, "abc"}, {"abc", "abcd", 0, 3, "d"}, {"abc", "abx", 0, 2, "x"}, {"abc", "bcd", 1, 2, "d"}, {"abc", "ab", 0, 2, ""}, {"abc", "xbc", 0, 0, "xbc"}, {"abc", "", 0, 0, ""}} {
		skip, kept, added := prompt.Delta(h(c.before), h(c.now))
		assert.Equal(t, c.skip, skip)
		assert.Equal(t, c.kept, kept)
		assert.Equal(t, len(c.added), len(added))
	}
}

func TestAnEstimateGrowsWithTheRequest(t *testing.T) {
	r := deed.Request{System: strings.Repeat("word ", 100)}
	assert.Equal(t, 125, r.Estimate())
	r.Messages = []ledger.Message{{Text: strings.Repeat("x", 40)}}
	assert.Equal(t, 139, r.Estimate())
}
