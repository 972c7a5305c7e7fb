package rows

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"stonebaton.example/core/view"
)

// Moment is a time as its column has it: microseconds since 1970, UTC.
type Moment struct{ time.Time }

// Value writes the moment.
func (m Moment) Value() (driver.Value, error) { return m.UnixMicro(), nil }

// Scan reads a moment.
func (m *Moment) Scan(v any) error {
	n, ok := v.(int64)
	if !ok {
		return fmt.Errorf("a moment is a whole number, not %T", v)
	}
	m.Time = time.UnixMicro(n).UTC()
	return nil
}

// At gives an optional time for its column.
func At(t *time.Time) *Moment {
	if t == nil {
		return nil
	}
	return &Moment{*t}
}

// Ptr gives an optional time of a column.
func (m *Moment) Ptr() *time.Time {
	if m == nil {
		return nil
	}
	return &m.Time
}

// Names is a list of names as its column has it: each with a blank before and
// after, so that one can be searched for as a whole.
type Names []string

// Value writes the names.
func (n Names) Value() (driver.Value, error) { return " " + strings.Join(n, " ") + " ", nil }

// Scan reads names.
func (n *Names) Scan(v any) error {
	s, ok := v.(string)
	if !ok {
		return fmt.Errorf("a list of names is a text, not %T", v)
	}
	*n = strings.Fields(s)
	return nil
}

// List is a list of texts as its column has it: its JSON.
type List []string

// Value writes the list.
func (l List) Value() (driver.Value, error) { return JSONOf[[]string]{l}.Value() }

// Scan reads a list.
func (l *List) Scan(v any) error {
	var j JSONOf[[]string]
	err := j.Scan(v)
	*l = j.V
	return err
}

// Votes are votes as their column has them: their JSON.
type Votes []view.Vote

// Value writes the votes.
func (v Votes) Value() (driver.Value, error) { return JSONOf[[]view.Vote]{v}.Value() }

// Scan reads votes.
func (v *Votes) Scan(x any) error {
	var j JSONOf[[]view.Vote]
	err := j.Scan(x)
	*v = j.V
	return err
}

// JSON is a value of any shape, as its column has it: a text, or NULL.
type JSON json.RawMessage

// Value writes the text.
func (j JSON) Value() (driver.Value, error) {
	if len(j) == 0 {
		return nil, nil
	}
	return string(j), nil
}

// Scan reads the text.
func (j *JSON) Scan(v any) error {
	switch s := v.(type) {
	case nil:
		*j = nil
	case string:
		*j = JSON(s)
	case []byte:
		*j = append(JSON(nil), s...)
	default:
		return fmt.Errorf("JSON is a text, not %T", v)
	}
	return nil
}

// MarshalJSON writes the value as it is.
func (j JSON) MarshalJSON() ([]byte, error) { return json.RawMessage(j).MarshalJSON() }

// UnmarshalJSON keeps the value as it is.
func (j *JSON) UnmarshalJSON(raw []byte) error { return (*json.RawMessage)(j).UnmarshalJSON(raw) }

// JSONOf is a value of a type as a column has it: its JSON.
type JSONOf[T any] struct{ V T }

func (j JSONOf[T]) Value() (driver.Value, error) {
	raw, err := json.Marshal(j.V)
	return string(raw), err
}

func (j *JSONOf[T]) Scan(v any) error {
	s, ok := v.(string)
	if !ok {
		return fmt.Errorf("JSON is a text, not %T", v)
	}
	return json.Unmarshal([]byte(s), &j.V)
}

func (j JSONOf[T]) MarshalJSON() ([]byte, error) { return json.Marshal(j.V) }

func (j *JSONOf[T]) UnmarshalJSON(raw []byte) error { return json.Unmarshal(raw, &j.V) }
