package schema

import (
	"math"
	"regexp/syntax"
	"strings"
	"unicode/utf8"
)

// Made makes a value that fits the schema, where one is found in a few tries; else the
// nearest, and says that it does not fit.
func (s *Schema) Made() (v any, fits bool) {
	if s == nil {
		return map[string]any{}, true
	}
	var first any
	for try := range 32 {
		m := maker{root: s.doc, least: try%2 == 1, branch: try / 2 % 4, more: try / 8, null: try/8%2 == 1}
		v := m.make(s.doc, 0)
		if v == nil && try == 0 {
			v = map[string]any{}
		}
		if len(s.Check(v)) == 0 {
			return v, true
		}
		if try == 0 {
			first = v
		}
	}
	return first, false
}

// maker makes examples.
type maker struct {
	root   map[string]any
	least  bool // what is required alone
	branch int  // which of alternatives is taken
	more   int  // how much longer lists and texts are than they have to be
	null   bool // what is required and nothing is made of is null
}

// fill makes a text of a pattern (ECMA-262, as far as RE2 has it), the shortest but for more
// repetitions; "" where it cannot be read.
func fill(pattern string, more int) string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return ""
	}
	var b strings.Builder
	write(&b, re, more)
	return b.String()
}

// letter gives a plain letter of a class.
func letter(ranges []rune) rune {
	best, seen := rune(-1), false
	for i := 0; i+1 < len(ranges); i += 2 {
		for _, want := range []rune{'a', 'A', '1', '-', '_'} {
			if ranges[i] <= want && want <= ranges[i+1] {
				return want
			}
		}
		if r := ranges[i]; !seen || best < ' ' || best == utf8.RuneError {
			best, seen = max(r, min(ranges[i+1], ' ')), true
		}
	}
	return best
}

func write(b *strings.Builder, re *syntax.Regexp, more int) {
	times := func(least, most int) {
		n := least + more
		if most >= 0 {
			n = min(n, most)
		}
		for range min(n, 200) {
			write(b, re.Sub[0], more)
		}
	}
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		if len(re.Rune) > 0 {
			b.WriteRune(letter(re.Rune))
		}
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('a')
	case syntax.OpCapture:
		write(b, re.Sub[0], more)
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			write(b, sub, more)
		}
	case syntax.OpAlternate:
		write(b, re.Sub[0], more)
	case syntax.OpStar:
		times(0, -1)
	case syntax.OpPlus:
		times(1, -1)
	case syntax.OpQuest:
		times(0, 1)
	case syntax.OpRepeat:
		times(re.Min, re.Max)
	case syntax.OpEmptyMatch, syntax.OpBeginLine, syntax.OpEndLine, syntax.OpBeginText, syntax.OpEndText, syntax.OpWordBoundary, syntax.OpNoWordBoundary, syntax.OpNoMatch:
	}
}

// stretched gives a text that fits the lengths and the pattern of a schema, made of one that
// may not.
func (m maker) stretched(d map[string]any, text string) string {
	least, most := bound(d, "minLength"), bound(d, "maxLength")
	if p, ok := d["pattern"].(string); ok {
		re, err := pattern(p)
		if err != nil || re.MatchString(text) && fitting(text, least, most) {
			return text
		}
		for more := m.more; more < 60; more++ {
			if t := fill(p, more); t != "" && re.MatchString(t) && fitting(t, least, most) {
				return t
			}
		}
		if t := fill(p, m.more); t != "" {
			return t
		}
		return text
	}
	if n := utf8.RuneCountInString(text); least > n {
		text += strings.Repeat("a", min(least-n, 10_000))
	}
	if r := []rune(text); most >= 0 && len(r) > most {
		text = string(r[:most])
	}
	return text
}

func fitting(text string, least, most int) bool {
	n := utf8.RuneCountInString(text)
	return n >= least && (most < 0 || n <= most)
}

// bound gives a whole number of a schema; -1 where there is none.
func bound(d map[string]any, key string) int {
	if f, ok := d[key].(float64); ok && f >= 0 && f < math.MaxInt32 {
		return int(f)
	}
	return -1
}
