package project_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// speaking compiles a project of one agent with more keys, other documents and files.
func speaking(keys, more string, files map[string]string) (*project.Project, []project.Problem) {
	src := map[string]string{project.Main: "project: p\nstart: desk\nmodels: {m: {speaks: understudy}}\n" +
		"---\nagent: desk\nsummary: Reads requests.\n" + keys +
		"---\nagent: other\nsummary: Does others.\nprompt: You are the other.\npasses_to: [desk]\n" +
		"---\ntool: look\nsummary: Look a thing up when asked.\neffect: read\ninput: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}\nstubs: [{returns: 1}]\n" + more}
	for k, v := range files {
		src[k] = v
	}
	return coretest.Reader.Compile(project.Source{Files: src, Env: map[string]string{}})
}

func prompt(t *testing.T, p *project.Project) (text string, names []string) {
	t.Helper()
	for _, piece := range p.Agents["desk"].Prompt {
		s, err := piece.Text.Fill(map[string]any{"today": "2026-01-05"})
		require.NoError(t, err)
		text += s
		names = append(names, piece.Name+" "+piece.Place.String())
	}
	return text, names
}

func TestWordingsStandOnceAndAreAddedToOrReplaced(t *testing.T) {
	docs := "---\nwording: tone\ntext: |\n  Be brief. It is {{ today }}.\n---\nwording: house\ntext: We are open.\n"
	p, probs := speaking("prompt: |\n  You are the desk.\n  {{ wording.tone }}\n  {{ wording.house }}\n  That is all.\nwordings: {house: We are shut., tone: {add: And kind.}}\npasses_to: [other]\n", docs, nil)
	require.NotNil(t, p, says(probs))
	text, names := prompt(t, p)
	assert.Equal(t, "You are the desk.\nBe brief. It is 2026-01-05.\nAnd kind.\nWe are shut.\nThat is all.\n", text)
	assert.Contains(t, names, "wording tone stonebaton.yaml:27:7")
	_, probs = speaking("prompt: '{{ wording.tune }}'\npasses_to: [other]\n", docs, nil)
	assert.Contains(t, says(probs), `unknown wording "tune". Did you mean "tone"?`)
	_, probs = speaking("prompt: '{{ wording.tone }}'\npasses_to: [other]\n", "---\nwording: tone\ntext: \"Use ${secret:KEY}\"\n", nil)
	assert.Contains(t, says(probs), "a wording must not refer to a secret")
	_, probs = speaking("prompt: Hello.\nwordings: {tone: x}\npasses_to: [other]\n", docs, nil)
	assert.Contains(t, says(probs), `the prompt of desk does not use the wording "tone"`)
}

func TestWhatExplainsHandoffsAndConsultsCanBeReworded(t *testing.T) {
	p, _ := speaking("prompt: x\npasses_to: [other]\nconsults: [other]\n", "", nil)
	assert.Equal(t, "Ask other, and get its answer: Does others.", p.Agents["desk"].Box.Contracts[0].Summary)
	assert.Equal(t, "Hand the conversation over to other: Does others.", p.Agents["desk"].Box.Contracts[1].Summary)
	p, _ = speaking("prompt: x\npasses_to: [other]\n", "---\nwording: handoff\ntext: \"Let {{ agent }} take over ({{ summary }})\"\n", nil)
	assert.Equal(t, "Let other take over (Does others.)", p.Agents["desk"].Box.Contracts[0].Summary)
	_, probs := speaking("prompt: x\npasses_to: [other]\n", "---\nwording: consult\ntext: \"Ask {{ who }}\"\n", nil)
	assert.Contains(t, says(probs), `the wording "consult"`)
}

func TestInstructionsCanStandInAFile(t *testing.T) {
	p, probs := speaking("prompt: {file: desk.md}\npasses_to: [other]\n", "", map[string]string{"desk.md": "# The desk\nIt is {{ today }}.\n"})
	require.NotNil(t, p, says(probs))
	text, names := prompt(t, p)
	assert.Equal(t, "# The desk\nIt is 2026-01-05.", text)
	assert.Equal(t, []string{"instructions desk.md:1:1"}, names)
	_, probs = speaking("prompt: {file: dsk.md}\npasses_to: [other]\n", "", map[string]string{"desk.md": "x"})
	assert.Contains(t, says(probs), `cannot find the file dsk.md. Did you mean "desk.md"?`)
}

func TestExamplesAreHeldAgainstTodaysTools(t *testing.T) {
	p, probs := speaking("prompt: x\ntools: [look]\npasses_to: [other]\nexamples: [{said: Where is it?, calls: [{tool: look, args: {name: it}}], answer: 'There, {{ ok }}.'}]\n", "", nil)
	require.NotNil(t, p, says(probs))
	text, _ := prompt(t, p)
	assert.Equal(t, "x\n\nExample 1\nThe person says: Where is it?\nYou call: look {\"name\":\"it\"}\nYou answer: There, {{ ok }}.", text)
	for want, keys := range map[string]string{
		`the example does not fit look: `:              "tools: [look]\nexamples: [{said: x, calls: [{tool: look, args: {nam: it}}]}]\n",
		`the example calls "lok", which desk does not`: "tools: [look]\nexamples: [{said: x, calls: [{tool: lok}]}]\n",
		`the example does not fit answer: `:            "answer: {type: object, required: [a], properties: {a: {type: integer, description: A.}}}\nexamples: [{said: x, answer: {a: one}}]\n",
		`calls: "lok" is not a tool of desk`:           "tools: [look]\nsettings: {calls: lok}\n",
	} {
		_, probs := speaking("prompt: x\npasses_to: [other]\n"+keys, "", nil)
		assert.Contains(t, says(probs), want)
	}
}

func TestSettingsAndHandoffsInFull(t *testing.T) {
	p, probs := speaking("prompt: x\ntools: [look]\npasses_to: [{agent: other, sees: last}]\nrejoin: start\nsettings: {temperature: 0.2, seed: 7, max_tokens: 90, calls: look}\n", "", nil)
	require.NotNil(t, p, says(probs))
	a := p.Agents["desk"]
	assert.Equal(t, []string{"other"}, a.PassesTo)
	assert.Equal(t, ledger.SeesLast, a.Sees["other"])
	assert.Equal(t, "start", a.Rejoin)
	assert.Equal(t, 7, *a.Settings.Seed)
	assert.Equal(t, "look", a.Settings.Calls)
}

func TestOnlyTextsThatADocumentNamesBelongToTheProject(t *testing.T) {
	dir := fstest.MapFS{
		project.Main:    {Data: []byte("project: p\nstart: desk\nmodels: {m: {speaks: understudy}}\n---\nagent: desk\nsummary: Reads.\nprompt: {file: texts/desk.md}\n")},
		"texts/desk.md": {Data: []byte("You are the desk.")},
		"README.md":     {Data: []byte(strings.Repeat("long ", 1<<20))},
		"notes/a.md":    {Data: []byte("a note")},
	}
	src, probs := coretest.Reader.Load(dir, func(string) (string, bool) { return "", false })
	assert.Empty(t, probs)
	assert.Contains(t, src.Files, "texts/desk.md")
	assert.Len(t, src.Files, 2)
}
