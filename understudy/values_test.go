package understudy

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestMoments(t *testing.T) {
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.FixedZone("", 3600)) // a Monday
	for text, want := range map[string][]string{
		"on 2026-06-01":                                {"2026-06-01"},
		"from 6 May 14:00 to 8 May 09:00":              {"2026-05-06T14:00", "2026-05-08T09:00"},
		"from May 6 at 2 pm until the 8th of May":      {"2026-05-06T14:00", "2026-05-08"},
		"tomorrow noon":                                {"2026-05-05T12:00"},
		"Friday":                                       {"2026-05-08"},
		"next Monday":                                  {"2026-05-11"},
		"today at 17:30 till Sunday evening":           {"2026-05-04T17:30", "2026-05-10T18:00"},
		"2 April":                                      {"2027-04-02"}, // it is past: the next there is
		"30 February":                                  {},
		"1 June 2028 midnight":                         {"2028-06-01T00:00"},
		"the Monday Club has 12 members, no date":      {"2026-05-11"},
		"between 2026-05-06T14:00 and 2026-05-07 8:00": {"2026-05-06T14:00", "2026-05-07"},
	} {
		got := []string{}
		for _, m := range moments(text, now) {
			if m.hasTime {
				got = append(got, m.time.Format("2006-01-02T15:04"))
			} else {
				got = append(got, m.time.Format("2006-01-02"))
			}
		}
		assert.Equal(t, want, got, text)
	}
	assert.Empty(t, moments("tomorrow", time.Time{}), "who knows no day reckons none")
}

func TestToday(t *testing.T) {
	assert.Equal(t, "2026-05-04T09:00:00+01:00", today("It is 2026-05-04T09:00:00+01:00. The register is of 2020-01-01.").Format(time.RFC3339))
	assert.Equal(t, "2026-05-04", today("Today is 2026-05-04.").Format("2006-01-02"))
	assert.True(t, today("No day.").IsZero())
}

func TestNumbers(t *testing.T) {
	type n struct {
		value float64
		unit  string
	}
	for text, want := range map[string][]n{
		"46 m long, draws 5.2 metres":      {{46, "m"}, {5.2, "m"}},
		"two nights, 3 days":               {{2, "night"}, {3, "day"}},
		"berth C4 from 6 May at 14:00":     {},
		"pay 12.50 euros or 3 %":           {{12.5, "eur"}, {3, "%"}},
		"a booking B-1041 for 20 t of cod": {{20, "t"}},
	} {
		got := []n{}
		for _, x := range numbers(text) {
			got = append(got, n{x.value, x.unit})
		}
		assert.Equal(t, want, got, text)
	}
}

func TestProperNames(t *testing.T) {
	for text, want := range map[string][]string{
		"Reserve a berth for the Marrow Light from Friday": {"Marrow Light"},
		`Is the "old pier" open?`:                          {"old pier"},
		"When is the Queen of the North due?":              {"Queen of the North"},
		"What about Monday":                                nil,
		"the Gannet's dues":                                {"Gannet"},
	} {
		assert.Equal(t, want, properNames(text), text)
	}
}

func TestStemsMeet(t *testing.T) {
	for _, pair := range [][2]string{{"berths", "berth"}, {"drawing", "draws"}, {"reserved", "reserve"}, {"vessels", "vessel"}, {"bookings", "booking"}, {"painted", "painting"}} {
		assert.Equal(t, stem(pair[0]), stem(pair[1]), pair)
	}
	assert.NotEqual(t, stem("berth"), stem("birth"))
}

func TestClauses(t *testing.T) {
	assert.Equal(t, []string{"Find a berth for 38 m", "me what it costs"}, clauses("Find a berth for 38 m and tell me what it costs"))
	assert.Equal(t, []string{"Look up the Petrel", "reserve C4"}, clauses("Look up the Petrel, then reserve C4."))
	assert.Equal(t, []string{"salt and pepper"}, clauses("salt and pepper"))
}

func TestFields(t *testing.T) {
	v, ok := field([]any{map[string]any{"berth": "C4"}, map[string]any{"berth": "D2"}}, "berth")
	assert.True(t, ok)
	assert.Equal(t, "C4", v, "the first row is the best")
	v, _ = field(map[string]any{"booking": map[string]any{"id": "B-1"}}, "id")
	assert.Equal(t, "B-1", v)
	_, ok = field("words", "id")
	assert.False(t, ok)
	assert.Nil(t, read("just words"))
	assert.Nil(t, read("12"), "a bare figure is words")
}
