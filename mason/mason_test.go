package mason_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/mason"
)

type stay struct {
	Vessel string  `json:"vessel" desc:"Name of the vessel as registered."`
	Nights int     `json:"nights" desc:"How long it stays" unit:"nights" min:"1" max:"60"`
	Season string  `json:"season" desc:"The tariff's season." enum:"summer,winter" default:"summer"`
	Day    *string `json:"day,omitempty" desc:"First day." format:"date"`
	Extras []extra `json:"extras,omitempty" desc:"What else is wanted."`
	Codes  []int   `json:"codes,omitempty" desc:"Codes." enum:""`
}

type extra struct {
	Name string `json:"name" desc:"What it is." pattern:"^[a-z]+$"`
}

type bill struct {
	Total float64 `json:"total" desc:"What it costs" unit:"EUR"`
	For   string  `json:"for"`
}

func price(ctx context.Context, s stay) (bill, error) {
	mason.Log(ctx, "%d nights", s.Nights)
	switch s.Vessel {
	case "Flying Dutchman":
		return bill{}, mason.Refuse("%s has never paid", s.Vessel)
	case "Wreck":
		return bill{}, errors.New("it sank")
	}
	rate := map[string]float64{"summer": 2, "winter": 1}[s.Season]
	return bill{Total: rate * float64(s.Nights), For: s.Vessel}, nil
}

const files = `
project: quay
start: desk
models: {m: {speaks: understudy}}
---
agent: desk
summary: Tells prices.
prompt: You tell prices. It is {{ now }}.
tools: [price_of]
`

func run(t *testing.T, args ...string) (int, string, string) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(files), 0o600))
	var out, errs bytes.Buffer
	tool := mason.Tool("price_of", "Tell what a stay of a vessel costs when somebody asks.", price, mason.Gate("args.nights > 30", "May the {{ args.vessel }} stay so long?"), mason.Resend("safe"), mason.Timeout(2*time.Second),
		mason.Stub("args.vessel == 'Petrel'", map[string]any{"total": 7, "for": "Petrel"}),
		mason.StubText(`{when: "args.vessel == 'Gannet'", fails: "The book is shut.", after: 5ms}`), mason.Says("{{ result.total }} EUR for the {{ result.for }}."), mason.ReasonFirst())
	code := mason.Run(t.Context(), append(args, "-dir", dir), strings.NewReader(""), &out, &errs, tool)
	return code, out.String(), errs.String()
}

func TestAFunctionIsAToolWithAContractFromItsTypes(t *testing.T) {
	code, out, errs := run(t, "tools", "price_of")
	require.Zero(t, code, errs)
	for _, want := range []string{`"description": "How long it stays, in nights."`, `"minimum": 1`, `"maximum": 60`, `"default": "summer"`, `"format": "date"`, `"pattern": "^[a-z]+$"`, "\"required\": [\n    \"vessel\",\n    \"nights\"\n  ]", "by       go, 2 stubs", "gate     args.nights > 30", `"description": "What it costs, in EUR."`} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, out, "file     mason_test.go:", "where it is made")
	assert.NotContains(t, out, `"null"`, "what may be omitted is omitted, not null")
}

func TestItIsCalledWithItsTypes(t *testing.T) {
	code, out, _ := run(t, "try", "price_of", "-args", `{"vessel":"Gannet","nights":"3"}`)
	assert.Zero(t, code)
	assert.Contains(t, out, "words    6 EUR for the Gannet.")
	assert.Contains(t, out, "log      3 nights")
	code, out, _ = run(t, "try", "price_of", "-args", `{"vessel":"Flying Dutchman","nights":3}`)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "Flying Dutchman has never paid (refused, not done)")
	_, out, _ = run(t, "try", "price_of", "-args", `{"vessel":"Wreck","nights":3}`)
	assert.Contains(t, out, "it sank (go, unknown)")
	_, out, _ = run(t, "try", "price_of", "-stub", "-args", `{"vessel":"Petrel","nights":3}`)
	assert.Contains(t, out, "7 EUR for the Petrel.")
	_, out, _ = run(t, "try", "price_of", "-args", `{"vessel":"Gannet","nights":0}`)
	assert.Contains(t, out, "nights must be at least 1, not 0")
	code, _, errs := run(t, "try", "price_of", "-keep", "-args", `{"vessel":"Gannet","nights":3}`)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "no stub was made: the tool price_of is a function of your program, so its stubs are in its mason.Tool; put this in by hand: mason.StubText(`{when: \"args.nights == 3 && args.season == 'summer' && args.vessel == 'Gannet'\", returns: {\"for\":\"Gannet\",\"total\":6}}`)")
	_, out, _ = run(t, "try", "price_of", "-stub", "-args", `{"vessel":"Gannet","nights":3}`)
	assert.Contains(t, out, "The book is shut. (refused, not done)")
}

func TestCheckJudgesAFunctionWhereItIsMade(t *testing.T) {
	type vague struct {
		Day string `json:"day"`
	}
	check := func(options ...mason.Option) string {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(strings.ReplaceAll(files, "price_of", "look")), 0o600))
		var out, errs bytes.Buffer
		mason.Run(t.Context(), []string{"check", dir}, strings.NewReader(""), &out, &errs,
			mason.Tool("look", "Look a day up when somebody asks for it.", func(context.Context, vague) (int, error) { return 0, nil }, options...))
		return out.String() + errs.String()
	}
	_, _, line, _ := runtime.Caller(0)
	at := "mason_test.go:" + strconv.Itoa(line-3) + ": "
	out := check()
	assert.Contains(t, out, at+`warning: "look" writes, with neither gate: nor resend:`)
	assert.Contains(t, out, at+`warning: the parameter "day" has no description`)
	assert.Contains(t, out, "3 warnings")
	out = check(mason.Accept("gate", "it only looks"), mason.Accept("description", "a day is a day"), mason.Accept("unit", "no more"))
	assert.NotContains(t, out, "gate")
	assert.NotContains(t, out, "no description")
	assert.Contains(t, out, at+`warning: "day" looks like a date or time, but has no format`)
	assert.Contains(t, out, at+`hint: there is no "unit" to accept here any more`)
	assert.Panics(t, func() { mason.Accept("gait", "a word") })
	assert.Panics(t, func() { mason.Accept("gate", " ") })
}

func TestWhatCannotBeAContractPanicsAtTheStart(t *testing.T) {
	assert.PanicsWithValue(t, "mason: the tool n: its input must be a struct", func() {
		mason.Tool("n", "N.", func(context.Context, int) (int, error) { return 0, nil })
	})
	assert.Panics(t, func() { mason.StubText("when: {") })
	assert.Panics(t, func() { mason.StubText("a text") })
	type bad struct {
		N int `json:"n" default:"many"`
	}
	assert.Panics(t, func() { mason.Tool("b", "B.", func(context.Context, bad) (int, error) { return 0, nil }) })
}
