package loop_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

// newest gives the newest message of a thread that is not an agent's own.
func newest(w *coretest.World, thread ledger.StepID) string {
	m := w.S.Thread(thread).Messages()
	return m[len(m)-1].Text
}

func TestAnAnswerThatIsNotGoodIsSentBackWithRemarks(t *testing.T) {
	w := through(t, "tried", `{"text":"five!"}`)
	w.Step()
	w.Reply("no")
	w.Step()
	assert.Equal(t, "Longer than five!.", newest(w, "r.long:1"))
	w.Reply("long enough")
	w.Step()
	w.Reply("Pay at once.")
	w.Step()
	judge := ledger.StepID("r.fair:1.t1.g1")
	assert.Equal(t, "A letter is friendly.\n\nPay at once.", newest(w, judge))
	last := w.Asked[len(w.Asked)-1]
	assert.Equal(t, "reader", last.Agent)
	assert.Contains(t, last.System, `"good"`)
	w.Reply(`{"good":false,"remarks":"Say please.","score":4}`)
	w.Step()
	assert.Equal(t, "Say please.", newest(w, "r.fair:1"))
	w.Reply("Please pay.")
	w.Step()
	w.Reply(`{"good":true,"remarks":""}`)
	w.Step()
	assert.Equal(t, "long enough, Please pay.", w.S.Closed().Answer)
	_, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
}

func TestTheBestOfTheTriesCountsWithWhatIsOpen(t *testing.T) {
	w := through(t, "tried", `{"text":"x"}`)
	w.Step()
	w.Reply("yes")
	w.Step()
	for _, x := range [][2]string{{"one", `{"good":false,"remarks":"r1","score":3}`}, {"two", `{"good":false,"remarks":"r2","score":7}`}, {"three", `{"good":false,"remarks":"r3","score":5}`}} {
		w.Reply(x[0])
		w.Step()
		w.Reply(x[1])
		w.Step()
	}
	assert.Equal(t, "two (open: r2)", w.S.Closed().Answer, "and a leg can branch on it")
	var left *ledger.LegLeft
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.LegLeft); ok && e.Step == "r.fair:1" {
			left = d
		}
	}
	assert.Equal(t, ledger.EndShort, left.Outcome)
	assert.Equal(t, "r2", left.Remarks)
}

func TestAJudgeThatFailsFailsTheAnswer(t *testing.T) {
	w := through(t, "tried", `{"text":"x"}`)
	w.Step()
	w.Reply("yes")
	w.Step()
	w.Reply("one")
	w.Step()
	w.Append(loop.TurnFailed(w.P, w.S, w.Asking(), deed.ModelFailure{Class: "refused", Say: "no"}, 0, w.Now, 0))
	w.Step()
	assert.Equal(t, "Nobody could judge it.", w.S.Closed().Answer)
}

func TestTheMainAnswerIsJudgedToo(t *testing.T) {
	text := strings.Replace(coretest.Letters, "prompt: You are the desk.", "prompt: You are the desk.\ngood_when: answer.contains('ok')\ntries: 2", 1)
	w := coretest.Open(coretest.Project(t, text), "hello")
	w.Step()
	w.Reply("no")
	w.Step()
	assert.Equal(t, "It has to hold that answer.contains('ok').", newest(w, ""))
	w.Reply("never")
	w.Step()
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Equal(t, "never", w.S.Closed().Answer)
	assert.Equal(t, "It has to hold that answer.contains('ok').", w.S.Closed().Remarks)
}
