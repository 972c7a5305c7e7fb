package chart

import (
	"cmp"
	"fmt"
	"slices"
)

// Sizes of the drawing, in pixels.
const (
	rowH   = 58
	nodeH  = 40
	gapX   = 84
	margin = 24
)

// place gives every node its place: in columns, each behind those that lead to it, where what
// leads back is left out; within a column in the order of what leads there. The nodes named
// come first. A relay goes down the page: its columns are rows.
func (c *Chart) place(first ...string) {
	out := map[string][]*Way{}
	for _, w := range c.Ways {
		out[w.From] = append(out[w.From], w)
	}
	const going, done = 1, 2
	state := map[string]int{}
	var order []*Node // each before what it leads to
	var walk func(n *Node)
	walk = func(n *Node) {
		state[n.ID] = going
		for _, w := range out[n.ID] {
			switch state[w.To] {
			case going:
				w.back = true
			case done:
			default:
				walk(c.by[w.To])
			}
		}
		state[n.ID] = done
		order = append(order, n)
	}
	for _, id := range first {
		if n := c.by[id]; n != nil && state[id] == 0 {
			walk(n)
		}
	}
	for _, n := range c.Nodes {
		if state[n.ID] == 0 {
			walk(n)
		}
	}
	slices.Reverse(order)
	most := 0
	for _, n := range order {
		for _, w := range out[n.ID] {
			if !w.back {
				to := c.by[w.To]
				to.column = max(to.column, n.column+1)
				most = max(most, to.column)
			}
		}
	}
	columns := make([][]*Node, most+1)
	for _, n := range order {
		columns[n.column] = append(columns[n.column], n)
	}
	row := map[string]float64{}
	into := map[string][]*Way{}
	for _, w := range c.Ways {
		if !w.back {
			into[w.To] = append(into[w.To], w)
		}
	}
	if c.Relay {
		c.down(columns)
		return
	}
	x := margin
	for _, col := range columns {
		rank := map[string]float64{}
		for i, n := range col {
			rank[n.ID] = float64(i)
			sum := 0.0
			for _, w := range into[n.ID] {
				sum += row[w.From]
			}
			if len(into[n.ID]) > 0 {
				rank[n.ID] = sum / float64(len(into[n.ID]))
			}
		}
		slices.SortStableFunc(col, func(a, b *Node) int { return cmp.Compare(rank[a.ID], rank[b.ID]) })
		w := 0
		for _, n := range col {
			w = max(w, n.W)
		}
		for i, n := range col {
			row[n.ID] = float64(i)
			n.X, n.Y = x+w/2, margin+i*rowH+nodeH/2
			c.Height = max(c.Height, n.Y+nodeH/2+margin)
		}
		x += w + gapX
	}
	c.Width = x - gapX + margin
	if slices.ContainsFunc(c.Ways, func(w *Way) bool { return w.back }) {
		c.Height += rowH / 2 // they go below
	}
	for _, w := range c.Ways {
		w.Path, w.X, w.Y = c.curve(w)
	}
}

// Sizes of a relay's drawing, in pixels.
const (
	legGap  = 54 // between two rows: room for a condition
	letter  = 6  // of a condition, about
	backGap = 26 // for each way that leads back
	turn    = 14 // radius of a corner of one
)

// down places the legs of a relay in rows.
func (c *Chart) down(rows [][]*Node) {
	left := margin // what leads back goes up at the left of all
	for _, w := range c.Ways {
		if w.back {
			left += backGap
		}
	}
	first := map[string]bool{} // of its row
	for i, row := range rows {
		x := left
		first[row[0].ID] = true
		for _, n := range row {
			wide := n.W
			for _, w := range c.Ways {
				if w.To == n.ID && !w.back {
					wide = max(wide, n.W/2+letter*len([]rune(clip(w.label()))))
				}
			}
			n.X, n.Y = x+n.W/2, margin+i*(nodeH+legGap)+nodeH/2
			x += wide + 28
		}
		c.Width = max(c.Width, x+margin)
		c.Height = max(c.Height, margin+i*(nodeH+legGap)+nodeH+margin)
	}
	side := left
	for _, w := range c.Ways {
		from, to := c.by[w.From], c.by[w.To]
		if w.back || from.Y >= to.Y {
			side -= backGap
			w.Path = fmt.Sprintf("M%d %dC%d %d %d %d %d %d", from.X-from.W/2, from.Y, side-backGap, from.Y, side-backGap, to.Y, to.X-to.W/2, to.Y)
			w.X, w.Y = side, (from.Y+to.Y)/2
			if !first[from.ID] { // below the others of its row, then up at their left
				under := from.Y + nodeH/2 + turn
				w.Path = fmt.Sprintf("M%d %dq0 %d %d %dH%dq%d 0 %d %dV%dq0 %d %d %dH%d", from.X, under-turn, turn, -turn, turn, side+turn, -turn, -turn, -turn, to.Y+turn, -turn, turn, -turn, to.X-to.W/2)
			}
			continue
		}
		y1, y2 := from.Y+nodeH/2, to.Y-nodeH/2
		mid := (y2 - y1) / 2
		w.Path = fmt.Sprintf("M%d %dC%d %d %d %d %d %d", from.X, y1, from.X, y1+mid, to.X, y2-mid, to.X, y2)
		w.X, w.Y = to.X+6, y2-12
	}
}
