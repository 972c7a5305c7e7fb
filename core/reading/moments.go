package reading

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

var monthNames = map[string]time.Month{"jan": 1, "january": 1, "feb": 2, "february": 2, "mar": 3, "march": 3, "apr": 4, "april": 4, "may": 5, "jun": 6, "june": 6, "jul": 7, "july": 7, "aug": 8, "august": 8,
	"sep": 9, "sept": 9, "september": 9, "oct": 10, "october": 10, "nov": 11, "november": 11, "dec": 12, "december": 12}

var dayNames = map[string]time.Weekday{"monday": 1, "mon": 1, "mondays": 1, "tuesday": 2, "tue": 2, "tues": 2, "wednesday": 3, "wed": 3, "thursday": 4, "thu": 4, "thurs": 4, "thur": 4, "friday": 5, "fri": 5,
	"saturday": 6, "sat": 6, "sunday": 0, "sun": 0}

// moment reads a day with or without a time of day, or a time of day alone, and
// gives how many tokens it is.
func (s *scanner) moment(i int) int {
	if n, day := s.day(i); n > 0 {
		m := Mention{Kind: Moment, Time: day, Day: true}
		if t := s.toks[i]; t.kind == "date" && len(t.text) > 10 {
			clock, err := time.Parse("15:04", t.text[11:16])
			if err == nil {
				m.Time, m.Clock = at(day, clock.Hour(), clock.Minute()), true
			}
		}
		s.add(m, i, i+n)
		return n
	}
	if n, h, min := s.clock(i); n > 0 {
		s.add(Mention{Kind: Moment, Clock: true, Time: at(s.now, h, min)}, i, i+n)
		return n
	}
	return 0
}

func at(day time.Time, h, m int) time.Time {
	return time.Date(day.Year(), day.Month(), day.Day(), h, m, 0, 0, day.Location())
}

// day reads a day.
func (s *scanner) day(i int) (int, time.Time) {
	t := s.toks[i]
	if t.kind == "date" {
		d, err := time.ParseInLocation("2006-01-02", t.text[:10], s.now.Location())
		if err != nil {
			return 0, d
		}
		return 1, d
	}
	if s.now.IsZero() {
		return 0, time.Time{}
	}
	today := at(s.now, 0, 0)
	next := func(k int) string { return s.tok(i + k).low }
	switch {
	case t.low == "today" || t.low == "tonight":
		return 1, today
	case t.low == "this" && (next(1) == "evening" || next(1) == "morning" || next(1) == "afternoon"):
		return 1, today
	case t.low == "tomorrow" || t.low == "tmrw" || t.low == "tmr" || t.low == "tomorow" || t.low == "tommorow" || t.low == "tomorrow's":
		return 1, today.AddDate(0, 0, 1)
	case t.low == "yesterday":
		return 1, today.AddDate(0, 0, -1)
	case t.low == "day" && next(1) == "after" && next(2) == "tomorrow":
		return 3, today.AddDate(0, 0, 2)
	case t.low == "day" && next(1) == "before" && next(2) == "yesterday":
		return 3, today.AddDate(0, 0, -2)
	case t.low == "weekend" && (s.tok(i-1).low == "this" || s.tok(i-1).low == "the" || s.tok(i-1).low == "at"):
		return 1, weekday(today, time.Saturday)
	}
	// Friday, next Friday, last Friday; the same day of the week is a week away
	k := 0
	if t.low == "next" || t.low == "this" || t.low == "last" || t.low == "coming" {
		k = 1
	}
	if wd, ok := dayNames[next(k)]; ok && s.tok(i+k).kind == "word" && (len(next(k)) > 3 || s.capital(i+k) || leads[s.tok(i+k-1).low] || k > 0) {
		d := weekday(today, wd)
		if t.low == "last" {
			d = d.AddDate(0, 0, -7)
		}
		return k + 1, d
	}
	// 8 May, May 8, the 8th, the 8th of May 2027
	n, isDay := dayNumber(t)
	m, isMonth := monthNames[t.low]
	switch {
	case isDay && slices.Contains([]string{"and", "to", "-", "–", "or", "until", "till"}, next(1)) && monthNames[next(3)] > 0: // 7 and 8 May
		if _, ok := dayNumber(s.tok(i + 2)); ok {
			_, d := s.dated(i, 1, n, monthNames[next(3)], today)
			return 1, d
		}
	case isDay && monthNames[next(1)] > 0 && (t.kind == "ordinal" || s.tok(i+1).kind == "word"):
		return s.dated(i, 2, n, monthNames[next(1)], today)
	case t.kind == "ordinal" && next(1) == "of" && monthNames[next(2)] > 0:
		return s.dated(i, 3, n, monthNames[next(2)], today)
	case isMonth && s.capital(i) || isMonth && len(t.low) > 3:
		if d, ok := dayNumber(s.tok(i + 1)); ok {
			return s.dated(i, 2, d, m, today)
		}
	case t.kind == "ordinal" && (s.tok(i-1).low == "the" || s.tok(i-1).low == "on"):
		for k := range 12 {
			first := time.Date(today.Year(), today.Month()+time.Month(k), 1, 0, 0, 0, 0, today.Location())
			if d := first.AddDate(0, 0, n-1); d.Month() == first.Month() && !d.Before(today) {
				return 1, d
			}
		}
	}
	return 0, time.Time{}
}

func dayNumber(t token) (int, bool) {
	if t.kind != "number" && t.kind != "ordinal" {
		return 0, false
	}
	n, err := strconv.Atoi(strings.TrimRight(t.low, "stndrh"))
	return n, err == nil && n >= 1 && n <= 31
}

// dated gives the day of a month, in the year that follows it or the next that has it still to come.
func (s *scanner) dated(i, n, d int, m time.Month, today time.Time) (int, time.Time) {
	year, said := today.Year(), false
	k := i + n
	if s.tok(k).low == "," {
		k++
	}
	if y, err := strconv.Atoi(s.tok(k).text); err == nil && y >= 1000 && y < 3000 && s.tok(k).kind == "number" {
		year, said, n = y, true, k+1-i
	}
	t := time.Date(year, m, d, 0, 0, 0, 0, today.Location())
	if t.Day() != d {
		return 0, t
	}
	if !said && t.Before(today) {
		t = t.AddDate(1, 0, 0)
	}
	return n, t
}

func weekday(today time.Time, wd time.Weekday) time.Time {
	days := (int(wd) - int(today.Weekday()) + 7) % 7
	if days == 0 {
		days = 7
	}
	return today.AddDate(0, 0, days)
}

var clockRE = regexp.MustCompile(`^(\d{1,2})(?:[:.](\d{2}))?\s?([ap])?`)

// clock reads a time of day.
func (s *scanner) clock(i int) (n, hour, minute int) {
	t := s.toks[i]
	next := func(k int) string { return s.tok(i + k).low }
	before := s.tok(i - 1).low
	number := func(k int) (int, bool) {
		if v, ok := smallNumbers[next(k)]; ok && v <= 12 {
			return int(v), true
		}
		if next(k) == "one" {
			return 1, true
		}
		v, err := strconv.Atoi(next(k))
		return v, err == nil && s.tok(i+k).kind == "number" && v <= 24
	}
	later := func(n, h int) (int, int) { // 7 in the evening
		if next(n) == "in" && next(n+1) == "the" {
			switch next(n + 2) {
			case "evening", "afternoon":
				if h < 12 {
					h += 12
				}
				n += 3
			case "morning":
				n += 3
			}
		}
		return n, h
	}
	switch {
	case t.low == "noon" || t.low == "midday":
		return 1, 12, 0
	case t.low == "midnight":
		return 1, 0, 0
	case t.kind == "clock":
		m := clockRE.FindStringSubmatch(t.low)
		h, _ := strconv.Atoi(m[1])
		min, _ := strconv.Atoi(m[2])
		switch m[3] {
		case "p":
			h = h%12 + 12
		case "a":
			h %= 12
		}
		if h > 23 || min > 59 {
			return 0, 0, 0
		}
		n, h := later(1, h)
		return n, h, min
	case t.low == "half" && next(1) == "past":
		if h, ok := number(2); ok {
			n, h := later(3, h)
			return n, h, 30
		}
	case (t.low == "quarter" || t.low == "ten" || t.low == "twenty" || t.low == "five") && (next(1) == "past" || next(1) == "to") && (t.low == "quarter" || next(1) == "past"):
		if h, ok := number(2); ok {
			min := map[string]int{"quarter": 15, "ten": 10, "twenty": 20, "five": 5}[t.low]
			n, h := later(3, h)
			if next(1) == "to" {
				return n, (h + 23) % 24, 60 - min
			}
			return n, h, min
		}
	}
	// a bare hour: at 11, from 9 to 11 beside another time
	if h, ok := number(0); ok && h <= 23 && (before == "at" || s.follows(i) && s.out[len(s.out)-1].Day && slices.Contains([]string{"to", "until", "till", "-", "–"}, next(1)) && s.tok(i+2).kind != "word" || (before == "from" || before == "to" || before == "until" || before == "till" || before == "between" || before == "and") && s.beside(i)) {
		if _, isUnit := unitNames[next(1)]; !isUnit && (s.tok(i+1).kind != "word" || stop[next(1)] || dayNames[next(1)] > 0 || slices.Contains([]string{"today", "tomorrow"}, next(1))) {
			n, h := later(1, h)
			return n, h, 0
		}
	}
	return 0, 0, 0
}

// follows says whether a token stands right after a moment.
func (s *scanner) follows(i int) bool {
	n := len(s.out)
	return n > 0 && s.out[n-1].Kind == Moment && s.near(s.out[n-1].End, s.toks[i].at)
}

// beside says whether a bare hour stands beside another time of day: from 9 to 11:30, tomorrow from 9 to 11.
func (s *scanner) beside(i int) bool {
	for k := i - 3; k <= i+3; k++ {
		if t := s.tok(k); k != i && (t.kind == "clock" || t.low == "noon" || t.low == "midnight") {
			return true
		}
	}
	if s.follows(i) {
		return true
	}
	for k := i + 1; k <= i+4 && k < len(s.toks); k++ { // from 9 to 11 tomorrow
		if w := s.toks[k].low; w == "tomorrow" || w == "today" || w == "tonight" {
			return true
		}
	}
	return false
}

// join puts a day and a time of day that belong together into one moment:
// tomorrow at 4pm, 10:40 on 7 May. A time alone after a range's day takes that day.
func (s *scanner) join() {
	for i := 0; i+1 < len(s.out); i++ {
		a, b := &s.out[i], s.out[i+1]
		if a.Kind != Moment || b.Kind != Moment || a.Day == b.Day && a.Clock == b.Clock {
			continue
		}
		gap := strings.ToLower(strings.TrimSpace(s.text[a.End:b.At]))
		if !slices.Contains([]string{"", "at", "on", ",", ", at", "@", "the", "on the", ", on", "around", "about", "from", "in the"}, gap) || a.Day && b.Day || a.Clock && b.Clock {
			continue
		}
		day, clock := *a, b
		if !a.Day {
			day, clock = b, *a
		}
		a.Time, a.Day, a.Clock, a.End = at(day.Time, clock.Time.Hour(), clock.Time.Minute()), true, true, b.End
		a.Text = s.text[a.At:a.End]
		s.out = slices.Delete(s.out, i+1, i+2)
	}
	for i := 1; i < len(s.out); i++ { // from 9 to 11 tomorrow; tomorrow from 9 to 11
		a, b := &s.out[i-1], &s.out[i]
		if a.Kind != Moment || b.Kind != Moment || !s.near(a.End, b.At) {
			continue
		}
		switch {
		case a.Day && a.Clock && b.Clock && !b.Day:
			b.Time, b.Day = at(a.Time, b.Time.Hour(), b.Time.Minute()), true
		case a.Clock && !a.Day && b.Day && b.Clock:
			a.Time, a.Day = at(b.Time, a.Time.Hour(), a.Time.Minute()), true
		}
	}
}

var nowRE = regexp.MustCompile(`\b(\d{4}-\d{2}-\d{2})(T\d{2}:\d{2}(?::\d{2})?(?:\.\d+)?(?:Z|[+-]\d{2}:\d{2}))?`)

// Now finds the day, and with luck the hour and zone, in instructions such as
// "It is 2026-05-04T09:00:00+01:00."; the zero time where none is said.
func Now(instructions string) time.Time {
	found := nowRE.FindAllString(instructions, -1)
	for _, m := range found {
		for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
			if t, err := time.Parse(layout, m); err == nil {
				return t
			}
		}
	}
	for _, m := range found {
		if t, err := time.Parse("2006-01-02", m[:10]); err == nil {
			return t
		}
	}
	return time.Time{}
}
