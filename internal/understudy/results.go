package understudy

import (
	"encoding/json"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"stonebaton.example/core/reading"
)

// optional fills what need not be said from a result of this request that has
// a field of just that name.
func (f *filler) optional(results []found) {
	for _, p := range f.c.params {
		if _, ok := f.out.args[p.name]; ok || p.required || p.kind == "boolean" || f.c.writes {
			continue
		}
		if p.kind != "number" && p.kind != "integer" || p.unit == "" {
			continue
		}
		now := slices.DeleteFunc(slices.Clone(results), func(r found) bool { return r.old || r.value == nil })
		if v, where, ok := fromResults(p, now); ok {
			f.out.args[p.name], f.out.from[p.name] = v, where
		}
	}
}

// fromResults finds a value in what tools brought: a field of the parameter's
// name, or in words.
func fromResults(p *param, results []found) (any, string, bool) {
	best := -1
	var value any
	where := ""
	for _, r := range results {
		if r.bad {
			continue
		}
		v, ok := field(r.value, p.name)
		if r.value == nil && r.old { // words are about what was asked with
			v, ok = r.args[p.name]
		}
		if !ok || !fits(p, v) {
			continue
		}
		n := 0 // the length of the vessel is in what speaks of vessels, not of berths
		for root := range subjects(r) {
			if p.about[root] || p.label[root] {
				n++
			}
		}
		if n > best {
			best, value, where = n, v, "the result of "+r.tool
		}
	}
	if best >= 0 {
		return value, where, true
	}
	for _, r := range results { // the same thing under a name of the same words
		if r.bad {
			continue
		}
		if v, ok := fieldLike(r.value, p); ok && fits(p, v) {
			return v, "the result of " + r.tool, true
		}
	}
	for _, r := range results {
		if r.bad || r.value != nil {
			continue
		}
		if p.pattern != nil || p.unit != "" && (p.kind == "number" || p.kind == "integer") {
			f := &filler{c: &card{params: []*param{p}}, used: map[string][][2]int{}, picks: map[*param]cand{}, open: map[*source]map[*param][]cand{}}
			f.out = filled{args: map[string]any{}, from: map[string]string{}, borrow: map[string]string{}, half: map[string]string{}}
			s := &source{text: r.words, mentions: reading.Mentions(r.words[:min(len(r.words), 4096)], time.Time{}), all: true}
			for _, c := range f.cands(p, s) {
				if c.score >= 4.9 {
					return c.value, "the words of " + r.tool, true
				}
			}
		}
	}
	return nil, "", false
}

// subjects gives the roots of what a result is about: its tool's name and its fields.
func subjects(r found) map[string]bool {
	out := rootSet(spaced(r.tool))
	v := r.value
	if rows, ok := v.([]any); ok && len(rows) > 0 {
		v = rows[0]
	}
	if m, ok := v.(map[string]any); ok {
		for k := range m {
			for root := range rootSet(spaced(k)) {
				out[root] = true
			}
		}
	}
	return out
}

func fits(p *param, v any) bool {
	switch x := v.(type) {
	case string:
		return (p.kind == "string" || p.kind == "") && (p.pattern == nil || p.pattern.MatchString(x))
	case float64:
		return p.kind == "number" || p.kind == "integer" && x == math.Trunc(x)
	case int64, json.Number: // one that a float64 does not hold
		return p.kind == "number" || p.kind == "integer"
	case bool:
		return p.kind == "boolean"
	case []any:
		return p.kind == "array"
	}
	return false
}

// field finds a key in a JSON value, in the first row of a list too.
func field(v any, name string) (any, bool) {
	switch x := v.(type) {
	case map[string]any:
		if e, ok := x[name]; ok {
			return e, true
		}
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if e, ok := field(x[k], name); ok {
				return e, true
			}
		}
	case []any:
		if len(x) > 0 {
			return field(x[0], name)
		}
	}
	return nil, false
}

func fieldLike(v any, p *param) (any, bool) {
	switch x := v.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if len(p.label) > 0 && sameSet(rootSet(spaced(k)), p.label) {
				return x[k], true
			}
		}
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if e, ok := fieldLike(x[k], p); ok {
				return e, true
			}
		}
	case []any:
		if len(x) > 0 {
			return fieldLike(x[0], p)
		}
	}
	return nil, false
}

func sameSet(a, b map[string]bool) bool {
	if len(a) != len(b) {
		return false
	}
	for k := range a {
		if !b[k] {
			return false
		}
	}
	return true
}

// fromFacts finds a value that the instructions state, as "length_m: 46".
func fromFacts(p *param, facts map[string]string) (any, bool) {
	text, ok := facts[strings.ToLower(spaced(p.name))]
	if !ok || text == "" {
		return nil, false
	}
	switch p.kind {
	case "number", "integer":
		v, err := strconv.ParseFloat(strings.Fields(text)[0], 64)
		return whole(p, v), err == nil
	case "string", "":
		return text, p.pattern == nil || p.pattern.MatchString(text)
	}
	return nil, false
}

var factRE = regexp.MustCompile(`(?m)^[\s*-]*([\p{L}_][\p{L}\p{N}_ ]{1,30}):\s*"?([^"\n{}]{1,80}?)"?\s*$`)

// factsOf reads the lines "name: value" of the instructions.
func factsOf(system string) map[string]string {
	out := map[string]string{}
	for _, m := range factRE.FindAllStringSubmatch(system, -1) {
		out[strings.ToLower(spaced(m[1]))] = strings.TrimRight(m[2], ".")
	}
	return out
}
