package chart

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Text writes the map for a terminal: each node with what leads from it.
func (c *Chart) Text() string {
	var b strings.Builder
	c.index()
	fmt.Fprintf(&b, "%s", c.Title)
	if c.Summary != "" {
		fmt.Fprintf(&b, "   %s", c.Summary)
	}
	b.WriteString("\n")
	wide := 8
	for _, n := range c.Nodes {
		wide = max(wide, len(n.Name))
	}
	for _, kind := range []Kind{Relay, Agent, Tool, Leg} {
		for _, n := range c.Nodes {
			if n.Kind != kind {
				continue
			}
			about := n.About
			if n.Start && !c.Relay {
				about += " · conversations start here"
			}
			fmt.Fprintf(&b, "\n  %-*s  %s%s\n", wide, n.Name, about, times(n.Taken))
			for _, line := range c.leads(n) {
				fmt.Fprintf(&b, "  %-*s    %s\n", wide, "", line)
			}
		}
	}
	return b.String()
}

// mostHeld is how often a text tells on which values a condition held.
const mostHeld = 6

// leads gives the ways from a node: those of a relay each on a line, the others by their link.
func (c *Chart) leads(n *Node) []string {
	var out []string
	var links []Link
	to := map[Link][]string{}
	for _, w := range c.Ways {
		if w.From != n.ID {
			continue
		}
		name := c.by[w.To].Name + times(w.Taken)
		if !c.Relay {
			if !slices.Contains(links, w.Link) {
				links = append(links, w.Link)
			}
			to[w.Link] = append(to[w.Link], name)
			continue
		}
		line := "→ " + name
		if w.Link.aside() {
			line = string(w.Link) + " " + line
		}
		if w.When != "" {
			line += "   when " + w.When
		}
		out = append(out, line)
		for i, h := range w.Held {
			if i == mostHeld {
				out = append(out, fmt.Sprintf("      and %d times more", len(w.Held)-i))
				break
			}
			out = append(out, fmt.Sprintf("      visit %d of %s: %s", h.Visit, h.Run, strings.Join(h.Values, ", ")))
		}
	}
	for _, l := range links {
		out = append(out, fmt.Sprintf("%-12s %s", l, strings.Join(to[l], ", ")))
	}
	return out
}

// times says how often the runs were somewhere; "" where none was.
func times(taken []int) string {
	if !walked(taken) {
		return ""
	}
	parts := make([]string, len(taken))
	for i, n := range taken {
		parts[i] = "×" + strconv.Itoa(n)
	}
	return " (" + strings.Join(parts, ", ") + ")"
}

// index finds nodes by their id, of a chart that came as JSON too.
func (c *Chart) index() {
	c.by = map[string]*Node{}
	for _, n := range c.Nodes {
		c.by[n.ID] = n
	}
}

// label gives the words on a way.
func (w *Way) label() string {
	out := w.When
	switch w.Link {
	case Fails, Back, Refused, Lapsed, Passes, Consults, Judged, LooksUp, Works, Goes:
		out = string(w.Link)
	case Calls, Next, When:
	}
	return strings.TrimSpace(out + times(w.Taken))
}

// aside says whether a way leaves a leg because it failed, or a person did not allow it: it is
// named where it is written, and its line is dashed.
func (l Link) aside() bool {
	switch l {
	case Fails, Back, Refused, Lapsed:
		return true
	case Calls, Passes, Consults, Judged, LooksUp, Works, Goes, Next, When:
	}
	return false
}

// walked says whether a run took it.
func walked(taken []int) bool { return slices.ContainsFunc(taken, func(n int) bool { return n > 0 }) }

// DOT writes the map in the DOT language of graph descriptions.
func (c *Chart) DOT() string {
	c.index()
	var b strings.Builder
	fmt.Fprintf(&b, "digraph %s {\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];\n  edge [fontname=\"sans-serif\", fontsize=10];\n", dot(c.Title))
	for _, n := range c.Nodes {
		extra := ""
		if walked(n.Taken) {
			extra = ", penwidth=2"
		}
		fmt.Fprintf(&b, "  %s [label=%s%s];\n", dot(n.ID), dot(n.Name+"\n"+n.About+times(n.Taken)), extra)
	}
	for _, w := range c.Ways {
		extra := ""
		if w.Link.aside() {
			extra = ", style=dashed"
		}
		if walked(w.Taken) {
			extra += ", penwidth=2"
		}
		fmt.Fprintf(&b, "  %s -> %s [label=%s%s];\n", dot(w.From), dot(w.To), dot(w.label()), extra)
	}
	b.WriteString("}\n")
	return b.String()
}

func dot(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

// Mermaid writes the map in the Mermaid language of diagrams.
func (c *Chart) Mermaid() string {
	c.index()
	ids := map[string]string{}
	var b strings.Builder
	b.WriteString("flowchart LR\n")
	for i, n := range c.Nodes {
		ids[n.ID] = "n" + strconv.Itoa(i)
		fmt.Fprintf(&b, "  %s[\"%s<br/>%s\"]\n", ids[n.ID], mermaid(n.Name), mermaid(n.About+times(n.Taken)))
	}
	for _, w := range c.Ways {
		arrow := "-->"
		if w.Link.aside() {
			arrow = "-.->"
		} else if walked(w.Taken) {
			arrow = "==>"
		}
		if l := w.label(); l != "" {
			arrow += `|"` + mermaid(l) + `"|`
		}
		fmt.Fprintf(&b, "  %s %s %s\n", ids[w.From], arrow, ids[w.To])
	}
	return b.String()
}

func mermaid(s string) string {
	return strings.NewReplacer(`"`, "#quot;", "<", "#lt;", ">", "#gt;", "\n", " ").Replace(s)
}

// SVG writes the map as a drawing: SVG 1.1, with the colours of the reader's setting.
func (c *Chart) SVG() string {
	c.index()
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" role="img" aria-label="%s">`+"\n", c.Width, c.Height, c.Width, c.Height, esc("The map of "+c.Title))
	b.WriteString(`<style>
text{font:13px system-ui,sans-serif;fill:#1d2126}.a{font-size:11px;fill:#5b626b}.n{fill:#fff;stroke:#8d949c}.t{fill:#f1f2f3}.w{fill:none;stroke:#8d949c}.f{stroke-dasharray:4 3}.on{stroke:#1d2126;stroke-width:2}.l{font-size:10.5px;fill:#5b626b;paint-order:stroke;stroke:#fff;stroke-width:3px}
@media(prefers-color-scheme:dark){svg{background:#14171a}text{fill:#e6e8ea}.a,.l{fill:#a5acb4}.l{stroke:#14171a}.n{fill:#1d2126;stroke:#6d747c}.t{fill:#272c32}.w{stroke:#6d747c}.on{stroke:#e6e8ea}}
</style>
<defs><marker id="h" viewBox="0 0 8 8" refX="8" refY="4" markerUnits="userSpaceOnUse" markerWidth="8" markerHeight="8" orient="auto"><path d="M0 0L8 4L0 8z" fill="#8d949c"/></marker></defs>
`)
	for _, w := range c.Ways {
		class := "w"
		if w.Link.aside() {
			class += " f"
		}
		if walked(w.Taken) {
			class += " on"
		}
		fmt.Fprintf(&b, `<path class="%s" d="%s" marker-end="url(#h)"/>`+"\n", class, w.Path)
	}
	for _, w := range c.Ways { // over all the lines
		if l := w.label(); l != "" && (c.Relay || len(w.Taken) > 0) {
			anchor := "middle"
			if c.Relay {
				anchor = "start"
			}
			fmt.Fprintf(&b, `<text class="l" x="%d" y="%d" text-anchor="%s">%s</text>`+"\n", w.X, w.Y, anchor, esc(clip(l)))
		}
	}
	for _, n := range c.Nodes {
		class := "n"
		if n.Kind == Tool || n.Kind == End {
			class += " t"
		}
		if n.Start || walked(n.Taken) {
			class += " on"
		}
		fmt.Fprintf(&b, `<g><title>%s</title><rect class="%s" x="%d" y="%d" width="%d" height="%d" rx="3"/><text x="%d" y="%d" text-anchor="middle">%s</text><text class="a" x="%d" y="%d" text-anchor="middle">%s</text></g>`+"\n",
			esc(n.Summary), class, n.X-n.W/2, n.Y-nodeH/2, n.W, nodeH, n.X, n.Y-3, esc(n.Name), n.X, n.Y+13, esc(n.About+times(n.Taken)))
	}
	b.WriteString("</svg>\n")
	return b.String()
}

// curve gives the path of a way in the drawing, and where its words stand.
func (c *Chart) curve(w *Way) (d string, x, y int) {
	from, to := c.by[w.From], c.by[w.To]
	x1, y1, x2, y2 := from.X+from.W/2, from.Y, to.X-to.W/2, to.Y
	if x2 <= x1 { // back, or within a column: below the nodes
		low := max(y1, y2) + rowH/2 + 4
		x1, x2 = from.X, to.X
		y1, y2 = from.Y+nodeH/2, to.Y+nodeH/2
		return fmt.Sprintf("M%d %dC%d %d %d %d %d %d", x1, y1, x1, low+20, x2, low+20, x2, y2), (x1 + x2) / 2, low + 8
	}
	mid := (x2 - x1) / 2
	return fmt.Sprintf("M%d %dC%d %d %d %d %d %d", x1, y1, x1+mid, y1, x2-mid, y2, x2, y2), (x1 + x2) / 2, (y1+y2)/2 - 4
}

func esc(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a builder does not fail
	return b.String()
}
