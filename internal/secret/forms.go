package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/big"
	"net/url"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"
)

// shortest is the length below which a value is not blanked: it would blank
// ordinary words.
const shortest = 5

// known is a value, and every form in which it may turn up.
type known struct {
	value, mask string
	forms       []string
	letters     [][]string // the ways to write each letter
	longest     int        // of all forms, escaped ones too
	marks       string     // without one of these nothing is escaped
	first       [256]bool  // the bytes that a form begins with
	probe       string     // the longest run of letters and digits in it, which most forms leave as it is
	number      *big.Float // nil where it is none
}

func newKnown(name, v string) *known {
	k := &known{value: v, mask: "‹secret " + name + "›"}
	quoted, _ := json.Marshal(v) // a string can always be written
	var plain strings.Builder
	enc := json.NewEncoder(&plain)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(v) // likewise
	inside := func(quoted string) string {
		return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(quoted), `"`), `"`)
	}
	have := map[string]bool{}
	for _, f := range append([]string{v, inside(string(quoted)), inside(plain.String()), url.QueryEscape(v), url.PathEscape(v), hex.EncodeToString([]byte(v)), strings.ToUpper(hex.EncodeToString([]byte(v)))}, within64(v)...) {
		if !have[f] {
			have[f] = true
			k.forms = append(k.forms, f)
		}
	}
	slices.SortStableFunc(k.forms, func(a, b string) int { return len(b) - len(a) })
	for _, run := range strings.FieldsFunc(v, func(r rune) bool { return r > unicode.MaxASCII || !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if len(run) > len(k.probe) {
			k.probe = run
		}
	}
	k.longest, k.marks = len(k.forms[0]), `\%`
	if strings.Contains(v, " ") {
		k.marks += "+"
	}
	most := 0
	for _, r := range v {
		ways := written(r)
		k.letters = append(k.letters, ways)
		most += len(slices.MaxFunc(ways, func(a, b string) int { return len(a) - len(b) }))
	}
	k.longest = max(k.longest, most)
	for _, f := range append(slices.Clone(k.letters[0]), k.forms...) {
		k.first[f[0]] = true
	}
	if n, _, err := big.ParseFloat(v, 10, 200, big.ToNearestEven); err == nil && !strings.ContainsAny(v, "xXpP_") {
		k.number = n
	}
	return k
}

// within64 gives what of a value stands in the base64 of any text that holds it, as a user and
// a password do: by where in a group of three bytes it begins, in both alphabets (RFC 4648).
func within64(v string) []string {
	out := []string{base64.StdEncoding.EncodeToString([]byte(v)), base64.RawURLEncoding.EncodeToString([]byte(v))} // alone
	for offset := range 3 {
		for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			text := e.EncodeToString([]byte(strings.Repeat("\x00", offset) + v))
			whole := text[(offset*8+5)/6 : (offset+len(v))*8/6] // the rest hangs on what stands beside it
			if len(whole) > shortest {
				out = append(out, whole)
			}
		}
	}
	return out
}

// written gives the ways to write a letter: as it is, and escaped in JSON or in a URL, whose
// hexadecimal digits may be capitals.
func written(r rune) []string {
	unit, octets := "", ""
	for _, u := range utf16.Encode([]rune{r}) {
		unit += fmt.Sprintf(`\u%04x`, u)
	}
	for _, c := range []byte(string(r)) {
		octets += fmt.Sprintf(`%%%02x`, c)
	}
	ways := []string{string(r), unit, octets}
	switch r {
	case '/', '"', '\\':
		ways = append(ways, `\`+string(r))
	case '\n':
		ways = append(ways, `\n`)
	case '\t':
		ways = append(ways, `\t`)
	case '\r':
		ways = append(ways, `\r`)
	case ' ':
		ways = append(ways, `+`)
	}
	return ways
}

// blank takes the value out of a text, where it is whole.
func (k *known) blank(t string) string {
	for _, f := range k.forms {
		if strings.Contains(t, f) {
			t = strings.ReplaceAll(t, f, k.mask)
		}
	}
	if strings.ContainsAny(t, k.marks) {
		t = k.unescaped(t)
	}
	return t
}

// unescaped takes the value out of a text where it is escaped, or part of it is.
func (k *known) unescaped(t string) string {
	var out strings.Builder
	from := 0
	for i := 0; i < len(t); {
		if n := k.at(t[i:]); n > 0 {
			out.WriteString(t[from:i] + k.mask)
			i += n
			from = i
		} else {
			i++
		}
	}
	if from == 0 {
		return t
	}
	return out.String() + t[from:]
}

// at gives the length of the value at the beginning of a text, written in any way; 0 where it is
// not there.
func (k *known) at(t string) int {
	if t == "" || !k.first[t[0]] {
		return 0
	}
	return spelled(k.letters, t)
}

// spelled gives how much of a text is some letters, each written in one of its ways.
func spelled(letters [][]string, t string) int {
	for i, w := range letters[0] {
		if len(w) > len(t) || t[:len(w)] != w && (i == 0 || !strings.EqualFold(t[:len(w)], w)) {
			continue
		}
		if len(letters) == 1 {
			return len(w)
		}
		if n := spelled(letters[1:], t[len(w):]); n > 0 {
			return len(w) + n
		}
	}
	return 0
}

// ends takes out the beginning of the value at the end of a text, and where it was cut.
func (k *known) ends(t string) string {
	if n := k.head(t); n > 0 {
		t = t[:len(t)-n] + k.mask
	}
	if head, tail, cut := strings.Cut(t, cutMark); cut {
		if n := k.head(head); n > 0 {
			t = head[:len(head)-n] + k.mask + cutMark + tail
		}
	}
	return t
}

// cutMark stands where a text was cut for the records.
const cutMark = "… ("

// head gives how much of the end of a text is the beginning of the value, where that is so
// much that it gives it away: half of it, and no mere word.
func (k *known) head(t string) int {
	for n := min(len(k.value)-1, len(t)); n >= max(8, len(k.value)/2); n-- {
		if strings.HasSuffix(t, k.value[:n]) {
			return n
		}
	}
	return 0
}

// begins gives where the value may begin in a text that goes on: the earliest place from which
// on all of the text is the beginning of one of its forms.
func (k *known) begins(t string) int {
	for at := max(0, len(t)-k.longest+1); at < len(t); at++ {
		if k.first[t[at]] && (slices.ContainsFunc(k.forms, func(f string) bool { return len(f) > len(t)-at && strings.HasPrefix(f, t[at:]) }) || begun(k.letters, t[at:])) {
			return at
		}
	}
	return len(t)
}

// begun says whether a text is the beginning of some letters, each written in one of its ways,
// and not all of them.
func begun(letters [][]string, t string) bool {
	if len(letters) == 0 {
		return false
	}
	if t == "" {
		return true
	}
	return slices.ContainsFunc(letters[0], func(w string) bool {
		if len(w) > len(t) {
			return strings.EqualFold(w[:len(t)], t)
		}
		return strings.EqualFold(w, t[:len(w)]) && begun(letters[1:], t[len(w):])
	})
}

// spanned gives the beginning of the value where a text would be cut within it, else where it
// would be cut.
func (k *known) spanned(t string, cut int) int {
	at := cut
	for _, f := range k.forms {
		if i := strings.Index(t[max(0, cut-len(f)+1):], f); i >= 0 {
			if i += max(0, cut-len(f)+1); i < cut {
				at = min(at, i)
			}
		}
	}
	if from := max(0, cut-k.longest); strings.ContainsAny(t[from:], k.marks) {
		for i := from; i < at; {
			n := k.at(t[i:])
			if i+n > cut {
				at = i
			}
			i += max(1, n)
		}
	}
	return at
}

// may says whether the value may stand in JSON that was not read yet; false is sure.
func (k *known) may(raw string) bool {
	if len(k.probe) < 3 || strings.Contains(raw, k.probe) || strings.Contains(raw, `\\u`) || strings.Contains(raw, `\u`) || strings.Contains(raw, "%") {
		return true
	}
	for _, f := range k.forms {
		if strings.Contains(raw, f) {
			return true
		}
	}
	return len(k.value) > 8 && strings.Contains(raw, k.value[:8])
}

// is says whether a number is the value.
func (k *known) is(n *big.Float) bool { return k.number != nil && k.number.Cmp(n) == 0 }
