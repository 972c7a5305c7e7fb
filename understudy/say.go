package understudy

import (
	"fmt"
	"sort"
	"strings"

	"stonebaton/core/expr"
)

// question asks for what a tool needs, by name.
func (a *ask) question() string {
	doing := strings.ReplaceAll(a.tool.Name, "_", " ")
	names := make([]string, len(a.missing))
	for i, p := range a.missing {
		names[i] = "the " + strings.ReplaceAll(p.name, "_", " ")
		if d := p.text("description"); d != "" {
			names[i] += " (" + strings.TrimSuffix(strings.ToLower(d[:1])+d[1:], ".") + ")"
		}
	}
	return fmt.Sprintf("To %s I still need %s. Can you tell me?", doing, list(names))
}

func list(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// tell answers from what the tools brought since the person spoke: from those
// that were asked for, where any were, and from failures.
func (th *thought) tell() string {
	some := false
	for _, d := range th.done {
		some = some || th.asked[d.tool] || d.bad
	}
	var parts []string
	for _, d := range th.done {
		if some && !th.asked[d.tool] && !d.bad {
			continue
		}
		switch v := d.value.(type) {
		case nil:
			parts = append(parts, strings.TrimSpace(d.words))
		case []any:
			parts = append(parts, table(d.tool, v))
		case map[string]any:
			parts = append(parts, record(d.tool, v))
		}
	}
	return strings.Join(parts, "\n\n")
}

func keys(m map[string]any) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// title gives a heading made of a tool's name, without its verb.
func title(tool string) string {
	words := strings.Split(tool, "_")
	if len(words) > 1 {
		words = words[1:]
	}
	t := strings.Join(words, " ")
	return strings.ToUpper(t[:1]) + t[1:]
}

func label(k string) string {
	for u := range knownUnits {
		if n, ok := strings.CutSuffix(k, "_"+u); ok {
			return strings.ReplaceAll(n, "_", " ") + " (" + u + ")"
		}
	}
	return strings.ReplaceAll(k, "_", " ")
}

func record(tool string, m map[string]any) string {
	var facts, rest []string
	for _, k := range keys(m) {
		switch v := m[k].(type) {
		case nil:
		case []any:
			if len(v) > 0 {
				rest = append(rest, table(k, v))
			}
		case map[string]any:
			rest = append(rest, record(k, v))
		default:
			facts = append(facts, label(k)+": "+expr.Show(v))
		}
	}
	out := ""
	if len(facts) > 0 {
		out = "**" + title(tool) + "**: " + ended(strings.Join(facts, ", "))
	}
	if len(rest) > 0 {
		if out != "" {
			out += "\n\n"
		}
		out += strings.Join(rest, "\n\n")
	}
	return out
}

const mostRows = 12

func table(tool string, rows []any) string {
	if len(rows) == 0 {
		return "**" + title(tool) + "**: nothing was found."
	}
	var cols []string
	seen := map[string]bool{}
	for _, r := range rows {
		m, ok := r.(map[string]any)
		if !ok {
			items := make([]string, len(rows))
			for i := range rows {
				items[i] = expr.Show(rows[i])
			}
			return "**" + title(tool) + "**: " + ended(strings.Join(items, ", "))
		}
		for _, k := range keys(m) {
			if !seen[k] {
				seen[k] = true
				cols = append(cols, k)
			}
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "**%s**: %d found.\n\n|", title(tool), len(rows))
	for _, c := range cols {
		fmt.Fprintf(&b, " %s |", label(c))
	}
	b.WriteString("\n|" + strings.Repeat(" --- |", len(cols)) + "\n")
	for i, r := range rows {
		if i == mostRows {
			fmt.Fprintf(&b, "\n… and %d more.", len(rows)-mostRows)
			break
		}
		b.WriteString("|")
		for _, c := range cols {
			fmt.Fprintf(&b, " %s |", strings.ReplaceAll(expr.Show(r.(map[string]any)[c]), "|", "\\|"))
		}
		b.WriteString("\n")
	}
	return strings.TrimSpace(b.String())
}

// ended ends a sentence that may have its stop already.
func ended(s string) string { return strings.TrimRight(s, ".") + "." }
