package understudy

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// slip makes some calls go wrong on purpose, as models do: an argument left
// out, a text where a number is due, a name that is misspelt. Which calls, and
// how, follows from the seed and the request alone. It gives what was done.
func (p Part) slip(r deed.Request, calls []ledger.Ask) string {
	said := ""
	for i := range calls {
		h := fnv.New64a()
		fmt.Fprintf(h, "%d %d %d %s %s", p.Seed, len(r.Messages), i, calls[i].Tool, r.Messages[len(r.Messages)-1].Text)
		n := h.Sum64()
		if float64(n%10000) >= p.Slips*10000 {
			continue
		}
		said += fmt.Sprintf("A slip on purpose (slips: %g, seed: %d): %s.\n", p.Slips, p.Seed, wrong(&calls[i], int(n/10000)))
	}
	return said
}

// wrong spoils a call in the n-th of the ways that it can go wrong.
func wrong(c *ledger.Ask, n int) string {
	var args map[string]any
	_ = json.Unmarshal([]byte(c.Args), &args) // it was made from a map
	keys := slices.DeleteFunc(slices.Sorted(maps.Keys(args)), func(k string) bool { return k == project.Because })
	if n < 0 {
		n = -n
	}
	if len(keys) == 0 || n%3 == 2 {
		old := c.Tool
		c.Tool = old[:len(old)-1]
		return fmt.Sprintf("%s is misspelt as %s", old, c.Tool)
	}
	k := keys[n/3%len(keys)]
	said := k + " is left out"
	delete(args, k)
	if n%3 == 1 {
		said = k + " is a list where it should not be"
		args[k] = []any{[]any{}}
	}
	raw, err := json.Marshal(args)
	if err != nil {
		raw = []byte("{}")
	}
	c.Args = string(raw)
	return said
}
