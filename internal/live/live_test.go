package live_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/live"
)

func TestReadersHearTheirRunAndReadersOfAllHearAll(t *testing.T) {
	var h live.Hub
	h.Committed("a-1", nil) // nobody looks on
	one, all := h.Read("a-1"), h.Read("")
	h.Committed("a-1", []ledger.Event{{Seq: 1}})
	h.Committed("b-1", []ledger.Event{{Seq: 1}})
	h.Delta("a-1", "t1", "word")
	h.Changed("project")
	assert.EqualValues(t, 1, (<-one.C).Events[0].Seq)
	assert.Equal(t, "word", (<-one.C).Text)
	assert.Empty(t, one.C)
	assert.Equal(t, "a-1", (<-all.C).Run)
	assert.Equal(t, "b-1", (<-all.C).Run)
	assert.Equal(t, "project", (<-all.C).Topic, "words are not for the reader of all")
	one.Close()
	h.Committed("a-1", nil)
	assert.Empty(t, one.C)
	all.Close()
}

func TestASlowReaderIsToldThatItMissedSomething(t *testing.T) {
	var h live.Hub
	r := h.Read("a-1")
	defer r.Close()
	for range 1000 {
		h.Committed("a-1", nil) // never blocks
	}
	assert.True(t, r.Missed())
	assert.False(t, r.Missed(), "it is told once")
	for len(r.C) > 0 {
		<-r.C
	}
	h.Committed("a-1", nil)
	assert.False(t, r.Missed())
}
