package cli

import (
	"bytes"
	"fmt"
	"reflect"
	"strings"
	"text/tabwriter"
	"unicode"
	"unicode/utf8"
)

// Everything that a command prints goes through print, note, block, table or printJSON.
// They make visible what a terminal would obey instead of showing: control characters,
// those of C1, marks that change the direction of writing, and bytes that are not text.
// What models, tools and files say can so neither move the cursor nor put on the look of
// the program's own lines: it keeps to its line, and a block to its indentation.

// painted is a text that is fit to print as it is: print made it, colours and all.
type painted string

// shown makes a text fit for one line.
func shown(s string) string {
	return visible(strings.NewReplacer("\r\n", " ⏎ ", "\n", " ⏎ ", "\t", " ").Replace(s))
}

// visible makes a text fit to print; it keeps the ends of its lines, and tabs.
func visible(s string) string {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= ' ' && s[i] < 0x7f || s[i] == '\n'
	}
	if plain {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, "<%02X>", s[0])
		case r == '\n' || r == '\t':
			b.WriteRune(r)
		case r < ' ':
			b.WriteRune('␀' + r)
		case r == 0x7f:
			b.WriteRune('␡')
		case obeyed(r):
			fmt.Fprintf(&b, "<U+%04X>", r)
		default:
			b.WriteRune(r)
		}
		s = s[n:]
	}
	return b.String()
}

// obeyed says whether a character beyond ASCII is one that a terminal or a reader obeys
// without seeing it: C1, and what formats, such as marks of direction. The joiners of
// scripts and pictures, and the hyphen that may be there, change only what stands beside them.
func obeyed(r rune) bool {
	switch r {
	case '\u00ad', '\u200c', '\u200d':
		return false
	case '\u2028', '\u2029':
		return true
	}
	return r >= 0x80 && r < 0xa0 || unicode.Is(unicode.Cf, r)
}

// sprint formats; arguments that hold texts are made fit for one line.
func sprint(format string, args ...any) painted {
	fit := make([]any, len(args))
	for i, a := range args {
		switch x := a.(type) {
		case painted:
			fit[i] = string(x)
		case string:
			fit[i] = shown(x)
		case []byte:
			fit[i] = shown(string(x))
		case error:
			fit[i] = shown(x.Error())
		case fmt.Stringer:
			fit[i] = shown(x.String())
		default:
			switch v := reflect.ValueOf(a); {
			case v.Kind() == reflect.String:
				fit[i] = shown(v.String())
			case v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Uint8:
				fit[i] = shown(string(v.Bytes())) // JSON
			default:
				fit[i] = a
			}
		}
	}
	return painted(fmt.Sprintf(format, fit...))
}

func (k *call) print(format string, args ...any) {
	k.clear()
	fmt.Fprint(k.Out, string(sprint(format, args...)))
}

func (k *call) note(format string, args ...any) {
	k.clear()
	fmt.Fprint(k.Err, string(sprint(format, args...)))
}

// block prints a text of several lines, each behind the first after an indentation.
func (k *call) block(lead painted, indent int, text string) {
	k.clear()
	fmt.Fprint(k.Out, string(lead), hanging(text, indent), "\n")
}

// hanging makes a text of several lines fit to print, with an indentation before each
// line but the first.
func hanging(text string, indent int) string {
	return strings.ReplaceAll(visible(strings.TrimRight(text, "\n")), "\n", "\n"+strings.Repeat(" ", indent))
}

// table prints rows under their heads. On a terminal a row takes one line of it: what does not
// fit is cut.
func (k *call) table(heads string, rows [][]any) error {
	k.clear()
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 4, 3, ' ', 0)
	fmt.Fprintln(w, strings.ReplaceAll(heads, " ", "\t"))
	for _, r := range rows {
		fmt.Fprintln(w, string(sprint(strings.TrimSuffix(strings.Repeat("%v\t", len(r)), "\t"), r...)))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for line := range strings.Lines(b.String()) {
		if k.tty {
			line = k.fit(strings.TrimSuffix(line, "\n")) + "\n"
		}
		if _, err := fmt.Fprint(k.Out, line); err != nil {
			return err
		}
	}
	return nil
}

// harmless writes JSON so that a terminal may show it: what it would obey is escaped
// within the texts, and the value stays as it is.
func harmless(raw []byte) []byte {
	var b bytes.Buffer
	for _, r := range string(raw) {
		switch {
		case r == 0x7f || obeyed(r):
			if r > 0xffff {
				r -= 0x10000
				fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+(r>>10), 0xdc00+(r&0x3ff))
			} else {
				fmt.Fprintf(&b, `\u%04x`, r)
			}
		default:
			b.WriteRune(r)
		}
	}
	return b.Bytes()
}

// live shows a line in place: the next that is printed takes its place. Where nothing
// can be overwritten it is a line like others.
func (k *call) live(line painted) {
	if !k.tty {
		fmt.Fprintln(k.Out, string(line))
		return
	}
	fmt.Fprint(k.Out, "\r\x1b[2K", k.fit(string(line)))
	k.inPlace = true
}

// fit cuts what is too long for a line of the terminal.
func (k *call) fit(line string) string {
	r := []rune(line)
	if most := k.width() - 1; len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return line
}

// clear takes away what stands in place.
func (k *call) clear() {
	if k.inPlace {
		fmt.Fprint(k.Out, "\r\x1b[2K")
		k.inPlace = false
	}
}

// paint colours a text on a terminal; the words never depend on it.
func (k *call) paint(code, s string) painted {
	if !k.colour {
		return painted(shown(s))
	}
	return painted("\x1b[" + code + "m" + shown(s) + "\x1b[0m")
}
