package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"regexp"

	"stonebaton.example/core/ledger"
)

// large is the size from which a text within an event stands in a file of its own, where the
// event is too large for its row. So a file that is lost costs one text, not the run.
const large = 1 << 10

// place is what stands in an event in place of a text: the name of its file.
const place = "$file"

// split takes the large texts out of an event's data and hands them to put. It gives the data
// without them; nil where the data is better kept whole: where it is still too large then, or
// has something in it that looks like a place. It looks at no more than it needs for that: most
// large events are many small texts.
func split(data []byte, put func([]byte) (ledger.Hash, error)) ([]byte, error) {
	texts, ok := largeTexts(data)
	if !ok {
		return nil, nil
	}
	var out []byte
	from := 0
	for _, t := range texts {
		var text string
		if err := json.Unmarshal(data[t.from:t.to], &text); err != nil {
			return nil, err
		}
		h, err := put([]byte(text))
		if err != nil {
			return nil, err
		}
		out = append(append(out, data[from:t.from]...), placed(h)...)
		from = t.to
	}
	return append(out, data[from:]...), nil
}

// placed is what stands in place of a text.
func placed(h ledger.Hash) string { return fmt.Sprintf(`{"%s":"%s"}`, place, h) }

// span is where a text stands in JSON, its quotes counted.
type span struct{ from, to int }

// largeTexts finds the texts of JSON that have files of their own. It says whether the rest
// fits a row, with a place for each of them, and nothing in it looks like a place.
func largeTexts(data []byte) (out []span, fits bool) {
	rest := 0 // bytes outside of them
	for i := 0; i < len(data) && rest <= inline; {
		if data[i] != '"' {
			i++
			rest++
			continue
		}
		to := i + 1
		for to < len(data) && data[to] != '"' {
			if data[to] == '\\' {
				to++
			}
			to++
		}
		to = min(to+1, len(data))
		name := to < len(data) && data[to] == ':' // what was encoded has no spaces
		switch {
		case name && looksLikePlace(data[i:to]):
			return nil, false
		case name || to-i-2 < large:
			rest += to - i
		default:
			out = append(out, span{i, to})
			rest += len(placed(ledger.HashOf(nil)))
		}
		i = to
	}
	return out, rest <= inline
}

// looksLikePlace says whether a name, with its quotes, is the one of a place, however it is
// written.
func looksLikePlace(quoted []byte) bool {
	if bytes.IndexByte(quoted, '\\') < 0 {
		return string(quoted) == `"`+place+`"`
	}
	var name string
	return json.Unmarshal(quoted, &name) == nil && name == place
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

// Size gives about how many bytes the events of a run have, with the values that stand in files.
func (s *Store) Size(ctx context.Context, run string) (int64, error) {
	var sum struct {
		Rows  int64
		Files int
	}
	if err := s.read.GetContext(ctx, &sum, `SELECT coalesce(sum(octet_length(data)), 0) AS rows, count(file) AS files FROM event WHERE run = ?`, run); err != nil || sum.Files == 0 {
		return sum.Rows, err
	}
	var large []eventRow
	if err := s.read.SelectContext(ctx, &large, `SELECT data, file FROM event WHERE run = ? AND file IS NOT NULL`, run); err != nil {
		return 0, err
	}
	for _, r := range large {
		names := []string{r.File.String}
		if r.File.String == "" {
			names = names[:0]
			for _, m := range placeOf.FindAllSubmatch(r.Data, -1) {
				names = append(names, string(m[1]))
			}
		}
		for _, name := range names {
			if info, err := os.Stat(s.blobs.path(ledger.Hash(name))); err == nil { // one that is lost is told when it is read
				sum.Rows += info.Size()
			}
		}
	}
	return sum.Rows, nil
}

var placeOf = regexp.MustCompile(`\{"` + regexp.QuoteMeta(place) + `":"([0-9a-f]{32})"\}`)
