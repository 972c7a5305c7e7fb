package store

import (
	"bytes"
	"encoding/json"
	"fmt"

	"stonebaton.example/core/ledger"
)

// large is the size from which a text within an event stands in a file of its own, where the
// event is too large for its row. So a file that is lost costs one text, not the run.
const large = 1 << 10

// place is what stands in an event in place of a text: the name of its file.
const place = "$file"

// split takes the large texts out of an event's data and hands them to put. It gives the data
// without them; nil where the data is better kept whole: where it is still too large then, or
// has something in it that looks like a place.
func split(data []byte, put func([]byte) (ledger.Hash, error)) ([]byte, error) {
	in := json.NewDecoder(bytes.NewReader(data))
	in.UseNumber()
	var v any
	if err := in.Decode(&v); err != nil {
		return nil, err
	}
	whole := false
	var walk func(any) (any, error)
	walk = func(v any) (any, error) {
		var err error
		switch x := v.(type) {
		case string:
			if len(x) < large {
				return v, nil
			}
			h, err := put([]byte(x))
			return map[string]any{place: h}, err
		case []any:
			for i := range x {
				if x[i], err = walk(x[i]); err != nil {
					return nil, err
				}
			}
		case map[string]any:
			if _, looks := x[place]; looks {
				whole = true
			}
			for k := range x {
				if x[k], err = walk(x[k]); err != nil {
					return nil, err
				}
			}
		}
		return v, nil
	}
	v, err := walk(v)
	if err != nil || whole {
		return nil, err
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil || out.Len() > inline {
		return nil, err
	}
	return bytes.TrimRight(out.Bytes(), "\n"), nil
}

// join puts the texts back that split took out. In place of one that is lost it says so.
func (s *Store) join(data []byte, run string, seq int64) ([]byte, error) {
	in := json.NewDecoder(bytes.NewReader(data))
	in.UseNumber()
	var v any
	if err := in.Decode(&v); err != nil {
		return nil, err
	}
	var walk func(any) any
	walk = func(v any) any {
		switch x := v.(type) {
		case []any:
			for i := range x {
				x[i] = walk(x[i])
			}
		case map[string]any:
			if h, ok := x[place].(string); ok && len(x) == 1 {
				body, err := s.blobs.get(ledger.Hash(h))
				if err != nil {
					s.Logger.Error("a text of a run is lost", "run", run, "event", seq, "error", err)
					return fmt.Sprintf("(this text is lost: %v)", err)
				}
				return string(body)
			}
			for k := range x {
				x[k] = walk(x[k])
			}
		}
		return v
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	err := enc.Encode(walk(v))
	return bytes.TrimRight(out.Bytes(), "\n"), err
}
