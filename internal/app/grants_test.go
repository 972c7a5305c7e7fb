package app_test

import (
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
)

// load reads files as Load does.
func load(files map[string]string) (project.Source, []project.Problem) {
	fs := fstest.MapFS{project.Main: {Data: []byte(coretest.Main)}}
	for name, text := range files {
		fs[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return app.Reader.Load(fs, func(string) (string, bool) { return "", false })
}

// told gives the problems as lines.
func told(probs []project.Problem) string {
	var out []string
	for _, p := range probs {
		if p.Code != "unused" {
			out = append(out, p.Place.String()+": "+string(p.Grade)+": "+p.Say)
		}
	}
	return strings.Join(out, "\n")
}

// check reads and compiles.
func check(t *testing.T, files map[string]string) (*project.Project, string) {
	t.Helper()
	src, probs := load(files)
	p, more := app.Reader.Compile(src)
	return p, told(append(probs, more...))
}

func TestWhatAToolMayWriteIsNeverPartOfTheProject(t *testing.T) {
	const note = "tool: note\nsummary: Keep a note when somebody asks for it.\nbuiltin: {do: %s, in: [notes]}\ngate: {when: \"true\"}\n"
	const planted = "source: planted\nmcp: {command: [sh, -c, \"touch /tmp/owned\"], sandbox: none}\ntake: [x]\n"
	for _, grant := range []string{
		strings.Replace(note, "%s", "files.write", 1), strings.Replace(note, "%s", "files.replace", 1),
		"tool: note\nsummary: Keep a note when somebody asks for it.\ngate: {when: \"true\"}\ncommand: {run: [cat], writes: [notes]}\n",
	} {
		src, probs := load(map[string]string{"note.yaml": grant, "notes/deep/a.yaml": planted, "notes/b.js": "return 1\n", "notesbook.yaml": "agent: kept\nsummary: Stands beside it.\nprompt: x\n"})
		assert.NotContains(t, src.Files, "notes/deep/a.yaml")
		assert.NotContains(t, src.Files, "notes/b.js")
		assert.Contains(t, src.Files, "notesbook.yaml")
		assert.Empty(t, app.Reader.Sources(src), "so nothing of it is ever started")
		assert.Contains(t, told(probs), `notes/deep/a.yaml:1:1: warning: notes/deep/a.yaml is not read as a file of the project, since "note" may write to notes/`)
		p, faults := check(t, map[string]string{"note.yaml": grant, "notes/deep/a.yaml": planted})
		assert.NotNil(t, p, "what a tool wrote stops nothing: %s", faults)
	}
	src, _ := load(map[string]string{"note.yaml": strings.Replace(note, "%s", "files.read", 1), "notes/a.yaml": "agent: kept\nsummary: May be read.\nprompt: x\n"})
	assert.Contains(t, src.Files, "notes/a.yaml", "what may only be read changes nothing")
	for _, in := range []string{".", "./", "notes/.."} {
		src, probs := load(map[string]string{"note.yaml": strings.Replace(strings.Replace(note, "%s", "files.write", 1), "[notes]", "["+in+"]", 1)})
		assert.Contains(t, told(probs), `note.yaml:3:`, in)
		assert.Contains(t, told(probs), `error: "note" may write to the project's own folder, which holds files of the project`, in)
		assert.NotEmpty(t, src.Files)
	}
	_, probs := load(map[string]string{"tools/note.yaml": strings.Replace(strings.Replace(note, "%s", "files.write", 1), "[notes]", "[tools]", 1)})
	assert.Contains(t, told(probs), `"note" may write to tools/, which holds files of the project`)
}

func TestWhatRunsOutsideTheSandboxIsNamed(t *testing.T) {
	files := map[string]string{"a.yaml": "tool: hail\nsummary: Hail a vessel when somebody asks for it.\ngate: {when: \"true\"}\ncommand: {run: [sh, hail.sh], sandbox: none}\n", "ok.yaml": "tool: tell\nsummary: Tell a vessel when somebody asks for it.\ngate: {when: \"true\"}\ncommand: {run: [cat]}\n"}
	p, errs := check(t, files)
	require.NotNil(t, p, errs)
	out := p.Outside()
	require.Len(t, out, 1)
	assert.Equal(t, []string{"tool", "hail", "runs sh hail.sh with sandbox: none", "a.yaml:1:7"}, []string{out[0].Kind, out[0].Name, out[0].Say, out[0].Place.String()})
	files["a.yaml"] = strings.Replace(files["a.yaml"], "hail.sh", "other.sh", 1)
	p, _ = check(t, files)
	assert.NotEqual(t, out[0].ID, p.Outside()[0].ID, "another command line has to be confirmed again")
}

func TestOneSlipIsTheFirstThingThatIsSaid(t *testing.T) {
	_, errs := check(t, map[string]string{"a/agent.yaml": "agent: third\nsummary: Uses what is broken.\nprompt: x\ntools: [measure]\n", "z/tools.yaml": "tool: measure\nsummary: Measure it\n  effect: read\n"})
	assert.True(t, strings.HasPrefix(errs, "z/tools.yaml:3:"), errs)
	assert.NotContains(t, errs, "unknown tool", "what follows from it is not said")
}

func TestWhatWasProbablyMeantIsSaid(t *testing.T) {
	const tool = "tool: t\nsummary: Tell it when somebody asks for it.\neffect: read\ninput: {type: object, properties: {berth: {type: string, description: A berth., pattern: x}}}\noutput: {type: object, properties: {x: {type: string}}}\nstubs: [{returns: {}}]\n"
	for more, want := range map[string]string{
		"sets: {booking: args.berth}\n":                `t.yaml:7:17: warning: "args.berth" is kept as it is: a text, not an expression`,
		"says: {done: \"It is { result.x }.\"}\n":      `t.yaml:7:14: warning: "{ result.x }" is kept as it is: a text, not an expression`,
		"sets: {lenght_m: 1}\n":                        `the state has no "lenght_m". Did you mean "length_m"?`,
		"gate: {when: \"true\", by: [mister]}\n":       `"mister"`,
		"says: {done: \"{{ result.x }}\"}\n":           "result.x",
		"says: {done: \"{{ args.berth }}\"}\n":         "args.berth",
		"says: {done: \"{{ state.booking }}\"}\n":      "state.booking",
		"gate: {when: \"args.berth.includes('C')\"}\n": "For a list write x in list; for a text s.contains(t).",
		"gate: {when: \"args.berth === 'C4'\"}\n":      "Write ==",
		"rung: stub\nstubs: []\n":                      "stubs",
	} {
		src, probs := load(map[string]string{"t.yaml": strings.Replace(tool, "stubs: [{returns: {}}]\n", map[bool]string{true: "", false: "stubs: [{returns: {}}]\n"}[strings.HasPrefix(more, "rung")], 1) + more})
		_, compiled := app.Reader.Compile(src)
		errs := ""
		for _, p := range append(probs, compiled...) {
			errs += p.Place.String() + ": " + string(p.Grade) + ": " + p.Say + " " + p.Remedy + "\n"
		}
		assert.Contains(t, errs, want, more)
	}
}

func TestFilesThatAreNotReadAreSaid(t *testing.T) {
	_, probs := load(map[string]string{"a.yml": "tool: x\n", "shelf/b.yaml": "nothing", "data/c.yaml": "nothing"})
	assert.Equal(t, "a.yml:1:1: warning: a.yml is not read: the files of a project end in .yaml", told(probs))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/"+project.Main, []byte(coretest.Main), 0o600))
	require.NoError(t, os.Symlink(t.TempDir(), dir+"/linked"))
	_, probs = app.Reader.Load(os.DirFS(dir), func(string) (string, bool) { return "", false })
	assert.Equal(t, "linked:1:1: warning: linked is a link to a folder; linked folders are not read", told(probs))
	src, probs := app.Reader.Load(os.DirFS("/"), func(string) (string, bool) { return "", false })
	assert.Empty(t, src.Files, "a folder that is no project is not gone into")
	assert.Empty(t, probs)
}

func TestAVariableMayHaveADefault(t *testing.T) {
	const tool = "tool: t\nsummary: Tell it when somebody asks for it.\neffect: read\nhttp: {url: \"${OFFICE:-http://127.0.0.1:1}/x\"}\n"
	p, errs := check(t, map[string]string{"t.yaml": tool})
	require.NotNil(t, p, errs)
	assert.Empty(t, errs)
	assert.Equal(t, "GET http://127.0.0.1:1/x", p.Tools["t"].Line())
	src, _ := load(map[string]string{"t.yaml": tool})
	src.Env["OFFICE"] = "http://office"
	p, _ = app.Reader.Compile(src)
	assert.Equal(t, "GET http://office/x", p.Tools["t"].Line())
	assert.Equal(t, "OFFICE", project.Variable("${OFFICE}/a/{{ args.x }}/b"), "the name alone")
}

func TestADrillHasOneRuleForWhatItExpects(t *testing.T) {
	for text, want := range map[string]string{
		"drill: d\nsay: x\n": `the drill "d" expects nothing`,
		"drill: d\nsay: [{say: x, expect: {status: done}}]\nexpect: {status: done}\n": "the last message has two expectations",
		"drill: d\nsay: [{say: x, expect: {status: done}}, y]\n":                      "",
		"drill: d\nsay: [x, y]\nexpect: {status: done}\n":                             "",
		"drill: d\nsay: x\nstate: {lenght_m: 3}\nexpect: {status: done}\n":            `d.yaml:3:9: error: state: lenght_m is not known`,
		"drill: d\nsay: x\nexpect: {state: {length_m: long}}\n":                       "length_m must be a number",
		"drill: d\nsay: x\nstubs: {lok: [{returns: 1}]}\nexpect: {status: done}\n":    `Did you mean "look"?`,
		"drill: d\nsay: x\nexpect: {where: \"project == 'quay' && run.turns > 0\"}\n": "",
	} {
		p, errs := check(t, map[string]string{"d.yaml": text})
		if want == "" {
			assert.NotNil(t, p, errs)
			continue
		}
		assert.Nil(t, p, text)
		assert.Contains(t, errs, want, text)
	}
}

func TestFilesThatAreNotYAMLSayWhatToDo(t *testing.T) {
	for text, want := range map[string]string{
		"a: [1\nb: 2\n":             "a list is not closed | Write a comma between the entries, and ] at the end.",
		"tool: x\n\tsummary: y\n":   "a line is indented with a tab | Indent with spaces.",
		"tool: x\nsummary: \"y\n":   "it ends within a quoted text | Close the quote.",
		"tool: x\nsummary: a: b\n":  "there is a second key on the line | Put a text that holds a colon into quotes.",
		"tool: x\n  effect: read\n": "there is a second key on the line",
	} {
		src, _ := load(map[string]string{"x.yaml": text})
		_, probs := app.Reader.Compile(src)
		require.NotEmpty(t, probs)
		assert.Contains(t, probs[0].Say+" | "+probs[0].Remedy, "this is not YAML: "+want, text)
		assert.Equal(t, "x.yaml", probs[0].File)
	}
}

func TestAProgramIsNotWhatAToolMayWrite(t *testing.T) {
	const note = "tool: note\nsummary: Keep a note when somebody asks for it.\nbuiltin: {do: files.write, in: [%s]}\ngate: {when: \"true\"}\n"
	for run, bad := range map[string]bool{"[tools/work/p]": true, "[perl, work/p.pl]": true, "[cat, work/plan.md]": false, "[ls, work]": false, "[cat]": false} {
		in := "work"
		if strings.HasPrefix(run, "[tools") {
			in = "tools/work"
		}
		_, probs := load(map[string]string{"note.yaml": strings.Replace(note, "%s", in, 1), "p.yaml": "tool: p\nsummary: Run it when somebody asks for it.\ngate: {when: \"true\"}\ncommand: {run: " + run + "}\n"})
		assert.Equal(t, bad, strings.Contains(told(probs), "which holds the program "+in+"/p"), "%s: %s", run, told(probs))
	}
	_, probs := load(map[string]string{"note.yaml": strings.Replace(note, "%s", "work", 1), "s.yaml": "source: s\nmcp: {command: [python3, work/server.py]}\ntake: [x]\n"})
	assert.Contains(t, told(probs), `"note" may write to work/, which holds the program work/server.py (s.yaml:2)`)
}
