package reading_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stonebaton.example/core/reading"
)

var now = time.Date(2026, 5, 4, 9, 0, 0, 0, time.FixedZone("", 3600)) // a Monday

func TestWordsOfOneRootMeet(t *testing.T) {
	for _, pair := range [][2]string{{"berths", "berth"}, {"drawing", "draws"}, {"reserved", "reserve"}, {"vessels", "vessel"}, {"bookings", "booking"}, {"painted", "painting"}, {"loaves", "loaf"},
		{"ferries", "ferry"}, {"cities", "city"}, {"written", "writer"}, {"feet", "foot"}, {"teaches", "teacher"}, {"Wren's", "wren"}} {
		assert.Equal(t, reading.Root(pair[0]), reading.Root(pair[1]), pair)
	}
	for _, pair := range [][2]string{{"berth", "birth"}, {"day", "date"}, {"glass", "gla"}, {"status", "statu"}} {
		assert.NotEqual(t, reading.Root(pair[0]), reading.Root(pair[1]), pair)
	}
	assert.Equal(t, []string{"cancel", "order", "bk-118"}, reading.Roots("Please cancel my order BK-118."))
}

func TestTheThesaurusKnowsWordsAndPhrases(t *testing.T) {
	root := reading.Root
	assert.True(t, reading.Akin(root("price"), root("costs")))
	assert.True(t, reading.Akin(root("borrow"), root("lend")))
	assert.False(t, reading.Akin(root("price"), root("berth")))
	assert.Contains(t, reading.Phrases(reading.Words("How much is a rye loaf?")), "how_much_is")
	assert.Contains(t, reading.Phrases(reading.Words("put me down for two")), "put_…_down", "a word may stand between")
	assert.Empty(t, reading.Phrases(reading.Words("a quiet berth")))
}

// mentions shows what a text mentions, in brief.
func mentions(text string) []string {
	out := []string{}
	for _, m := range reading.Mentions(text, now) {
		s := string(m.Kind) + " " + m.Text
		switch m.Kind {
		case reading.Figure:
			s = strings.TrimSpace(fmt.Sprintf("%g %s", m.Number, m.Unit))
		case reading.Moment:
			switch {
			case m.Day && m.Clock:
				s = m.Time.Format("2006-01-02 15:04")
			case m.Day:
				s = m.Time.Format("2006-01-02")
			default:
				s = m.Time.Format("15:04")
			}
		case reading.Code, reading.Name, reading.Quote, reading.Mail, reading.Link, reading.Chunk:
		}
		if m.Side != reading.Alone {
			s += " " + string(m.Side)
		}
		out = append(out, s)
	}
	return out
}

func TestMomentsAreRead(t *testing.T) {
	for text, want := range map[string][]string{
		"on 2026-06-01":                           {"2026-06-01"},
		"from 6 May 14:00 to 8 May 09:00":         {"2026-05-06 14:00 first", "2026-05-08 09:00 last"},
		"from May 6 at 2 pm until the 8th of May": {"2026-05-06 14:00 first", "2026-05-08 last"},
		"tomorrow noon":                           {"2026-05-05 12:00"},
		"Friday":                                  {"2026-05-08"},
		"next Monday":                             {"2026-05-11"},
		"last Friday":                             {"2026-05-01"},
		"today at 17:30 till Sunday":              {"2026-05-04 17:30 first", "2026-05-10 last"},
		"2 April":                                 {"2027-04-02"}, // it is past: the next there is
		"30 February":                             {"30"},
		"1 June 2028 midnight":                    {"2028-06-01 00:00"},
		"the day after tomorrow":                  {"2026-05-06"},
		"yesterday":                               {"2026-05-03"},
		"this weekend":                            {"2026-05-09"},
		"on the 12th":                             {"2026-05-12"},
		"on 7 and 8 May":                          {"2026-05-07", "2026-05-08"},
		"half past six":                           {"06:30"},
		"quarter to 8 in the evening":             {"19:45"},
		"at 7pm on Friday":                        {"2026-05-08 19:00"},
		"tomorrow 10 to 11":                       {"2026-05-05 10:00 first", "2026-05-05 11:00 last"},
		"from 9 to 11 tomorrow":                   {"2026-05-05 09:00 first", "2026-05-05 11:00 last"},
		"between 2026-05-06T14:00 and 2026-05-07 8:00": {"2026-05-06 14:00 first", "2026-05-07 08:00 last"},
		"you may sit, and march on":                    {},
		"sat down in the sun":                          {},
	} {
		assert.Equal(t, want, mentions(text), text)
	}
	assert.Empty(t, reading.Mentions("tomorrow", time.Time{}), "who knows no day works none out")
}

func TestFiguresAreReadWithTheirUnits(t *testing.T) {
	for text, want := range map[string][]string{
		"46 m long, draws 5.2 metres":        {"46 m", "5.2 m"},
		"two nights, 3 days":                 {"2 night", "3 day"},
		"pay 12.50 euros or 3 %":             {"12.5 eur", "3 percent"},
		"€5 and $1,200.50":                   {"5 eur", "1200.5 usd"},
		"5,2 m":                              {"5.2 m"},
		"a quarter of an hour":               {"0.25 h"},
		"half an hour":                       {"0.5 h"},
		"an hour and a half":                 {"1.5 h"},
		"for an hour and a half":             {"1.5 h"},
		"half a kilo of flour":               {"0.5 kg"},
		"half of it":                         {"50 percent"},
		"a dozen eggs":                       {"12"},
		"twenty-one people":                  {"21"},
		"three hundred bricks":               {"300"},
		"500g":                               {"500 g"},
		"from 1850 to 1859":                  {"1850 first", "1859 last"},
		"between 1860 and 1870":              {"1860 first", "1870 last"},
		"the 1990s":                          {"1990 first", "1999 last"},
		"under 500 euros, at least 80 cm":    {"500 eur last", "80 cm first"},
		"a berth at the quay once a day":     {},
		"KX-12, HM/1867/12, 4B, QF7 and #41": {"code KX-12", "code HM/1867/12", "code 4B", "code QF7", "code 41"},
	} {
		assert.Equal(t, want, mentions(text), text)
	}
	for _, c := range []struct {
		v        float64
		from, to string
		want     float64
	}{{1.5, "h", "min", 90}, {800, "g", "kg", 0.8}, {1, "m", "cm", 100}, {2, "week", "day", 14}, {3, "km", "m", 3000}} {
		got, ok := reading.Convert(c.v, c.from, c.to)
		assert.True(t, ok)
		assert.InDelta(t, c.want, got, 1e-9)
	}
	_, ok := reading.Convert(1, "kg", "m")
	assert.False(t, ok)
}

func TestNamesQuotesAndAddressesAreRead(t *testing.T) {
	for text, want := range map[string][]string{
		"Reserve a berth for the Marrow Light from Friday": {"name Marrow Light", "2026-05-08 first"},
		`Is the "old pier" open?`:                          {"quote old pier"},
		"When is the Queen of the North due?":              {"name Queen of the North"},
		"What about Monday":                                {"2026-05-11"},
		"the Gannet's dues":                                {"name Gannet"},
		"Sorry, I meant it":                                {},
		"Sound the horn":                                   {},
		"Waive 600 EUR for the Gannet":                     {"600 eur", "name Gannet"},
		"Trains from Lea to Vale Cross":                    {"name Lea", "name Vale Cross"},
		"mail pia@office.example that it is done":          {"mail pia@office.example"},
		"see https://x.example/a.":                         {"link https://x.example/a"},
		"Dr Aske and Mr Quist":                             {"name Aske", "name Quist"},
	} {
		assert.Equal(t, want, mentions(text), text)
	}
	m := reading.Mentions("give Wren's turn to Odd", now)
	require.Len(t, m, 2)
	assert.True(t, m[0].Owner)
	assert.Equal(t, "to", m[1].Lead)
}

func TestClausesAreCut(t *testing.T) {
	show := func(text string) []string {
		var out []string
		for _, c := range reading.Clauses(text) {
			s := string(c.Mood) + ": " + c.Text
			if c.Negated {
				s = "not " + s
			}
			if c.If != "" {
				s += map[bool]string{false: " | if ", true: " | unless "}[c.Unless] + c.If
			}
			out = append(out, s)
		}
		return out
	}
	for text, want := range map[string][]string{
		"Find a berth for 38 m and tell me what it costs":      {"bidding: Find a berth for 38 m", "asking: tell me what it costs"},
		"Look up the Petrel, then reserve C4.":                 {"bidding: Look up the Petrel", "bidding: reserve C4"},
		"salt and pepper":                                      {"telling: salt and pepper"},
		"beans and water":                                      {"telling: beans and water"},
		"restart KX-13 only if it is not running":              {"bidding: restart KX-13 | if it is not running"},
		"if the bar is fit, reserve C4 and mail me the number": {"bidding: reserve C4 | if the bar is fit", "bidding: mail me the number | if the bar is fit"},
		"if TR-9 is below 200 order 100":                       {"bidding: order 100 | if TR-9 is below 200"},
		"cancel CB-4 unless it is paid":                        {"bidding: cancel CB-4 | unless it is paid"},
		"tell me if it is open":                                {"asking: tell me if it is open"},
		"don't cancel BK-12, just tell me how far it is":       {"not bidding: don't cancel BK-12", "asking: just tell me how far it is"},
		"I only want to know what it costs":                    {"asking: I only want to know what it costs"},
		"Can you book me in?":                                  {"bidding: Can you book me in"},
		"is it open?":                                          {"asking: is it open"},
		"I lost my umbrella":                                   {"telling: I lost my umbrella"},
	} {
		assert.Equal(t, want, show(text), text)
	}
	assert.Equal(t, "how many", reading.Clauses("how many are left")[0].Question)
	assert.Equal(t, "whether", reading.Clauses("are any left?")[0].Question)
	assert.Empty(t, reading.Clauses(" .. ! "))
}

func TestWhatIsPassedOnComesAfterAMarker(t *testing.T) {
	for text, want := range map[string]string{
		"add a note: ink is fading":      "ink is fading",
		"mail Pia that lunch is ready":   "lunch is ready",
		"a note saying \"water damage\"": "water damage",
		"what does that cost":            "",
		"reserve C4":                     "",
	} {
		got, _, ok := reading.After(text, 0, len(text))
		assert.Equal(t, want != "", ok, text)
		assert.Equal(t, want, got, text)
	}
}

func TestManners(t *testing.T) {
	for text, holds := range map[string]func(reading.Manners) bool{
		"Hello!":                      func(m reading.Manners) bool { return m.Greets && m.Rest == "" },
		"good morning, is it open?":   func(m reading.Manners) bool { return m.Greets && m.Rest == "is it open?" },
		"Thanks a lot":                func(m reading.Manners) bool { return m.Thanks && m.Rest == "" },
		"thanks, and now cancel BK-1": func(m reading.Manners) bool { return m.Thanks && m.Rest == "and now cancel BK-1" },
		"that's all, bye":             func(m reading.Manners) bool { return !m.Yes },
		"yes please":                  func(m reading.Manners) bool { return m.Yes && !m.No },
		"no thanks":                   func(m reading.Manners) bool { return m.No && !m.Yes },
		"Sorry, I meant Saturday.":    func(m reading.Manners) bool { return m.Amends },
		"on Monday I mean":            func(m reading.Manners) bool { return m.Amends },
		"and for 5 nights?":           func(m reading.Manners) bool { return m.Adds && !m.Amends },
		"What can you do?":            func(m reading.Manners) bool { return m.Ables },
		"which tools do you have":     func(m reading.Manners) bool { return m.Ables },
		"what can you tell me of C4":  func(m reading.Manners) bool { return !m.Ables },
		"Look up the Petrel":          func(m reading.Manners) bool { return m == reading.Manners{Rest: "Look up the Petrel"} },
	} {
		m := reading.ReadManners(text)
		assert.True(t, holds(m), "%s: %+v", text, m)
	}
	assert.True(t, reading.RefersBack("reserve it then"))
	assert.False(t, reading.RefersBack("reserve C4"))
}

func TestOrdinals(t *testing.T) {
	for text, want := range map[string]int{"reserve the second one": 1, "the last please": 4, "take the first": 0} {
		k, ok := reading.Ordinal(text, 5)
		assert.True(t, ok, text)
		assert.Equal(t, want, k, text)
	}
	for _, text := range []string{"the first class", "the ninth", "first things", "the seventh one"} {
		_, ok := reading.Ordinal(text, 5)
		assert.False(t, ok, text)
	}
}

func TestTheDayIsReadFromInstructions(t *testing.T) {
	assert.Equal(t, "2026-05-04T09:00:00+01:00", reading.Now("It is 2026-05-04T09:00:00+01:00. The register is of 2020-01-01.").Format(time.RFC3339))
	assert.Equal(t, "2026-05-04", reading.Now("Today is 2026-05-04.").Format("2006-01-02"))
	assert.True(t, reading.Now("No day.").IsZero())
}

// Whatever is said, reading ends, what it finds lies in the text, and nothing
// that it finds overlaps.
func TestAnyTextCanBeRead(t *testing.T) {
	words := rapid.SampledFrom([]string{"the", "KX-12", "5.2", "m", "on", "Friday", "Ida", "Holm's", ",", ".", "?", "if", "unless", "and", "then", "not", "\"", "“", "half", "a", "an", "hour", "8", "May", "14:00", "pm", "1850-1859", "é", "日本", "€", "#", "@", "reserve", "what", "\n", "-", "x@y.z", "of", "–", "'s", "°", "%", "00:99", "99 May"})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(words, 0, 14).Draw(t, "words"), rapid.SampledFrom([]string{" ", ""}).Draw(t, "between"))
		end := 0
		for _, m := range reading.Mentions(text, now) {
			if m.At < end || m.End < m.At || m.End > len(text) {
				t.Fatalf("%q: %+v", text, m)
			}
			end = m.End
		}
		for _, c := range reading.Clauses(text) {
			if c.Text != text[c.At:c.End] {
				t.Fatalf("%q: %+v", text, c)
			}
		}
		_ = reading.ReadManners(text)
		_ = reading.Chunks(text, 0, len(text), nil, func(reading.Word) bool { return false })
	})
}
