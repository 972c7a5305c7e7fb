package understudy

import (
	"crypto/sha256"
	"sync"

	"stonebaton.example/core/project"
)

// memory keeps what was read of sets of tools: an agent's are the same at every
// turn. It may be used side by side.
type memory struct {
	results map[string]map[string]any

	mu    sync.Mutex
	cards map[[sha256.Size]byte][]*card
}

// mostSets is for how many sets of tools the cards are kept. Above it they are
// forgotten, and read again when they are needed.
const mostSets = 32

func newMemory(results map[string]map[string]any) *memory {
	return &memory{results: results, cards: map[[sha256.Size]byte][]*card{}}
}

// of gives the cards of some tools. They are not to be changed.
func (m *memory) of(contracts []project.Contract) []*card {
	h := sha256.New()
	for _, c := range contracts {
		for _, part := range []string{c.Name, "\x00", c.Summary, "\x00"} {
			h.Write([]byte(part))
		}
		h.Write(c.Parameters)
		h.Write([]byte{0})
	}
	key := [sha256.Size]byte(h.Sum(nil))
	m.mu.Lock()
	defer m.mu.Unlock()
	if cs, ok := m.cards[key]; ok {
		return cs
	}
	if len(m.cards) >= mostSets {
		clear(m.cards)
	}
	cs := cards(contracts, m.results)
	m.cards[key] = cs
	return cs
}
