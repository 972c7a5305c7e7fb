package reading

import "strings"

var ordinals = map[string]int{"first": 0, "1st": 0, "second": 1, "2nd": 1, "third": 2, "3rd": 2, "fourth": 3, "4th": 3, "fifth": 4, "5th": 4, "last": -1}

// Points says whether a text means one of several things by its place: the second one.
func Points(text string) bool {
	_, ok := Ordinal(text, len(ordinals))
	return ok
}

// Counts says whether a word gives a place in a row, such as second.
func Counts(low string) bool { _, ok := ordinals[low]; return ok }

// Ordinal finds which of n things a text means: the second one, the last.
func Ordinal(text string, n int) (int, bool) {
	words := tokens(text)
	for i, w := range words {
		k, ok := ordinals[w.low]
		if !ok || i == 0 || words[i-1].low != "the" && words[i-1].low != "number" {
			continue
		}
		if i+1 < len(words) && words[i+1].kind == "word" && !strings.HasPrefix(words[i+1].low, "one") && !leads[words[i+1].low] && words[i+1].low != "please" && words[i+1].low != "and" {
			continue // the first class, the last year
		}
		if k < 0 {
			k = n - 1
		}
		if k < n {
			return k, true
		}
	}
	return 0, false
}
