package understudy

import (
	"math"
	"slices"
	"time"

	"stonebaton.example/core/reading"
)

func (f *filler) moments(p *param, s *source) []cand {
	var out []cand
	for _, m := range s.mentions {
		if !s.inside(m.At) || f.passedOn(s, m.At) {
			continue
		}
		if m.Kind == reading.Figure && !f.now.IsZero() && (m.Lead == "in" || m.Right == "ago") && p.role != aClock {
			if t, ok := shifted(f.now, m); ok && (p.role == aMoment || m.Unit == "day" || m.Unit == "week" || m.Unit == "month") {
				out = append(out, cand{score: 2.5, at: m.At, end: m.End, value: f.show(p, t), words: m.Lead + " " + m.Text})
			}
			continue
		}
		if m.Kind != reading.Moment {
			continue
		}
		score := 3.0
		switch {
		case p.side == reading.Alone || m.Side == reading.Alone:
		case p.side == m.Side:
			score += 2
		default:
			score -= 2.5
		}
		for _, r := range []string{m.Left} {
			if r != "" && (p.label[r] || p.about[r]) {
				score++
			}
		}
		c := cand{score: score, at: m.At, end: m.End, words: m.Text}
		switch p.role {
		case aClock:
			if !m.Clock {
				continue
			}
			c.value, c.at = m.Time.Format("15:04"), m.End-1
			if p.pattern != nil && !p.pattern.MatchString(c.value.(string)) {
				continue
			}
		case aDay:
			if !m.Day {
				continue
			}
			c.value = m.Time.Format("2006-01-02")
			if m.Clock {
				c.end = m.At + 1
			}
		default:
			t := m.Time
			switch {
			case m.Day && m.Clock:
				c.score++
			case m.Day:
				if t2, ok := f.clockBeside(s, m); ok {
					t = t2
				} else {
					if p.required && f.out.half[p.name] == "" {
						f.out.half[p.name] = "at what time"
					}
					continue
				}
			default: // a time of day: the next there is, or that of the day which is said
				if t2, ok := f.dayBeside(s, m); ok {
					t = t2
				} else if f.now.IsZero() {
					continue
				} else if t.Before(f.now) {
					t = t.AddDate(0, 0, 1)
				}
			}
			c.value = t.Format(time.RFC3339)
		}
		out = append(out, c)
	}
	// the end of a stay that is said by its length
	if p.side == reading.Last && p.role != aClock {
		var first *reading.Mention
		for i := range s.mentions {
			if m := &s.mentions[i]; m.Kind == reading.Moment && m.Day && s.inside(m.At) {
				if first != nil {
					return out
				}
				first = m
			}
		}
		for _, m := range s.mentions {
			if first == nil || m.Kind != reading.Figure || m.Unit == "" || m.Lead == "in" || m.Right == "ago" {
				continue
			}
			if _, ok := reading.Convert(1, m.Unit, "day"); !ok {
				continue
			}
			if p.role == aMoment && !first.Clock {
				continue
			}
			for i := range out {
				out[i].score -= 4
			}
			t := first.Time
			if d, _ := reading.Convert(m.Number, m.Unit, "day"); d == math.Trunc(d) {
				t = t.AddDate(0, 0, int(d))
			} else {
				sec, _ := reading.Convert(m.Number, m.Unit, "s")
				t = t.Add(time.Duration(sec) * time.Second)
			}
			f.out.seen = append(f.out.seen, stretch{s.text, first.At, first.End})
			out = append(out, cand{score: 3.5, at: m.At, end: m.End, value: f.show(p, t), words: first.Text + " and " + m.Text, shares: true})
		}
	}
	return out
}

func (f *filler) show(p *param, t time.Time) any {
	if p.role == aDay {
		return t.Format("2006-01-02")
	}
	return t.Format(time.RFC3339)
}

// clockBeside finds the one time of day that is said apart from a day.
func (f *filler) clockBeside(s *source, day reading.Mention) (time.Time, bool) {
	n := 0
	var t time.Time
	for _, m := range s.mentions {
		if m.Kind == reading.Moment && m.Clock && !m.Day && s.inside(m.At) {
			n++
			t = time.Date(day.Time.Year(), day.Time.Month(), day.Time.Day(), m.Time.Hour(), m.Time.Minute(), 0, 0, day.Time.Location())
		}
	}
	return t, n == 1
}

// dayBeside finds the one day that is said apart from a time of day, here or in an older source.
func (f *filler) dayBeside(s *source, clock reading.Mention) (time.Time, bool) {
	from := slices.Index(f.sources, s)
	for _, src := range f.sources[max(from, 0):] {
		for _, m := range src.mentions {
			if m.Kind == reading.Moment && m.Day {
				return time.Date(m.Time.Year(), m.Time.Month(), m.Time.Day(), clock.Time.Hour(), clock.Time.Minute(), 0, 0, m.Time.Location()), true
			}
		}
	}
	return time.Time{}, false
}

func shifted(now time.Time, m reading.Mention) (time.Time, bool) {
	n := int(m.Number)
	if m.Right == "ago" {
		n = -n
	}
	switch m.Unit {
	case "day", "night":
		return now.AddDate(0, 0, n), true
	case "week":
		return now.AddDate(0, 0, 7*n), true
	case "month":
		return now.AddDate(0, n, 0), true
	}
	if sec, ok := reading.Convert(m.Number, m.Unit, "s"); ok && m.Unit != "" {
		if m.Right == "ago" {
			sec = -sec
		}
		return now.Add(time.Duration(sec) * time.Second), true
	}
	return now, false
}
