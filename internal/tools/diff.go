package tools

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/pmezard/go-difflib/difflib"
)

// maxCompared bounds the lines that are compared from the first that differs on: comparing
// takes the square of them, and more is not shown anyway. maxDiff bounds what is shown.
const (
	maxCompared = 2000
	maxDiff     = 16 << 10
)

// Diff shows how a file has changed, as a unified difference; "" where it has not. nil is no
// file. Of what is not text it tells the sizes.
func Diff(name string, was, now []byte) string {
	from, to := name, name
	if was == nil {
		from = "/dev/null"
	}
	if now == nil {
		to = "/dev/null"
	}
	if !utf8.Valid(was) || !utf8.Valid(now) {
		return fmt.Sprintf("--- %s\n+++ %s\n(%d bytes, then %d)\n", from, to, len(was), len(now))
	}
	a, b := linesOf(was), linesOf(now)
	same := 0
	for same < len(a) && same < len(b) && a[same] == b[same] {
		same++
	}
	a, b = a[:min(len(a), same+maxCompared)], b[:min(len(b), same+maxCompared)]
	d, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: a, B: b, FromFile: from, ToFile: to, Context: 2})
	if err != nil {
		return "" // a difference is a help, not a need
	}
	if was == nil {
		d = strings.Replace(d, "@@ -1 +1", "@@ -0,0 +1", 1)
	}
	return Clip(d, maxDiff)
}

// linesOf splits a text for a difference; a last line with no end gets one.
func linesOf(text []byte) []string {
	list := strings.SplitAfter(string(text), "\n")
	last := len(list) - 1
	if list[last] == "" {
		return list[:last]
	}
	list[last] += "\n"
	return list
}
