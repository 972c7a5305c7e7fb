package app_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/drill"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/tools/script"
)

var ctx = context.Background()

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
}

func none(string) (string, bool) { return "", false }

func shopIn(t *testing.T, dir string) *app.Workshop {
	w := app.NewWorkshop(app.WorkshopConfig{Dir: dir, Secrets: secret.New(none)})
	t.Cleanup(func() { w.Close() })
	return w
}

func shop(t *testing.T) *app.Workshop { return shopIn(t, t.TempDir()) }

func read(t *testing.T, dir string) (*project.Project, project.Source, []project.Problem) {
	return shopIn(t, dir).Read(ctx, none, nil)
}

func TestTheEnvironmentGoesBeforeTheFile(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, ".env", "STONE_A=file\nSTONE_B=file\nSTONE_C=file\n")
	t.Setenv("STONE_B", "environment")
	env := app.Environment(dir, map[string]string{"STONE_C": "extra"})
	for name, want := range map[string]string{"STONE_A": "file", "STONE_B": "environment", "STONE_C": "extra"} {
		got, ok := env(name)
		assert.True(t, ok)
		assert.Equal(t, want, got)
	}
	_, ok := env("STONE_NONE")
	assert.False(t, ok)
	_, ok = app.Environment(t.TempDir(), nil)("STONE_A")
	assert.False(t, ok, "no file is no error")
}

func TestReadChecksScriptsAndLines(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, strings.Replace(coretest.Main, "models: {m: {speaks: understudy", `models: {m: {speaks: understudy, lines: "l/*.yaml"`, 1))
	write(t, dir, "l/lines.yaml", "lines:\n  - {who: desk, say: Hello}\n")
	write(t, dir, "s.yaml", "tool: calc\nsummary: Reckon a sum when one is asked for.\nscript: {file: calc.js}\n")
	write(t, dir, "calc.js", "return 1\n")
	p, _, probs := read(t, dir)
	require.NotNil(t, p, "%v", probs)
	assert.Equal(t, "return 1\n", p.Tools["calc"].Work.Spec.(*script.Script).Code)

	write(t, dir, "calc.js", "return 1\nreturn ((\n")
	p, _, probs = read(t, dir)
	assert.Nil(t, p)
	probs = inUse(probs)
	require.Len(t, probs, 1)
	assert.Equal(t, "calc.js", probs[0].File)
	assert.Contains(t, probs[0].Say, "the script of calc cannot be compiled")
	write(t, dir, "calc.js", "return 1\n")
	write(t, dir, "l/lines.yaml", "lines:\n  - {who: desk}\n")
	p, _, probs = read(t, dir)
	assert.Nil(t, p)
	probs = inUse(probs)
	require.Len(t, probs, 1)
	assert.Equal(t, 2, probs[0].Line)
}

func open(t *testing.T, dir string) *app.App {
	t.Helper()
	a, err := app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	return a
}

// topic waits for a note of a topic.
func topic(t *testing.T, r *live.Reader, want string) {
	t.Helper()
	late := time.After(20 * time.Second)
	for {
		select {
		case n := <-r.C:
			if n.Topic == want {
				return
			}
		case <-late:
			t.Fatalf("nothing was told of %s", want)
		}
	}
}

func TestChangedFilesArePickedUpAndARunKeepsItsVersion(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	a := open(t, dir)
	r := a.Hub.Read("")
	first, err := a.Projects.Current()
	require.NoError(t, err)
	b, err := a.Engine.Begin(ctx, engine.Start{Text: "Sound the horn", Tools: ledger.ToolsStubs})
	require.NoError(t, err)
	require.NoError(t, a.Engine.Wait(ctx))

	write(t, dir, project.Main, strings.Replace(coretest.Main, "effect: read\ninput", "efect: read\ninput", 1))
	topic(t, r, "project")
	probs, older, _ := a.Projects.Problems()
	require.Len(t, probs, 1)
	assert.True(t, older, "the last good version stays in use")
	still, err := a.Projects.Current()
	require.NoError(t, err)
	assert.Equal(t, first.Version, still.Version)

	write(t, dir, project.Main, strings.Replace(coretest.Main, "project: quay", "project: pier", 1))
	topic(t, r, "project")
	now, err := a.Projects.Current()
	require.NoError(t, err)
	assert.Equal(t, "pier", now.Name)
	write(t, dir, "new/agent.yaml", "agent: third\nsummary: In a new folder.\nprompt: x\n")
	topic(t, r, "project")
	require.NoError(t, a.Close())

	// another process, with the files as they are now: the run still has what it began with
	a = open(t, dir)
	defer a.Close()
	s, err := a.Engine.State(ctx, b.Run)
	require.NoError(t, err)
	old, err := a.Projects.Version(ctx, s.Opened().Version)
	require.NoError(t, err)
	assert.Equal(t, "quay", old.Name)
	_, err = a.Projects.Version(ctx, "none")
	require.ErrorContains(t, err, "is not in the store")
}

func TestAProjectWithErrorsOpensAndStartsNothing(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, "project: x\n")
	a := open(t, dir)
	defer a.Close()
	_, err := a.Engine.Begin(ctx, engine.Start{Text: "x"})
	var probs *app.ProblemsError
	require.ErrorAs(t, err, &probs)
	assert.Contains(t, err.Error(), "the project has 2 problems; the first: stonebaton.yaml:1:")
}

func drills(t *testing.T, text string) []drill.Result {
	t.Helper()
	out, err := app.RunDrills(ctx, coretest.Project(t, coretest.Main+text), shop(t), nil, nil)
	require.NoError(t, err)
	return out
}

func TestDrillsDecideAboutAnswersOneTimeAfterAnother(t *testing.T) {
	const base = `
---
agent: press
summary: Answers the press.
prompt: You answer the press.
gate: {tries: 1}
---
relay: told
legs: [press]
---
drill: d
relay: told
`
	for gates, want := range map[string]string{
		"[{back: Shorter.}, allow]":                     "expect: {where: run.turns == 2}",
		"[{back: Shorter.}, {amend: {text: Nothing.}}]": "expect: {answer: {says: [Nothing.]}, where: run.turns == 2}",
		"{refuse: It is late.}":                         "expect: {status: failed, problem: refused}",
		"wait":                                          "expect: {status: held}",
	} {
		r := drills(t, base+"gates: {press: "+gates+"}\n"+want+"\n")[0]
		assert.Equal(t, "passed", r.Status, "%s %v %s", gates, r.Faults, r.Error)
	}
}

func TestDrillsSettleTheirGates(t *testing.T) {
	const base = `
---
drill: d
say: Look up the vessel "Marrow Light" by its name, then reserve the berth C4.
state: {length_m: 46}
`
	for name, c := range map[string]struct{ rest, want string }{
		"allow":           {"gates: {reserve: allow}\nexpect: {calls: [{tool: reserve, gate: allow}], state: {booking: C4}}\n", "passed"},
		"amend":           {"gates: {reserve: {amend: {berth: D2}}}\nexpect: {calls: [{tool: reserve, gate: amend, args: {berth: D2}}], answer: {says: [D2]}}\n", "passed"},
		"refuse":          {"gates: {reserve: refuse}\nexpect: {calls: [{tool: reserve, gate: refuse}], answer: {says: [the drill refuses it]}}\n", "passed"},
		"lapse":           {"gates: {reserve: lapse}\nexpect: {calls: [{tool: reserve, gate: lapsed, status: refused}]}\n", "passed"},
		"wait":            {"gates: {reserve: wait}\nexpect: {status: held, calls: [{tool: reserve, status: waiting}]}\n", "passed"},
		"not said":        {"expect: {answer: {says: [Reserved]}}\n", "failed"},
		"cannot be done":  {"gates: {reserve: {amend: {berth: quay}}}\nexpect: {status: done}\n", "broken"},
		"tools off":       {"tools: \"off\"\nexpect: {never: [look, reserve]}\n", "passed"},
		"a model by name": {"model: spare\ngates: {reserve: allow}\nexpect: {calls: [{tool: reserve}]}\n", "passed"},
	} {
		t.Run(name, func(t *testing.T) {
			r := drills(t, base+c.rest)[0]
			assert.Equal(t, c.want, r.Status, "%v %s", r.Faults, r.Error)
			assert.Len(t, r.Messages, 1)
			if c.want == "broken" {
				assert.Contains(t, r.Error, "the new values do not fit")
			}
			if c.want == "failed" {
				assert.Contains(t, r.Faults[0].Got, "held: Reserve C4?")
			}
		})
	}
}

func TestADrillOfSeveralMessagesGoesOnInOneSession(t *testing.T) {
	r := drills(t, `
---
drill: d
say:
  - {say: 'Look up the vessel "Petrel" by its name.', expect: {calls: [{tool: look}], state: {length_m: 46}}}
  - Sound the horn.
expect: {calls: [{tool: toot}], never: [look]}
`)[0]
	assert.Equal(t, "passed", r.Status, "%v %s", r.Faults, r.Error)
	require.Len(t, r.Says, 2)
	assert.Equal(t, "drill-2", r.Says[1].Totals.ID)
	assert.Equal(t, 46.0, r.Says[1].Totals.Facts["length_m"])
}

func TestDrillsAreTheSameEveryTimeAndSideBySide(t *testing.T) {
	text := ""
	for i := range 12 {
		text += strings.ReplaceAll("\n---\ndrill: dN\nsay: Sound the horn and tell me the tide.\nexpect: {calls: [{tool: toot}]}\n", "N", string(rune('a'+i)))
	}
	told := 0
	p := coretest.Project(t, coretest.Main+text)
	one, err := app.RunDrills(ctx, p, shop(t), nil, func(drill.Result) { told++ })
	require.NoError(t, err)
	two, err := app.RunDrills(ctx, p, shop(t), nil, nil)
	require.NoError(t, err)
	require.Len(t, one, 12)
	assert.Equal(t, 12, told)
	for i := range one {
		assert.Equal(t, "passed", one[i].Status)
		assert.Equal(t, one[i].ID, two[i].ID, "in the order of their names")
		assert.Equal(t, one[i].Says[0].Totals.Answer, two[i].Says[0].Totals.Answer)
		assert.Equal(t, one[i].Says[0].Totals.Opened, two[i].Says[0].Totals.Opened, "their clock is their own")
	}
	some, err := app.RunDrills(ctx, p, shop(t), []string{"dc"}, nil)
	require.NoError(t, err)
	require.Len(t, some, 1)
	_, err = app.RunDrills(ctx, p, shop(t), []string{"dx"}, nil)
	var unknown *app.UnknownDrillError
	require.ErrorAs(t, err, &unknown)
}

func TestADrillSeesWhatARunSees(t *testing.T) {
	r := drills(t, `
---
drill: d
say: Tell me the tide.
now: 2026-05-04T23:30:00Z
expect: {where: "project == 'quay' && today == '2026-05-04' && run.calls == 1 && answer.contains('high')"}
`)[0]
	assert.Equal(t, "passed", r.Status, "%v %s", r.Faults, r.Error)
	zoned := strings.Replace(coretest.Main, "project: quay", "project: quay\ntimezone: Asia/Tokyo", 1)
	out, err := app.RunDrills(ctx, coretest.Project(t, zoned+`
---
drill: d
say: Tell me the tide.
now: 2026-05-04T23:30:00Z
expect: {where: "today == '2026-05-05'"}
`), shop(t), nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "passed", out[0].Status, "the day is that of the zone: %v", out[0].Faults)
}

func TestACallThatIsExpectedMustHaveReturned(t *testing.T) {
	const text = `
---
drill: d
say: Look up the vessel "Petrel" by its name, then reserve the berth C4.
gates: {reserve: refuse}
expect: {calls: [{tool: look}, {tool: reserve%s}]}
`
	r := drills(t, strings.Replace(text, "%s", "", 1))[0]
	assert.Equal(t, "failed", r.Status, "a refused call is not what was expected")
	assert.Contains(t, r.Faults[0].Got, "refused")
	assert.Equal(t, "passed", drills(t, strings.Replace(text, "%s", ", status: refused", 1))[0].Status)
	assert.Equal(t, "passed", drills(t, strings.Replace(text, "%s", ", gate: refuse", 1))[0].Status)
}

func TestADrillMayBringStubs(t *testing.T) {
	r := drills(t, `
---
drill: d
say: Tell me the tide.
stubs: {tide: [{returns: low}]}
expect: {answer: {says: [low], avoids: [high]}}
`)[0]
	assert.Equal(t, "passed", r.Status, "%v %s", r.Faults, r.Error)
	assert.Equal(t, "passed", drills(t, "\n---\ndrill: d\nsay: Tell me the tide.\nexpect: {answer: {says: [high]}}\n")[0].Status, "its tools keep their own")
}

func TestAServiceIsFoundFromItsFolder(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	a := open(t, dir)
	data := filepath.Join(dir, ".stonebaton")
	assert.Empty(t, app.Address(data))
	require.NoError(t, a.Announce("http://127.0.0.1:7"))
	assert.Equal(t, "http://127.0.0.1:7", app.Address(data))
	require.NoError(t, a.Close())
	assert.Empty(t, app.Address(data), "a service that has ended is not found")
}
