package run

import (
	"encoding/json"
	"maps"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/value"
)

// line is what a consult that remembers goes on with.
type line struct {
	from     ledger.StepID // the thread of the run that took it on by last; "" is none
	messages []ledger.Message
	hashes   []ledger.Hash
	sent     []ledger.Hash
}

// line finds what a consult that remembers goes on with, as a thread sees it: as the threads
// on it, and those that it was opened from, left it. What is below and beside it is not seen
// before it closes.
func (t *Thread) line(key string) *line {
	for ; t != nil; t = t.parent {
		if l := t.lines[key]; l != nil {
			return l
		}
	}
	return nil
}

// LineFrom gives the thread of the run that a line was taken on by last, as the thread sees
// it; "" is none.
func (t *Thread) LineFrom(key string) ledger.StepID {
	if l := t.line(key); l != nil {
		return l.from
	}
	return ""
}

// Kept is what a session keeps of its newest run, so that the next begins without folding it.
type Kept struct {
	Agent   string                      `json:"agent"`
	Memory  []ledger.Message            `json:"memory,omitempty"`
	Facts   map[string]any              `json:"facts,omitempty"`
	Handles []string                    `json:"handles,omitempty"`
	Lines   map[string][]ledger.Message `json:"lines,omitempty"`
	Agreed  map[string]ledger.Agreed    `json:"agreed,omitempty"`
}

// Kept gives what the session keeps of the run.
func (s *State) Kept() *Kept {
	k := &Kept{Agent: s.main.agent, Memory: s.Memory(), Facts: s.main.facts, Handles: sorted(maps.Keys(s.main.handles)), Agreed: s.agreed}
	for key, l := range s.main.lines {
		if k.Lines == nil {
			k.Lines = map[string][]ledger.Message{}
		}
		k.Lines[key] = rounded(l.messages)
	}
	return k
}

// ReadKept reads what a session keeps from JSON; whole numbers stay exact.
func ReadKept(raw []byte) (*Kept, error) {
	type plain Kept
	k := &Kept{}
	in := struct {
		*plain
		Facts json.RawMessage `json:"facts"`
	}{plain: (*plain)(k)}
	err := json.Unmarshal(raw, &in)
	if err != nil || in.Facts == nil {
		return k, err
	}
	k.Facts, err = value.ReadObject(in.Facts)
	return k, err
}
