// Package secret finds the values that files name as ${secret:NAME}, hands them
// to what needs them, and blanks them wherever else they turn up.
package secret

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"sync"

	"stonebaton.example/core/value"
)

var ref = regexp.MustCompile(`\$\{secret:([A-Za-z_][A-Za-z0-9_]*)\}`)

// inScript is how a script names a secret.
var inScript = regexp.MustCompile(`\bsecret\(\s*["']([A-Za-z_][A-Za-z0-9_]*)["']\s*\)`)

// Store holds the secrets that were asked for. It is safe for use by many.
type Store struct {
	find func(string) (string, bool)

	mu    sync.RWMutex
	names map[string]string // value by name
	known []*known          // the longest values first, for some may hold others
}

// New gives a store that finds values through find.
func New(find func(string) (string, bool)) *Store {
	return &Store{find: find, names: map[string]string{}}
}

// Names lists the secrets that a text names.
func Names(text string) []string {
	var out []string
	for _, m := range ref.FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	for _, m := range inScript.FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	return out
}

// Learn looks up the secrets that a text names, so that they are blanked from
// then on.
func (s *Store) Learn(text string) {
	for _, n := range Names(text) {
		_, _ = s.value(n)
	}
}

func (s *Store) value(name string) (string, bool) {
	v, ok := s.find(name)
	if !ok || v == "" {
		return "", false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.names[name] != v {
		s.names[name] = v
		s.add(name, v)
	}
	return v, true
}

// Keep blanks a value from now on that no file names, such as a token that was
// fetched. What stands in its place says what it was.
func (s *Store) Keep(name, value string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.names["kept "+value] == "" {
		s.names["kept "+value] = value
		s.add(name, value)
	}
}

// add learns every form in which a value may turn up.
func (s *Store) add(name, v string) {
	if len(v) < shortest {
		return
	}
	s.known = append(s.known, newKnown(name, v))
	sort.SliceStable(s.known, func(i, j int) bool { return len(s.known[i].value) > len(s.known[j].value) })
}

// MissingError says which secret has no value.
type MissingError struct{ Name string }

func (e *MissingError) Error() string {
	return fmt.Sprintf("the secret %s has no value; put %s=… into the project's .env or the environment", e.Name, e.Name)
}

// Expand puts the values in. What comes back must go nowhere but to the peer
// it is meant for.
func (s *Store) Expand(text string) (string, error) {
	var err error
	out := ref.ReplaceAllStringFunc(text, func(m string) string {
		name := ref.FindStringSubmatch(m)[1]
		v, ok := s.value(name)
		if !ok && err == nil {
			err = &MissingError{name}
		}
		return v
	})
	return out, err
}

// Text blanks every known value, in any of its forms: as it is, escaped for JSON or a URL, in
// hexadecimal, and in base64 wherever it stands there. Of one that is cut off at the end of the
// text, or where it was cut for the records, the half that is there is blanked.
func (s *Store) Text(t string) string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, k := range s.known {
		t = k.ends(k.blank(t))
	}
	return t
}

// whole blanks every known value that is whole: more of the text is to come.
func (s *Store) whole(t string) string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, k := range s.known {
		t = k.blank(t)
	}
	return t
}

// Value blanks every text within a JSON value, and every number that is a known value.
func (s *Store) Value(v any) any {
	if s.Empty() {
		return v
	}
	return s.numbers(value.Texts(v, s.Text))
}

// Empty says whether no value is known, so that nothing has to be blanked.
func (s *Store) Empty() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.known) == 0
}

// numbers blanks the numbers of a value that is not shared with anybody.
func (s *Store) numbers(v any) any {
	n := new(big.Float).SetPrec(200)
	switch x := v.(type) {
	case []any:
		for i := range x {
			x[i] = s.numbers(x[i])
		}
		return x
	case map[string]any:
		for k := range x {
			x[k] = s.numbers(x[k])
		}
		return x
	case float64:
		n.SetFloat64(x)
		if t, _, err := big.ParseFloat(strconv.FormatFloat(x, 'g', -1, 64), 10, 200, big.ToNearestEven); err == nil {
			n = t // as it is written
		}
	case int64:
		n.SetInt64(x)
	case int:
		n.SetInt64(int64(x))
	case json.Number:
		if _, ok := n.SetString(x.String()); !ok {
			return v
		}
	default:
		return v
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, k := range s.known {
		if k.is(n) {
			return k.mask
		}
	}
	return v
}

// Raw blanks every text within JSON; numbers stay, for what reads it again may want them. It
// says whether anything was.
func (s *Store) Raw(raw []byte) ([]byte, bool) {
	s.mu.RLock()
	text := string(raw)
	suspect := slices.ContainsFunc(s.known, func(k *known) bool { return k.may(text) })
	s.mu.RUnlock()
	if !suspect {
		return raw, false
	}
	in := json.NewDecoder(bytes.NewReader(raw))
	in.UseNumber()
	var v any
	if in.Decode(&v) != nil {
		return raw, false // it was written by us
	}
	changed := false
	v = value.Texts(v, func(t string) string {
		out := s.Text(t)
		changed = changed || out != t
		return out
	})
	if !changed {
		return raw, false
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	if enc.Encode(v) != nil {
		return raw, false // it was just read
	}
	return bytes.TrimRight(out.Bytes(), "\n"), true
}

// Stream blanks a text that comes in pieces: write takes a piece and passes on
// what cannot be part of a secret of which more is to come; flush passes on the rest.
func (s *Store) Stream(out func(string)) (write func(string), flush func()) {
	var held string
	pass := func(t string) {
		if t != "" {
			out(t)
		}
	}
	write = func(piece string) {
		held += piece
		n := s.sure(held)
		pass(s.whole(held[:n]))
		held = held[n:]
	}
	return write, func() { pass(s.Text(held)); held = "" }
}

// sure gives the length of the beginning of a text that is settled, whatever follows: behind it
// a secret may have begun, or one is whole that may be part of a longer one.
func (s *Store) sure(t string) int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	at := len(t)
	for _, k := range s.known {
		at = min(at, k.begins(t))
	}
	for before := -1; before != at; {
		before = at
		for _, k := range s.known {
			at = k.spanned(t, at)
		}
	}
	return at
}
