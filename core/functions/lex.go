package functions

import "strings"

// blanked gives a text of JavaScript with the insides of its comments, texts and patterns as
// spaces, so that what is left are its words and brackets, each where it was.
func blanked(text string) string {
	b := []byte(text)
	wipe := func(from, to int) {
		for i := from; i < min(to, len(b)); i++ {
			if b[i] != '\n' {
				b[i] = ' '
			}
		}
	}
	last := byte(0) // that is no space
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case strings.HasPrefix(text[i:], "//"):
			end := i + strings.IndexByte(text[i:]+"\n", '\n')
			wipe(i, end)
			i = end - 1
		case strings.HasPrefix(text[i:], "/*"):
			n := strings.Index(text[i+2:], "*/")
			end := len(text)
			if n >= 0 {
				end = i + 2 + n + 2
			}
			wipe(i, end)
			i = end - 1
		case c == '"' || c == '\'' || c == '`' || c == '/' && (last == 0 || strings.IndexByte("(,=:[!&|?{};+", last) >= 0):
			end := i + 1
			for end < len(text) && text[end] != c && (c == '`' || text[end] != '\n') {
				if text[end] == '\\' {
					end++
				}
				end++
			}
			wipe(i+1, end)
			i, last = end, c
		case c != ' ' && c != '\t' && c != '\n' && c != '\r':
			last = c
		}
	}
	return string(b)
}

// matching gives where the bracket is closed that opens at a place; -1 where it is not.
func matching(text string, open int) int {
	blank := blanked(text[open:])
	depth := 0
	for i := 0; i < len(blank); i++ {
		switch blank[i] {
		case '(', '[', '{':
			depth++
		case ')', ']', '}':
			if depth--; depth == 0 {
				return open + i
			}
		}
		if i == 0 && depth == 0 {
			return -1
		}
	}
	return -1
}

// parts splits a text at a separator that stands in no bracket and no text.
func parts(text string, by byte) []string {
	blank := blanked(text)
	var out []string
	depth, from := 0, 0
	for i := 0; i < len(blank); i++ {
		switch c := blank[i]; {
		case strings.IndexByte("([{<", c) >= 0:
			depth++
		case strings.IndexByte(")]}", c) >= 0 || c == '>' && i > 0 && blank[i-1] != '=':
			depth--
		case c == by && depth == 0:
			out = append(out, text[from:i])
			from = i + 1
		}
	}
	return append(out, text[from:])
}
