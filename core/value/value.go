package value

import (
	"bytes"
	"encoding/json"
	"strconv"
)

// Exact is the largest whole number of which a float64 holds all that are smaller.
const Exact = 1<<53 - 1

// Read gives the value of a JSON text: nil, bool, float64, int64, string, []any or
// map[string]any. An error is that of encoding/json.
func Read(raw []byte) (any, error) {
	var v any
	if err := json.Unmarshal(raw, &v); err != nil || !long(raw) {
		return v, err
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var exact any
	err := dec.Decode(&exact)
	return Numbers(exact), err
}

// ReadObject is Read of a JSON object; null is nil.
func ReadObject(raw []byte) (map[string]any, error) {
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil || !long(raw) {
		return m, err
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

// Plain gives a value as Read would: whole numbers that a float64 holds are one.
func Plain(v any) any {
	switch x := v.(type) {
	case int64:
		return Whole(x)
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = Plain(x[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[k] = Plain(e)
		}
		return out
	}
	return v
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
	switch x := v.(type) {
	case json.Number:
		if n, err := strconv.ParseInt(string(x), 10, 64); err == nil {
			return Whole(n)
		}
		f, _ := x.Float64() // it was read as JSON
		return f
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = Numbers(x[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[k] = Numbers(e)
		}
		return out
	}
	return v
}
