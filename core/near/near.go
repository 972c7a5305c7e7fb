// Package near finds the name that was probably meant.
package near

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// maxWord is the longest word that is looked at: nobody misspells a longer one.
const maxWord = 200

// Names gives up to three of the candidates that resemble the word, best first.
func Names(word string, candidates []string) []string {
	type scored struct {
		name string
		d    int
	}
	if len(word) > maxWord {
		return nil
	}
	w := strings.ToLower(word)
	var all []scored
	for _, c := range candidates {
		lc := strings.ToLower(c)
		d := 2 + len(w)/4 // too far
		if gap := utf8.RuneCountInString(w) - utf8.RuneCountInString(lc); max(gap, -gap) < d {
			d = Distance(w, lc)
		}
		if len(w) > 3 && (strings.HasPrefix(lc, w) || strings.HasPrefix(w, lc)) {
			d = min(d, 1)
		}
		if d > 1 && (sharesPart(w, lc) || (len(w) > 3 && (strings.Contains(lc, w) || strings.Contains(w, lc)))) {
			d = min(d, 2)
		}
		if d <= 1+len(w)/4 {
			all = append(all, scored{c, d})
		}
	}
	sort.Slice(all, func(i, j int) bool {
		if all[i].d != all[j].d {
			return all[i].d < all[j].d
		}
		return all[i].name < all[j].name
	})
	var out []string
	for i := 0; i < len(all) && i < 3; i++ {
		out = append(out, all[i].name)
	}
	return out
}

// Hint gives a sentence such as ` Did you mean "find_berth"?`, led by a space,
// or nothing where no candidate is near.
func Hint(word string, candidates []string) string {
	n := Names(word, candidates)
	if len(n) == 0 {
		return ""
	}
	return " Did you mean " + Or(n) + "?"
}

// List joins names, and says how many there are beyond the first twenty: nobody reads
// a list without an end.
func List(names []string) string {
	const few = 20
	s := strings.Join(names[:min(len(names), few)], ", ")
	if n := len(names) - few; n > 0 {
		s += fmt.Sprintf(" and %d more", n)
	}
	return s
}

// Or lists names in quotes: "a", "b" or "c".
func Or(names []string) string {
	q := make([]string, len(names))
	for i, n := range names {
		q[i] = `"` + n + `"`
	}
	if len(q) < 2 {
		return strings.Join(q, "")
	}
	return strings.Join(q[:len(q)-1], ", ") + " or " + q[len(q)-1]
}

// And lists names as they are: a, b and c.
func And(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// maxPairs is how many pairs are looked for: more is not a slip of the pen.
const maxPairs = 1000

// Pairs gives the pairs of names that differ by one letter, a thousand at the most, in
// the order of the names. Names that differ by a digit are numbered, and no pair.
func Pairs(names []string) [][2]string {
	// two names that differ by an edit are the same when a letter is taken out of one or of each
	holders := map[string][]int{}
	found := map[[2]int]bool{}
	for i, n := range names {
		if len(n) > maxWord {
			continue
		}
		for _, left := range shorter(n) {
			for _, j := range holders[left] {
				if j != i && len(found) < maxPairs && stem(names[j]) != stem(n) && Distance(names[j], n) == 1 {
					found[[2]int{j, i}] = true
				}
			}
			holders[left] = append(holders[left], i)
		}
		if len(found) == maxPairs {
			break
		}
	}
	order := slices.SortedFunc(maps.Keys(found), func(a, b [2]int) int { return slices.Compare(a[:], b[:]) })
	out := make([][2]string, len(order))
	for n, at := range order {
		out[n] = [2]string{names[at[0]], names[at[1]]}
	}
	return out
}

// shorter gives a name, and what is left of it when a letter is taken out.
func shorter(name string) []string {
	out := []string{name}
	for at := range name {
		_, n := utf8.DecodeRuneInString(name[at:])
		out = append(out, name[:at]+name[at+n:])
	}
	return out
}

// stem is a name without its digits.
func stem(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return -1
		}
		return r
	}, name)
}

// sharesPart says whether two names have a word of their snake case in common.
func sharesPart(a, b string) bool {
	for _, x := range strings.Split(a, "_") {
		if len(x) < 4 {
			continue
		}
		for _, y := range strings.Split(b, "_") {
			if x == y {
				return true
			}
		}
	}
	return false
}

// Distance counts the edits between two words; a swap of neighbours is one.
func Distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	two, one, cur := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range one {
		one[j] = j
	}
	for i := 1; i <= len(x); i++ {
		cur[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			cur[j] = min(cur[j-1]+1, one[j]+1, one[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				cur[j] = min(cur[j], two[j-2]+1)
			}
		}
		two, one, cur = one, cur, two
	}
	return one[len(y)]
}
