package functions

import (
	"regexp"
	"strings"
)

// described is what the documentation of a function says.
type described struct {
	summary string
	params  map[string]string
	returns string
}

// readDoc reads the documentation of a function: a docstring with sections ("Args:"), with
// underlined headings ("Parameters" above dashes), or with fields (":param name:"); or JSDoc.
func readDoc(doc, ext string) described {
	d := described{params: map[string]string{}}
	lines := strings.Split(doc, "\n")
	if ext != ".py" {
		return jsDoc(lines, d)
	}
	var head []string
	section, current, indent := "", "", 0
	add := func(text string) {
		text = strings.TrimSpace(text)
		switch {
		case text == "" || effectLine.MatchString(text):
		case section == "":
			head = append(head, text)
		case section == "params" && current != "":
			d.params[current] = strings.TrimSpace(d.params[current] + " " + text)
		case section == "returns":
			d.returns = strings.TrimSpace(d.returns + " " + text)
		}
	}
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		text := strings.TrimSpace(line)
		depth := len(line) - len(strings.TrimLeft(line, " \t"))
		if m := field.FindStringSubmatch(text); m != nil { // :param name: text
			switch m[1] {
			case "param", "parameter", "arg", "argument", "key", "keyword":
				words := strings.Fields(m[2])
				if section = "params"; len(words) == 0 {
					section = "other"
					continue
				}
				current = words[len(words)-1]
				d.params[current] = ""
			case "return", "returns":
				section = "returns"
			default:
				section = "other"
			}
			add(m[3])
			continue
		}
		if i+1 < len(lines) && underline.MatchString(strings.TrimSpace(lines[i+1])) && text != "" {
			section, current, indent = sectionOf(text), "", -1-depth
			i++
			continue
		}
		if name, ok := strings.CutSuffix(text, ":"); ok && sectionOf(name) != "other" || otherSection[text] {
			section, current, indent = sectionOf(name), "", depth+1
			continue
		}
		if section == "" && text == "" {
			head = append(head, "") // a paragraph ends
		}
		switch {
		case section == "params" && indent > 0 && text != "":
			if m := entry.FindStringSubmatch(text); m != nil && (current == "" || depth <= indent) {
				current, indent = m[1], depth
				d.params[current] = ""
				add(m[2])
				continue
			}
		case section == "params" && indent < 0 && text != "" && depth <= -1-indent:
			name, _, _ := strings.Cut(text, ":") // name : type
			name, _, _ = strings.Cut(name, ",")
			current = strings.Trim(strings.TrimSpace(name), "*")
			d.params[current] = ""
			continue
		case section == "returns" && indent < 0 && text != "" && depth <= -1-indent:
			continue // its type
		}
		add(text)
	}
	d.summary = paragraphs(head)
	for name, say := range d.params {
		if say == "" {
			delete(d.params, name)
		}
	}
	return d
}

var (
	effectLine   = regexp.MustCompile(`^effect:\s*\S+$`)
	field        = regexp.MustCompile(`^:(\w+)\s*([^:]*):\s*(.*)$`)
	underline    = regexp.MustCompile(`^-{3,}$|^={3,}$`)
	entry        = regexp.MustCompile(`^\*{0,2}(\w+)\s*(?:\([^)]*\))?\s*:\s*(.*)$`)
	otherSection = map[string]bool{"Raises:": true, "Yields:": true, "Example:": true, "Examples:": true, "Note:": true, "Notes:": true, "See Also:": true}
)

func sectionOf(name string) string {
	switch strings.ToLower(strings.TrimSuffix(name, ":")) {
	case "args", "arguments", "parameters", "params", "keyword args", "keyword arguments", "other parameters":
		return "params"
	case "return", "returns":
		return "returns"
	}
	return "other"
}

// paragraphs joins lines of text to a line, and keeps paragraphs apart.
func paragraphs(lines []string) string {
	var out []string
	var now []string
	for _, l := range append(lines, "") {
		if l != "" {
			now = append(now, l)
			continue
		}
		if now != nil {
			out = append(out, strings.Join(now, " "))
		}
		now = nil
	}
	return strings.Join(out, "\n")
}
