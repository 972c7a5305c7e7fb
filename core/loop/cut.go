package loop

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// HandlePrefix begins the name under which a whole result can be given to a
// later call.
const HandlePrefix = "result:"

// HandleOf names the result of a step: the run's number in its session, then
// the step.
func HandleOf(run string, step ledger.StepID) string {
	return HandlePrefix + run[strings.LastIndexByte(run, '-')+1:] + "." + string(step)
}

// SplitHandle gives the run and step that a handle means in the session of a run.
func SplitHandle(current, handle string) (run string, step ledger.StepID, ok bool) {
	n, at, ok := strings.Cut(strings.TrimPrefix(handle, HandlePrefix), ".")
	if !ok || !strings.HasPrefix(handle, HandlePrefix) {
		return "", "", false
	}
	return current[:strings.LastIndexByte(current, '-')+1] + n, ledger.StepID(at), true
}

// Most bounds what a model reads of a result.
type Most struct{ Rows, Tokens int }

// MostOf gives the bounds of a tool.
func MostOf(t *project.Tool) Most { return Most{t.Rows, t.Tokens} }

// Shorten puts a result into what a model may read of it: the first rows of a
// list that is longer than the tool's bound, as many as fit. Whole says that
// nothing was left out. What is left out is said, with the handle that names
// the whole, where there is one.
func Shorten(most Most, value any, handle string) (words string, whole bool) {
	key, list := rowsOf(value)
	words = expr.Show(value)
	if len(list) <= most.Rows && prompt.Tokens(words) <= most.Tokens {
		return words, true
	}
	rest := "the rest is kept, but not shown"
	if handle != "" {
		rest = fmt.Sprintf("%q names the whole: give it as an argument to have a tool read all of it", handle)
	}
	if list == nil {
		n := most.Tokens * 4
		return fmt.Sprintf("%s\n… the first %d of %d bytes; %s.", strings.ToValidUTF8(words[:n], ""), n, len(words), rest), false
	}
	n := min(len(list), most.Rows)
	head := func() string {
		var v any = list[:n]
		if key != "" {
			m := map[string]any{}
			for k, x := range value.(map[string]any) {
				m[k] = x
			}
			m[key] = v
			v = m
		}
		return expr.Show(v)
	}
	words = head()
	for n > 0 && prompt.Tokens(words) > most.Tokens {
		n = min(n-1, n*most.Tokens/prompt.Tokens(words))
		words = head()
	}
	if prompt.Tokens(words) > most.Tokens { // not even what stands beside the rows fits
		words = strings.ToValidUTF8(words[:most.Tokens*4], "")
	}
	return fmt.Sprintf("%s\n… first %d of %d rows; %s.", words, n, len(list), rest), false
}

// rowsOf finds the list in a result: the result itself, or the longest list
// among its fields, whose name is key.
func rowsOf(value any) (key string, list []any) {
	switch x := value.(type) {
	case []any:
		return "", x
	case map[string]any:
		names := make([]string, 0, len(x))
		for k := range x {
			names = append(names, k)
		}
		slices.Sort(names)
		for _, k := range names {
			if l, ok := x[k].([]any); ok && len(l) > len(list) {
				key, list = k, l
			}
		}
	}
	return key, list
}

// HandlesIn lists the places in arguments where a handle that a thread knows stands, as
// paths such as "/rows".
func HandlesIn(t *run.Thread, args any) map[string]string {
	if !t.HasHandles() {
		return nil
	}
	found := map[string]string{}
	var walk func(v any, path string)
	walk = func(v any, path string) {
		switch x := v.(type) {
		case string:
			if t.Knows(x) {
				found[path] = x
			}
		case []any:
			for i, e := range x {
				walk(e, fmt.Sprintf("%s/%d", path, i))
			}
		case map[string]any:
			for k, e := range x {
				walk(e, path+"/"+k)
			}
		}
	}
	walk(args, "")
	return found
}

// PutHandles puts the results that handles name in their places. Get finds one.
func PutHandles(args any, get func(handle string) (json.RawMessage, error)) (any, error) {
	var walk func(v any) (any, error)
	walk = func(v any) (any, error) {
		switch x := v.(type) {
		case string:
			if !strings.HasPrefix(x, HandlePrefix) {
				return v, nil
			}
			raw, err := get(x)
			if raw == nil || err != nil {
				return v, err
			}
			return value.Read(raw)
		case []any:
			out := make([]any, len(x))
			for i := range x {
				e, err := walk(x[i])
				if err != nil {
					return nil, err
				}
				out[i] = e
			}
			return out, nil
		case map[string]any:
			out := make(map[string]any, len(x))
			for k := range x {
				e, err := walk(x[k])
				if err != nil {
					return nil, err
				}
				out[k] = e
			}
			return out, nil
		}
		return v, nil
	}
	return walk(args)
}
