package value

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Exact is the largest whole number of which a float64 holds all that are smaller.
const Exact = 1<<53 - 1

// Read gives the value of a JSON text: nil, bool, float64, int64, string, []any or
// map[string]any; and json.Number for a whole number that not even an int64 holds. An error is a
// *SyntaxError.
func Read(raw []byte) (any, error) {
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		return nil, Explain(raw, err)
	}
	if !long(raw) {
		return v, nil
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var exact any
	err := dec.Decode(&exact)
	return Numbers(exact), err
}

// SyntaxError says where a text stops being JSON, and why. Lines and columns count
// from 1, columns in bytes.
type SyntaxError struct {
	Line, Col int
	Say       string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Col, e.Say)
}

// Explain puts an error of encoding/json about a text into a sentence. Other errors
// stay as they are.
func Explain(raw []byte, err error) error {
	var syn *json.SyntaxError
	var typ *json.UnmarshalTypeError
	at, say := int64(len(raw)), "it ends too early"
	switch {
	case err == nil:
		return nil
	case len(bytes.TrimSpace(raw)) == 0:
		say = "it is empty"
	case errors.Is(err, io.ErrUnexpectedEOF):
	case errors.As(err, &typ) && strings.HasPrefix(typ.Value, "number "):
		n := strings.TrimPrefix(typ.Value, "number ")
		at = max(0, int64(bytes.LastIndex(raw[:min(typ.Offset, int64(len(raw)))], []byte(n))))
		if len(n) > 40 {
			n = fmt.Sprintf("%s… (%d letters)", n[:20], len(n))
		}
		say = fmt.Sprintf("the number %s is beyond what is reckoned with, which is 1.8e308", n)
	case !errors.As(err, &syn):
		return err
	case syn.Offset >= 1 && syn.Offset <= int64(len(raw)) && syn.Error() != "unexpected end of JSON input":
		at = syn.Offset - 1
		r, _ := utf8.DecodeRune(raw[at:])
		say = fmt.Sprintf("%q does not belong here", r)
		switch {
		case r == '\'':
			say += "; texts are written in double quotes"
		case r == '}' || r == ']':
			say += "; is there a comma before it?"
		case r == '\n' || r == '\t':
			say = "a line break or tab in a text is written \\n or \\t"
		}
	}
	head := raw[:min(at, int64(len(raw)))]
	return &SyntaxError{Line: 1 + bytes.Count(head, []byte("\n")), Col: int(at) - bytes.LastIndexByte(head, '\n'), Say: say}
}

// ReadObject is Read of a JSON object; null is nil.
func ReadObject(raw []byte) (map[string]any, error) {
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil {
		if _, bad := Read(raw); bad == nil {
			return nil, errors.New("it is not an object: write {…}")
		}
		return nil, Explain(raw, err)
	}
	if !long(raw) {
		return m, nil
	}
	v, err := Read(raw)
	m, _ = v.(map[string]any)
	return m, err
}

// Object is a JSON object that is read by ReadObject.
type Object map[string]any

// UnmarshalJSON reads the object.
func (o *Object) UnmarshalJSON(raw []byte) error {
	m, err := ReadObject(raw)
	*o = m
	return err
}

// Each gives a value with everything in it that is neither a list nor an object passed
// through change; the value itself stays as it is.
func Each(v any, change func(any) any) any {
	switch x := v.(type) {
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = Each(x[i], change)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[k] = Each(e, change)
		}
		return out
	}
	return change(v)
}

// Texts gives a value with every text in it passed through change, the names of fields
// too; the value itself stays as it is.
func Texts(v any, change func(string) string) any {
	switch x := v.(type) {
	case string:
		return change(x)
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = Texts(e, change)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[change(k)] = Texts(e, change)
		}
		return out
	}
	return v
}

// Article puts a or an before the name of a kind of value.
func Article(kind string) string {
	if kind == "" || kind == "null" {
		return kind
	}
	if strings.ContainsRune("aeio", rune(kind[0])) {
		return "an " + kind
	}
	return "a " + kind
}

// Plain gives a value as Read would: whole numbers that a float64 holds are one.
func Plain(v any) any {
	return Each(v, func(v any) any {
		if n, ok := v.(int64); ok {
			return Whole(n)
		}
		return v
	})
}

// Whole gives a whole number as Read would.
func Whole(n int64) any {
	if n > Exact || n < -Exact {
		return n
	}
	return float64(n)
}

// long says whether there is a row of so many digits that a number may be one
// which a float64 does not hold.
func long(raw []byte) bool {
	n := 0
	for _, c := range raw {
		if c < '0' || c > '9' {
			n = 0
		} else if n++; n >= 16 {
			return true
		}
	}
	return false
}

// Numbers gives a value that was decoded with json.Number as Read would. The value
// given is left as it is.
func Numbers(v any) any {
	return Each(v, func(v any) any {
		number, ok := v.(json.Number)
		if !ok {
			return v
		}
		if n, err := strconv.ParseInt(string(number), 10, 64); err == nil {
			return Whole(n)
		}
		if !strings.ContainsAny(string(number), ".eE") {
			return number // which nothing else holds
		}
		f, _ := number.Float64() // it was read as JSON
		return f
	})
}
