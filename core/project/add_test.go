package project_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/project"
)

const staff = `# Who is there.
project: quay
start: desk
models: {house: {speaks: understudy}}
---
# The desk.
agent: desk
summary: Meets people.
prompt: |
  You meet people.
passes_to:
  - berths

---
agent: berths
summary: Finds berths
  for boats.
prompt: You find berths.
tools: [find_berth,
  # and
  keep]   # more to come
passes_to: [{agent: desk, sees: last}]
---
agent: crane
summary: Works the crane.
prompt: You work the crane.
tools: []
`

func added(t *testing.T, a project.Addition) map[string]string {
	t.Helper()
	edits, err := project.Add(project.Source{Files: map[string]string{project.Main: staff}}, a)
	require.NoError(t, err)
	out := map[string]string{}
	for _, e := range edits {
		out[e.File] = e.Body
	}
	return out
}

func TestAnAgentLikeAnother(t *testing.T) {
	files := added(t, project.Addition{Kind: "agent", Name: "moorings", Like: "berths", Summary: `Finds "moorings".`, PassesFrom: []string{"desk", "berths", "crane"}})
	assert.Equal(t, "agent: moorings\nsummary: \"Finds \\\"moorings\\\".\"\nprompt: You find berths.\ntools: [find_berth,\n  # and\n  keep]   # more to come\npasses_to: [{agent: desk, sees: last}]\n", files["moorings.yaml"])
	main := files[project.Main]
	assert.Contains(t, main, "passes_to:\n  - berths\n  - moorings\n", "a list of lines has a line more")
	assert.Contains(t, main, "passes_to: [moorings, {agent: desk, sees: last}]", "and one in brackets an entry")
	assert.Contains(t, main, "tools: []\npasses_to: [moorings]\n", "and where there is none, there is one")
	assert.Len(t, main, len(staff)+len("  - moorings\n")+len("moorings, ")+len("passes_to: [moorings]\n"), "all else is as it was")
}

func TestAToolForAgents(t *testing.T) {
	files := added(t, project.Addition{Kind: "tool", Name: "crane_hours", To: []string{"berths", "crane"}})
	assert.Contains(t, files["crane_hours.yaml"], "tool: crane_hours\nsummary: Tell what is known of crane hours,")
	assert.Contains(t, files[project.Main], "  keep, crane_hours]   # more to come")
	assert.Contains(t, files[project.Main], "tools: [crane_hours]\n")
	files = added(t, project.Addition{Kind: "drill", Name: "hello"})
	assert.Contains(t, files["hello.yaml"], "drill: hello\n")
}

func TestWhatIsAddedStandsBesideItsKind(t *testing.T) {
	src := project.Source{Files: map[string]string{project.Main: staff, "agents/late.yaml": "agent: late\nsummary: Comes late.\nprompt: You are late.\n"}}
	edits, err := project.Add(src, project.Addition{Kind: "agent", Name: "later"})
	require.NoError(t, err)
	assert.Equal(t, "agents/later.yaml", edits[0].File)
	edits, err = project.Add(src, project.Addition{Kind: "agent", Name: "latest", Like: "late"})
	require.NoError(t, err)
	assert.Equal(t, "agents/latest.yaml", edits[0].File)
}

func TestWhatCannotBeAdded(t *testing.T) {
	src := project.Source{Files: map[string]string{project.Main: staff, "x.yaml": "tool: y\n", "list.yaml": "agent: odd\npasses_to: all\n"}}
	for say, a := range map[string]project.Addition{
		`"relay" cannot be added; there is agent, drill, tool`:                                                   {Kind: "relay", Name: "x"},
		`"X y" cannot be a name`:                                                                                 {Kind: "agent", Name: "X y"},
		`"../x" cannot be a name`:                                                                                {Kind: "agent", Name: "../x"},
		`there is an agent crane already, in stonebaton.yaml:24:8`:                                               {Kind: "agent", Name: "crane"},
		`no file has an agent "crain". Did you mean "crane"? There is: odd, desk, berths, crane`:                 {Kind: "agent", Name: "x1", Like: "crain"},
		`no file has an agent "nobody". There is: odd, desk, berths, crane`:                                      {Kind: "agent", Name: "x1", PassesFrom: []string{"nobody"}},
		`no file has a tool "z". Did you mean "y"? There is: y. What a source brings has no document of its own`: {Kind: "tool", Name: "x1", Like: "z"},
		`there is a file x.yaml already`:                                                                         {Kind: "tool", Name: "x"},
		`agents hand over to agents, and not to a tool`:                                                          {Kind: "tool", Name: "x1", PassesFrom: []string{"desk"}},
		`agents have tools, and no drill`:                                                                        {Kind: "drill", Name: "x1", To: []string{"desk"}},
		`passes_to of list.yaml:2:12 is not a list`:                                                              {Kind: "agent", Name: "x1", PassesFrom: []string{"odd"}},
	} {
		_, err := project.Add(src, a)
		assert.ErrorContains(t, err, say)
	}
	edits, err := project.Add(src, project.Addition{Kind: "agent", Name: "x1", PassesFrom: []string{"desk", "desk"}})
	require.NoError(t, err)
	assert.Len(t, edits, 2, "twice is once")
}

func TestWhichToolsOfASource(t *testing.T) {
	cat := project.Catalogue{Tools: []project.Offer{{Name: "getReport", Tool: "get_report"}, {Name: "log", Tool: "log"}, {Name: "drop", Tool: "drop", Effect: "write"}}}
	for name, c := range map[string]struct{ source, want string }{
		"in brackets": {"take: [getReport, log]   # both\neffects: {getReport: read}\nprefix: st_\n", "take: [getReport, drop]\neffects: {drop: irreversible, getReport: read}\nprefix: st_\n"},
		"in lines":    {"take:\n  - getReport\n  - log\neffects:\n  log: read\nprefix: st_\n", "take: [getReport, drop]\neffects: {drop: irreversible}\nprefix: st_\n"},
		"over lines":  {"take: [\n  getReport,\n  log,\n  ]\nprefix: st_\n", "take: [getReport, drop]\nprefix: st_\neffects: {drop: irreversible}\n"},
		"none yet":    {"prefix: st_\n", "prefix: st_\ntake: [getReport, drop]\neffects: {drop: irreversible}\n"},
	} {
		head := "source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\n"
		src := project.Source{Files: map[string]string{project.Main: staff, "st.yaml": head + c.source}}
		edits, err := project.Take(src, project.Taking{Source: "st", Take: []string{"getReport", "drop"}, Effects: map[string]string{"drop": "irreversible"}, To: []string{"crane"}}, cat)
		require.NoError(t, err, name)
		files := map[string]string{}
		for _, e := range edits {
			files[e.File] = e.Body
		}
		assert.Equal(t, head+c.want, files["st.yaml"], name)
		want := "tools: [st_drop]\n"
		if name == "none yet" {
			want = "tools: [st_get_report, st_drop]\n"
		}
		assert.Contains(t, files[project.Main], want, name)
	}
	for say, c := range map[string]struct {
		source string
		t      project.Taking
	}{
		`no file has a source "none"`:                   {"take: [log]\n", project.Taking{Source: "none", Take: []string{"log"}}},
		`st offers no "lag"`:                            {"take: [log]\n", project.Taking{Source: "st", Take: []string{"lag"}}},
		"a source of which nothing is taken has no use": {"take: [log]\n", project.Taking{Source: "st"}},
		"is written in parts; change it by hand":        {"take: {tools: [log]}\n", project.Taking{Source: "st", Take: []string{"log"}}},
		`no file has an agent "nobody"`:                 {"take: [log]\n", project.Taking{Source: "st", Take: []string{"drop"}, To: []string{"nobody"}}},
	} {
		_, err := project.Take(project.Source{Files: map[string]string{project.Main: staff, "st.yaml": "source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\"}\n" + c.source}}, c.t, cat)
		assert.ErrorContains(t, err, say)
	}
}
