package project_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

const everyMistake = `
tool: tide_a
summary: Tide data.
effect: read
input:
  type: object
  properties:
    day: {type: string, description: The day.}
    draught: {type: number, description: What it draws.}
    place: {type: string}
    mode: {enum: [a, b]}
    berths: {type: array, description: Codes., items: {type: object, properties: {inner: {type: object, description: x, properties: {more: {type: object, description: x, properties: {deep: {type: object, description: x, properties: {est: {type: string, description: x}}}}}}}}}}
stubs: [{returns: high}]
---
tool: tide_b
summary: Work out which berth suits a vessel of a length when one is asked for.
effect: read
says: {done: "{{ result.berth }}"}
sets: {booking: "=result.id"}
stubs: [{returns: {berth: C4, id: B-1}}]
---
tool: fits
summary: Work out which berths suit a vessel of this length when asked.
effect: read
input: {type: object, properties: {p1: {type: string, description: x}, p2: {type: string, description: x}, p3: {type: string, description: x}, p4: {type: string, description: x}, p5: {type: string, description: x}, p6: {type: string, description: x}, p7: {type: string, description: x},
  p8: {type: string, description: x}, p9: {type: string, description: x}, p10: {type: string, description: x}, p11: {type: string, description: x}, p12: {type: string, description: x}, berth_a: {type: string, description: x}}}
stubs: [{returns: high}]
---
tool: burn
summary: Burn the old charts when somebody says so.
program: {run: [burn, --now, --all, "to the last piece", "api_key: Zq8Lm2Xv9Rt4Kp7Wn3Bd6Yf1"]}
---
tool: clash
summary: Show what a schema that contradicts itself looks like, when it is asked for.
input: {type: object, required: [a], properties: {b: {type: integer, minimum: 5, maximum: 1, description: A count.}}}
stubs: [{returns: 1}]
resend: safe
`

func checked(t *testing.T, more string) []string {
	text := strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [look, tide, reserve, pay, toot, tide_a, tide_b, fits, burn, clash]", 1)
	_, probs := compile(map[string]string{project.Main: text, "t.yaml": more}, nil)
	return probs
}

func TestEveryMistakeIsTold(t *testing.T) {
	probs := checked(t, everyMistake)
	all := strings.Join(probs, "\n")
	for _, want := range []string{
		`hint t.yaml:3:10 the summary of "tide_a" says what it is, but not when to use it | Say when to use it`,
		`warning t.yaml:8:10 "day" looks like a date or time, but has no format | Add format: date`,
		`warning t.yaml:9:14 the number "draught" has no unit | Name it in the description`,
		`warning t.yaml:10:12 the parameter "place" has no description | Say what it is`,
		`warning t.yaml:11:11 the list of values "mode" has no description`,
		`warning t.yaml:6:3 the input of "tide_a" is 5 objects deep | Flatten it`,
		`warning t.yaml:15:7 the tools "tide_a" and "tide_b" of desk differ by a letter`,
		`warning t.yaml:18:14 says.done reads a field of the result of "tide_b", which has no schema`,
		`warning t.yaml:19:17 sets.booking reads a field of the result of "tide_b", which has no schema`,
		`"fits" and "tide_b" of desk will be confused: both say asked, berths, length, out, suit, vessel, work`,
		`hint t.yaml:25:8 the input of "fits" has 13 parameters`,
		`warning t.yaml:29:7 "burn" writes, with neither gate: nor resend:`,
		`error t.yaml:31:59 this looks like a key | Name it as ${secret:NAME}`,
		`error t.yaml:35:54 b contradicts itself: its least value is above its greatest`,
		`"a" is required, but no property of that name is allowed`,
	} {
		assert.True(t, strings.Contains(all, want), want+"\n"+all)
	}
	for _, p := range probs {
		assert.Contains(t, p, " | ", "each has a remedy")
	}
}

func TestWhatIsAcceptedInPlaceIsSilent(t *testing.T) {
	const tool = `
tool: bell
summary: Ring the bell when somebody asks for it.
effect: read
input:
  type: object
  properties:
    # accept unit: strokes are counted by ear
    strokes: {type: number, description: What is rung.}
    day: {type: string, description: The day.} # accept format: a name such as Friday
stubs: [{returns: rung}]
`
	silent := func(text string) string {
		_, probs := compile(map[string]string{project.Main: strings.Replace(coretest.Main, "tools: [look, reserve]", "tools: [look, reserve, bell]", 1), "t.yaml": text}, nil)
		return strings.Join(probs, "\n")
	}
	assert.Empty(t, silent(tool))
	assert.Contains(t, silent(strings.Replace(tool, "accept unit: strokes are counted by ear", "accept unit:", 1)), "error t.yaml:8:5 what is accepted needs a reason")
	assert.Contains(t, silent(strings.Replace(tool, "accept unit", "accept unti", 1)), `there is nothing called "unti" to accept. Did you mean "unit"?`)
	assert.Contains(t, silent(strings.Replace(tool, "type: number, description: What is rung.", "type: string, description: What is rung.", 1)), `hint t.yaml:8:1 there is no "unit" to accept here any more`)
	assert.Contains(t, silent(strings.Replace(tool, "accept unit", "accept format", 1)), `has no unit`, "another code accepts nothing")
}

func TestTheDemoHasNothingToFix(t *testing.T) {
	for _, s := range []string{"Look a vessel up by its name; gives its length.", "List the free berths that fit a vessel.", "Reserve a berth for one call of a vessel."} {
		assert.Empty(t, project.Judge("x", s, map[string]any{"type": "object"}))
	}
}

func stubbed(t *testing.T, files map[string]string, tool string, d project.StubDraft) (project.Edit, *project.Project) {
	t.Helper()
	src := project.Source{Files: files, Env: map[string]string{}}
	p, probs := coretest.Reader.Compile(src)
	require.NotNil(t, p, "%v", probs)
	e, err := project.AddStub(src, p.Tools[tool], d)
	require.NoError(t, err)
	files[e.File] = e.Body
	p, probs = coretest.Reader.Compile(src)
	require.NotNil(t, p, "%v\n%s", probs, e.Body)
	return e, p
}

func TestToolsThatAreAllAlikeAreToldInFiftyLines(t *testing.T) {
	var names, docs []string
	for i := range 40 {
		names = append(names, fmt.Sprintf("tool_%d", i))
		docs = append(docs, fmt.Sprintf("tool: tool_%d\nsummary: Look the berth of a vessel up when it is asked for.\neffect: read\nprogram: {run: [a1]}\n", i))
	}
	agent := "agent: third\nsummary: Has many tools.\nprompt: x\ntools: [" + strings.Join(names, ", ") + "]\n"
	_, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main, "a.yaml": agent, "t.yaml": strings.Join(docs, "---\n")}})
	n, more := 0, ""
	for _, p := range probs {
		if p.Code == "alike" {
			n++
		} else if p.File == project.Main {
			more += p.Say
		}
	}
	assert.Equal(t, 50, n)
	assert.Equal(t, "730 more pairs of tools will be confused", more)
}

func TestALongLineIsShownInPart(t *testing.T) {
	_, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main, "a.yaml": "agent: third\nsummary: Has many tools.\nprompt: x\ntools: [" + strings.Repeat("größer, ", 1000) + "none]\n"}})
	at := slices.IndexFunc(probs, func(p project.Problem) bool { return p.Line == 4 })
	require.GreaterOrEqual(t, at, 0)
	assert.True(t, strings.HasPrefix(probs[at].Text, "tools: [größer, "))
	assert.True(t, strings.HasSuffix(probs[at].Text, "…"))
	assert.LessOrEqual(t, len(probs[at].Text), 303)
}

func TestManyNamesThatAreAlikeAreToldInAFewLines(t *testing.T) {
	props := map[string]any{}
	for a := 'a'; a <= 'z'; a++ {
		for b := 'a'; b <= 'z'; b++ {
			props[fmt.Sprintf("berth_%c%c", a, b)] = map[string]any{"type": "string", "description": "A code."}
		}
		props[fmt.Sprintf("line%d", a)] = map[string]any{"type": "string", "description": "A line."}
	}
	var said []string
	for _, r := range project.Judge("x", "Do it when asked to.", map[string]any{"type": "object", "properties": props}) {
		if r.Code == "names" {
			said = append(said, r.Say)
		}
	}
	assert.Len(t, said, 6, "numbered ones are no pairs")
	assert.Equal(t, `the parameters "berth_aa" and "berth_ab" differ by a letter`, said[0])
	assert.Equal(t, "at least 995 more pairs of parameters differ by a letter", said[5])
}

func TestAStubIsPutBeforeTheOthersAndAllElseStays(t *testing.T) {
	const head = "# my tools\ntool: bell # the bell\nsummary: Ring the bell when somebody asks for it.\neffect: read\ninput: {type: object, required: [n], properties: {n: {type: number, description: Strokes counted.}, who: {type: string, description: A name.}, at: {type: object, description: x}}}\n"
	draft := project.StubDraft{Args: map[string]any{"n": 3.0, "who": "O'Hara", "at": map[string]any{"x": 1.0}}, Returns: map[string]any{"say": "={{ ding }}", "is": "=x"}}
	const item = `- {when: "has(args.at) && dyn(args.at) == dyn({'x': 1}) && args.n == 3.0 && has(args.who) && args.who == 'O\\'Hara'", returns: {"is":"==x","say":"='={{ ding }}'"}}`
	for name, c := range map[string]struct{ tail, want string }{
		"none":  {"program: {run: [a1]}\n", "program: {run: [a1]}\nstubs:\n  " + item + "\n"},
		"flow":  {"stubs: [{returns: old}]\n", "stubs: [" + item[2:] + ", {returns: old}]\n"},
		"empty": {"stubs: []\nprogram: {run: [a1]}\n", "stubs: [" + item[2:] + "]\nprogram: {run: [a1]}\n"},
		"block": {"stubs:\n    # one\n    - {returns: old}\n", "stubs:\n    # one\n    " + item + "\n    - {returns: old}\n"},
		"two":   {"program: {run: [a1]}\n\n---\ntool: other\nsummary: Do the other thing when asked.\neffect: read\nprogram: {run: [a2]}\n", "program: {run: [a1]}\nstubs:\n  " + item + "\n\n---\ntool: other"},
	} {
		e, p := stubbed(t, map[string]string{project.Main: coretest.Main, "bell.yaml": head + c.tail}, "bell", draft)
		assert.True(t, strings.HasPrefix(e.Body, head+c.want), "%s\n%s", name, e.Body)
		tool := p.Tools["bell"]
		vars := map[string]any{"args": map[string]any{"n": 3.0, "who": "O'Hara", "at": map[string]any{"x": 1.0}}}
		yes, err := tool.Stubs[0].When.True(vars)
		require.NoError(t, err, name)
		assert.True(t, yes, name)
		v, err := tool.Stubs[0].Returns.Fill(vars)
		require.NoError(t, err)
		assert.Equal(t, map[string]any{"say": "={{ ding }}", "is": "=x"}, v, "texts stay texts")
		no, err := tool.Stubs[0].When.True(map[string]any{"args": map[string]any{"n": 4.0}})
		require.NoError(t, err)
		assert.False(t, no)
	}
	_, p := stubbed(t, map[string]string{project.Main: coretest.Main, "bell.yaml": head + "program: {run: [a1]}\n"}, "bell", project.StubDraft{Fails: "no {{ bell }}", Status: 409, After: "2s"})
	say, err := p.Tools["bell"].Stubs[0].Fails.Fill(nil)
	require.NoError(t, err)
	assert.Equal(t, "no { { bell }}", say)
	assert.Equal(t, 409, p.Tools["bell"].Stubs[0].Status)

	for _, c := range []struct {
		draft project.StubDraft
		want  string
	}{
		{project.StubDraft{Class: "refused", Outcome: ledger.NotDone}, `fails: "no"}`},
		{project.StubDraft{Class: "timeout", Outcome: ledger.Unknown}, `fails: {say: "no", class: "timeout", outcome: unknown}}`},
		{project.StubDraft{Class: "server", Outcome: ledger.Unknown, Status: 503}, `fails: {say: "no", status: 503}}`},
		{project.StubDraft{Class: "rate", Outcome: ledger.NotDone, Status: 429}, `fails: {say: "no", status: 429}}`},
		{project.StubDraft{Class: "command", Outcome: ledger.Unknown, Status: 3}, `fails: {say: "no", status: 3, class: "command", outcome: unknown}}`},
	} {
		c.draft.Fails = "no"
		e, p := stubbed(t, map[string]string{project.Main: coretest.Main, "bell.yaml": head + "program: {run: [a1]}\n"}, "bell", c.draft)
		assert.Contains(t, e.Text, c.want)
		got := p.Tools["bell"].Stubs[0]
		assert.Equal(t, []any{c.draft.Class, c.draft.Outcome, c.draft.Status}, []any{got.Class, got.Outcome, got.Status}, "it fails as it did")
	}
}

func TestAStubHasToFitTheContract(t *testing.T) {
	_, probs := compile(map[string]string{project.Main: strings.Replace(coretest.Main, "stubs: [{returns: {length_m: 46}}]", "stubs: [{returns: {length_m: long}}]", 1)}, nil)
	assert.Contains(t, strings.Join(probs, "\n"), "the stub does not fit the output schema: length_m must be a number, not a string, such as 46.5")
}

func offers() map[string]project.Catalogue {
	return map[string]project.Catalogue{"st": {From: "station 1", Missing: map[string]string{"reprot": ` Did you mean "report"?`}, Tools: []project.Offer{
		{Name: "getReport", Tool: "get_report", Summary: "Tell the state of the bar on a day when asked.", Says: "read", Input: map[string]any{"type": "object", "properties": map[string]any{"day": map[string]any{"type": "string", "format": "date", "description": "The day."}}}},
		{Name: "broken", Tool: "broken", Fault: "its input is not an object"}}}}
}

func source(text string) (*project.Project, []string) {
	p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": text}, Env: map[string]string{}, Catalogues: offers()})
	return p, said(probs)
}

func said(probs []project.Problem) []string {
	var out []string
	for _, x := range probs {
		out = append(out, x.Say+" | "+x.Remedy)
	}
	return out
}

func TestOnlyWhatIsTakenComesInAndItsEffectIsOursToSay(t *testing.T) {
	p, probs := source("source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\ntake: [getReport]\nprefix: sig_\ntune:\n  getReport:\n    rung: ask\n    gate: {by: [master]}\n    stubs: [{returns: calm}]\n")
	require.NotNil(t, p, probs)
	tool := p.Tools["sig_get_report"]
	require.NotNil(t, tool)
	assert.Equal(t, "write", string(tool.Effect), "what the source says of itself is not trusted")
	assert.Equal(t, "mcp", tool.Handler())
	assert.Equal(t, "ask", string(tool.Rung))
	assert.Equal(t, []string{"master"}, tool.Gate.Approvers())
	assert.Equal(t, 3, tool.Place.Line, "it stands where it is taken")
	assert.Nil(t, p.Tools["broken"])

	e, err := project.AddStub(project.Source{Files: p.Files}, tool, project.StubDraft{Returns: "gale"})
	require.NoError(t, err)
	assert.Contains(t, e.Body, `stubs: [{returns: "gale"}, {returns: calm}]`)
	p, _ = source("source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\ntake: [getReport]\neffects: {getReport: read}\n")
	e, err = project.AddStub(project.Source{Files: p.Files}, p.Tools["get_report"], project.StubDraft{Returns: "gale"})
	require.NoError(t, err)
	assert.Contains(t, e.Body, "tune:\n  getReport:\n    stubs:\n      - {returns: \"gale\"}\n")

	for text, say := range map[string]string{
		"take: [reprot]":                                  `st offers no tool "reprot". Did you mean "report"?`,
		"take: [broken]":                                  "broken of st is never called: its input is not an object",
		"take: []\neffects: {getReport: read}":            `effects names "getReport", which is not taken`,
		"take: []\ntune: {getReport: {}}":                 `tune names "getReport", which is not taken`,
		"take: [getReport, get_report]":                   `is already defined`,
		"take: [getReport]\ntune: {getReport: {pick: 1}}": "pick is for the replies of OpenAPI operations",
	} {
		_, probs := source("source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\n" + text + "\n")
		assert.Contains(t, strings.Join(probs, "\n"), say, text)
	}
}

func TestASecretDoesNotStandOnACommandLine(t *testing.T) {
	for _, doc := range []string{"tool: p\nsummary: Run it when it is asked for.\nresend: safe\nprogram: {run: [curl, \"${secret:KEY}\"]}\n", "source: s\nmcp: {command: [server, \"--key=${secret:KEY}\"]}\n"} {
		_, probs := compile(map[string]string{project.Main: coretest.Main, "t.yaml": doc}, nil)
		assert.Contains(t, strings.Join(probs, "\n"), "a secret on a command line can be read by everybody on the machine | Give it in env:.")
	}
}

func TestAProblemNamesTheToolThatItIsAbout(t *testing.T) {
	cat := offers()
	c := cat["st"]
	c.Tools = append(c.Tools, project.Offer{Name: "log", Tool: "log", Summary: "Log", Input: map[string]any{"type": "object", "properties": map[string]any{"what": map[string]any{"type": "string"}}}})
	cat["st"] = c
	_, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": "source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\ntake: [getReport, log]\neffects: {getReport: read}\n"}, Env: map[string]string{}, Catalogues: cat})
	require.NotEmpty(t, probs)
	for _, p := range probs {
		if p.Code == "unused" && p.Tool == "get_report" {
			continue // no agent has it
		}
		assert.Equal(t, "log", p.Tool, "%s", p.Say)
		assert.Equal(t, 3, p.Line)
		assert.Equal(t, "take: [getReport, log]", p.Text)
	}
}

func TestASchemaThatCannotBeReadCostsItsToolAlone(t *testing.T) {
	bad := map[string]any{"type": "object", "properties": map[string]any{"id": map[string]any{"type": "sting"}}}
	cat := map[string]project.Catalogue{"st": {Tools: []project.Offer{
		{Name: "a", Tool: "a", Summary: "Do the first thing when asked.", Input: bad},
		{Name: "b", Tool: "b", Summary: "Do the second thing when asked.", Input: map[string]any{"type": "object"}, Output: bad},
		{Name: "c", Tool: "c", Summary: "Do the third thing when asked.", Input: bad},
		{Name: "d", Tool: "d", Fault: "its input is not an object"},
		{Name: "e", Tool: "e", Summary: "Do the fifth thing when asked.", Fault: "its input is not an object"},
	}}}
	p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main,
		"s.yaml": "source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\ntake: [a, b, c, d, e]\ntune:\n  c: {input: {type: object, properties: {id: {type: string}}}}\n  e: {input: {type: object}}\n"}, Env: map[string]string{}, Catalogues: cat})
	require.NotNil(t, p, "%v", probs)
	var said []string
	for _, x := range probs {
		if x.Grade == project.Warning && strings.Contains(x.Say, " of st ") {
			said = append(said, x.Say)
		}
		assert.NotEqual(t, project.Error, x.Grade, "%s", x.Say)
	}
	require.Len(t, said, 3)
	assert.Equal(t, "d of st is never called: its input is not an object", said[2])
	require.Len(t, p.Tools["d"].Unless, 1)
	assert.Empty(t, p.Tools["e"].Unless, "tune puts it right")
	assert.Contains(t, said[0], "a of st is never called, since its input is not a JSON Schema")
	assert.Contains(t, said[1], "results of b of st are not checked, since its output is not a JSON Schema")
	require.Len(t, p.Tools["a"].Unless, 1)
	assert.Nil(t, p.Tools["b"].Output)
	assert.Contains(t, p.Tools["c"].Input.Doc()["properties"], "id", "tune puts it right")
	assert.Empty(t, p.Tools["c"].Unless)
}

func TestFieldsOfAPartMayBeGiven(t *testing.T) {
	main := strings.Replace(coretest.Main, "tool: toot", "tool: pick\nsummary: Pick one of two when asked.\ninput: {type: object, anyOf: [{required: [a], properties: {a: {type: string}}}, {required: [b], properties: {b: {type: string}}}]}\neffect: read\nprogram: {run: [x]}\n---\ntool: toot", 1)
	p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: main}, Env: map[string]string{}})
	require.NotNil(t, p, "%v", probs)
	in := p.Tools["pick"].Input
	assert.Empty(t, in.Check(map[string]any{"a": "x"}))
	assert.NotEmpty(t, in.Check(map[string]any{"a": "x", "c": 1.0}), "what no part names may not")
}
