// Package secret finds the values that files name as ${secret:NAME}, hands them
// to what needs them, and blanks them wherever else they turn up.
package secret

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"sort"
	"strings"
	"sync"

	"stonebaton.example/core/value"
)

var ref = regexp.MustCompile(`\$\{secret:([A-Za-z_][A-Za-z0-9_]*)\}`)

// inScript is how a script names a secret.
var inScript = regexp.MustCompile(`\bsecret\(\s*["']([A-Za-z_][A-Za-z0-9_]*)["']\s*\)`)

// shortest is the length below which a value is not blanked: it would blank
// ordinary words.
const shortest = 5

// Store holds the secrets that were asked for. It is safe for use by many.
type Store struct {
	find func(string) (string, bool)

	mu     sync.RWMutex
	known  map[string]string
	forms  []form
	longer int // the length of the longest form
}

type form struct{ text, mask string }

// New gives a store that finds values through find.
func New(find func(string) (string, bool)) *Store {
	return &Store{find: find, known: map[string]string{}}
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
	if s.known[name] != v {
		s.known[name] = v
		s.add(name, v)
	}
	return v, true
}

// Keep blanks a value from now on that no file names, such as a token that was
// fetched. What stands in its place says what it was.
func (s *Store) Keep(name, value string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known["kept "+value] == "" {
		s.known["kept "+value] = value
		s.add(name, value)
	}
}

// add learns every form in which a value may turn up.
func (s *Store) add(name, v string) {
	if len(v) < shortest {
		return
	}
	quoted, _ := json.Marshal(v) // a string can always be written
	mask := "‹secret " + name + "›"
	for _, t := range []string{v, strings.Trim(string(quoted), `"`), url.QueryEscape(v), url.PathEscape(v),
		base64.StdEncoding.EncodeToString([]byte(v)), base64.RawURLEncoding.EncodeToString([]byte(v))} {
		s.forms = append(s.forms, form{t, mask})
		s.longer = max(s.longer, len(t))
	}
	sort.SliceStable(s.forms, func(i, j int) bool { return len(s.forms[i].text) > len(s.forms[j].text) })
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

// Text blanks every known value, in any of its forms.
func (s *Store) Text(t string) string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, f := range s.forms {
		if strings.Contains(t, f.text) {
			t = strings.ReplaceAll(t, f.text, f.mask)
		}
	}
	return t
}

// Value blanks every text within a JSON value.
func (s *Store) Value(v any) any {
	s.mu.RLock()
	none := len(s.forms) == 0
	s.mu.RUnlock()
	if none {
		return v
	}
	return value.Texts(v, s.Text)
}

// Stream blanks a text that comes in pieces: write takes a piece and passes on
// what cannot be the beginning of a secret; flush passes on the rest.
func (s *Store) Stream(out func(string)) (write func(string), flush func()) {
	var held string
	pass := func(t string) {
		if t != "" {
			out(t)
		}
	}
	write = func(piece string) {
		held = s.Text(held + piece)
		n := s.suspect(held)
		pass(held[:len(held)-n])
		held = held[len(held)-n:]
	}
	return write, func() { pass(s.Text(held)); held = "" }
}

// suspect gives the length of the longest end of a text that begins a secret.
func (s *Store) suspect(t string) int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for n := min(len(t), s.longer-1); n > 0; n-- {
		for _, f := range s.forms {
			if len(f.text) > n && strings.HasPrefix(f.text, t[len(t)-n:]) {
				return n
			}
		}
	}
	return 0
}
