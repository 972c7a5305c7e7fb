package project_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

func compile(files map[string]string, env map[string]string) (*project.Project, []string) {
	p, probs := coretest.Reader.Compile(project.Source{Files: files, Env: env})
	var out []string
	for _, x := range probs {
		out = append(out, fmt.Sprintf("%s %s:%d:%d %s | %s", x.Grade, x.File, x.Line, x.Col, x.Say, x.Remedy))
	}
	return p, out
}

func TestAProjectIsRead(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	assert.Equal(t, "quay", p.Name)
	assert.Equal(t, ledger.Write, p.Tools["toot"].Effect, "a tool with no effect is a write")
	assert.Equal(t, ledger.Read, p.Tools["tide"].Effect)
	assert.Equal(t, 8, p.Limits.Turns)
	box := p.Agents["berths"].Box.Contracts
	assert.Equal(t, "pass_to_desk", box[2].Name)
	assert.Equal(t, "Hand the conversation over to desk: Reads requests.", box[2].Summary)
	assert.Equal(t, coretest.Project(t, coretest.Main).Version, p.Version)
	assert.NotEqual(t, coretest.Project(t, coretest.Main+"# a word\n").Version, p.Version)
}

// Each edit of the sound project makes one problem, with its place.
func TestProblemsHaveAPlaceACauseAndARemedy(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"unknown key":          {"effect: read\ninput", "efect: read\ninput", `error stonebaton.yaml:11:1 efect is not known here; did you mean "effect"?`},
		"wrong type":           {"same_call: 3", "same_call: often", "limits.same_call must be an integer, not a string"},
		"unknown kind":         {"agent: berths", "agnet: berths", `"agnet" is not a kind of document. Did you mean "agent"?`},
		"duplicate name":       {"agent: berths", "agent: desk", `the agent "desk" is already defined in stonebaton.yaml:`},
		"no such tool":         {"tools: [look, reserve]", "tools: [look, resrve]", `unknown tool "resrve". Did you mean "reserve"?`},
		"no such agent":        {"passes_to: [berths]", "passes_to: [berth]", `unknown agent "berth". Did you mean "berths"?`},
		"no such start":        {"start: desk", "start: dsk", `unknown agent "dsk". Did you mean "desk"?`},
		"no such model":        {"model: m\n", "model: n\n", `unknown model "n"`},
		"misspelt field":       {"state.?length_m", "state.?lenght_m", `gate.when: there is no field "lenght_m" here`},
		"misspelt argument":    {"{{ args.berth }}?", "{{ args.birth }}?", `gate.ask: there is no field "birth" here. Did you mean "berth"?`},
		"state not there":      {"booking: \"=args.berth\"", "bookin: \"=args.berth\"", `the state has no "bookin". Did you mean "booking"?`},
		"state of a type":      {"length_m: \"=result.length_m\"", "length_m: \"{{ result.length_m }}\"", `the state's "length_m" is of type number, but this gives string`},
		"bad schema":           {"output: {type: object", "output: {type: objekt", "not a JSON Schema"},
		"no handler":           {"stubs: [{returns: high}]", "timeout: 3s", `the tool "tide" has nothing that carries it out`},
		"both of a stub":       {"[{returns: high}]", "[{returns: high, fails: low}]", "stubs.0"},
		"secret in prompt":     {"You know berths.", "You know berths and ${secret:KEY}.", "a prompt must not refer to a secret"},
		"key written down":     {"You know berths.", "You know sk-abcdefghijklmnop1234.", "this looks like a key"},
		"handoff to itself":    {"passes_to: [desk]", "passes_to: [berths]", `"berths" cannot hand over to itself`},
		"name for handoffs":    {"tool: toot", "tool: pass_to_toot", "names that begin with pass_to_ are for handoffs"},
		"circle of fallback":   {"spare: {speaks: understudy, retry: 0}", "spare: {speaks: understudy, fallback: m}", "go round in a circle"},
		"slips of an endpoint": {"spare: {speaks: understudy, retry: 0}", "spare: {speaks: chat-completions, url: \"http://127.0.0.1:1\", slips: 0.1}", "slips, seed, latency and word are for models that speak understudy"},
		"too many slips":       {"spare: {speaks: understudy, retry: 0}", "spare: {speaks: understudy, slips: 2}", "slips"},
		"not YAML":             {"limits: {turns: 8", "limits: {turns: 8}, x", "this is not YAML"},
		"key twice":            {"start: desk", "start: desk\nstart: berths", `the key "start" is given twice`},
		"undescribed":          {"description: Its name.", "minLength: 1", `warning stonebaton.yaml:12:60 the parameter "name" has no description`},
		"no such zone":         {"start: desk", "start: desk\ntimezone: Europe/Kelmere", `there is no time zone "Europe/Kelmere"`},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, coretest.Main, c.from)
			_, probs := compile(map[string]string{project.Main: strings.Replace(coretest.Main, c.from, c.to, 1)}, nil)
			require.NotEmpty(t, probs)
			assert.Contains(t, strings.Join(probs, "\n"), c.want)
			if name == "unknown key" {
				assert.Len(t, probs, 1, "what refers to a broken document is no problem of its own")
			}
		})
	}
}

func TestHostileFilesGetASentence(t *testing.T) {
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'i'; c++ {
		bomb += fmt.Sprintf("%c: &%c [*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c]\n", c, c, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1)
	}
	for name, c := range map[string]struct{ text, want string }{
		"huge":         {strings.Repeat("# x\n", 3<<20), "a project file may have 1048576 at most"},
		"not UTF-8":    {"project: quay\nsummary: \xff\n", "error stonebaton.yaml:2:10 the file is not valid UTF-8 from here on"},
		"cycle":        {"project: &a\n  x: *a\n", "*a contains itself"},
		"bomb":         {bomb, "more than 50000 values"},
		"deep":         {"project: " + strings.Repeat("[", 200) + strings.Repeat("]", 200), "more than 64 deep"},
		"empty":        {"", "has no project: document"},
		"a list":       {"- a\n", "a document is a map whose first key says what it is"},
		"braces":       {"project: quay\nsummary: {{ today }}\n", "must be in quotes"},
		"not a number": {"project: quay\nlimits: {cost: .inf}\n", "not a number that JSON knows"},
	} {
		t.Run(name, func(t *testing.T) {
			p, probs := compile(map[string]string{project.Main: c.text}, nil)
			assert.Nil(t, p)
			assert.Contains(t, strings.Join(probs, "\n"), c.want)
		})
	}
	_, probs := compile(map[string]string{"other.yaml": "agent: x\n"}, nil)
	assert.Contains(t, strings.Join(probs, "\n"), "this folder is not a project")
}

func TestLoadTakesTheProjectsFilesAlone(t *testing.T) {
	dir := fstest.MapFS{
		"stonebaton.yaml": {Data: []byte(`models: {m: {url: "${MODEL_URL}", key: "${secret:KEY}"}}`)}, "tools/a.yaml": {Data: []byte("tool: a")}, "s.js": {Data: []byte("return 1")},
		"data/big.yaml": {Data: []byte("x")}, "shelf/k.yaml": {Data: []byte("x")}, ".hidden/h.yaml": {Data: []byte("x")}, "readme.md": {Data: []byte("x")}, "huge.yaml": {Data: make([]byte, 10<<20)},
	}
	src, probs := coretest.Reader.Load(dir, func(n string) (string, bool) { return "http://127.0.0.1:1", n == "MODEL_URL" })
	assert.Len(t, src.Files, 3)
	assert.Equal(t, map[string]string{"MODEL_URL": "http://127.0.0.1:1"}, src.Env, "secrets are not part of a version")
	require.Len(t, probs, 1)
	assert.Equal(t, "huge.yaml", probs[0].File)
}

func TestVariablesAreTakenAndMissed(t *testing.T) {
	main := strings.Replace(coretest.Main, "spare: {speaks: understudy, retry: 0}", `spare: {speaks: chat-completions, url: "${MODEL_URL}/v1", key: "${secret:KEY}"}`, 1)
	p, probs := compile(map[string]string{project.Main: main}, map[string]string{"MODEL_URL": "http://127.0.0.1:9"})
	require.NotNil(t, p, probs)
	assert.Equal(t, "http://127.0.0.1:9/v1", p.Models["spare"].URL)
	assert.Equal(t, "${secret:KEY}", p.Models["spare"].Key, "a secret stays a name")
	p, probs = compile(map[string]string{project.Main: main}, nil)
	require.NotNil(t, p, "an unset variable is a warning: stubs and drills need it not")
	assert.Contains(t, strings.Join(probs, "\n"), "the variable MODEL_URL is not set")
	_, probs = compile(map[string]string{project.Main: strings.Replace(main, "${secret:KEY}", "plain", 1)}, nil)
	assert.Contains(t, strings.Join(probs, "\n"), "a key must not be written into a file")
}

func TestKindsArePublished(t *testing.T) {
	assert.Equal(t, []string{"agent", "drill", "project", "relay", "source", "tool", "wording"}, coretest.Reader.Documents())
	doc, ok := coretest.Reader.Schema("tool")
	require.True(t, ok)
	assert.Equal(t, "https://json-schema.org/draft/2020-12/schema", doc["$schema"])
	_, ok = coretest.Reader.Schema("baton")
	assert.False(t, ok)
}

func TestUnreachableAgentsAndTwinSummariesAreWarnings(t *testing.T) {
	_, probs := compile(map[string]string{project.Main: strings.Replace(coretest.Main, "passes_to: [berths]", "passes_to: []", 1)}, nil)
	assert.Contains(t, strings.Join(probs, "\n"), `nobody hands over to "berths"`)
	_, probs = compile(map[string]string{project.Main: strings.Replace(coretest.Main, "Sound the horn when somebody asks for it.", "Pay what the stay costs.", 1)}, nil)
	assert.Contains(t, strings.Join(probs, "\n"), "will be confused: both say")
}

func TestTheKeyOfASourceIsTheSameUntilItIsReachedOtherwise(t *testing.T) {
	key := func(secret string) string {
		text := "source: far\nmcp: {url: \"http://127.0.0.1:1/\", auth: {oauth: {token_url: \"http://127.0.0.1:1/t\", client_id: a, client_secret: \"" + secret + "\"}}}\n"
		list := coretest.Reader.Sources(project.Source{Files: map[string]string{project.Main: "project: p\n", "s.yaml": text}})
		require.Len(t, list, 1)
		return list[0].Key()
	}
	assert.Equal(t, key("${secret:A}"), key("${secret:A}"))
	assert.NotEqual(t, key("${secret:A}"), key("${secret:B}"))
}

// TestAFileThatIsHalfYAML: what is wrong in one document says nothing of those before it.
func TestAFileThatIsHalfYAML(t *testing.T) {
	_, probs := compile(map[string]string{project.Main: coretest.Main, "more.yaml": "agent: one\nsummary: s\nprompt: p\n---\ntool: two\nscript: return {metres: 3.2}\n"}, nil)
	require.NotEmpty(t, probs)
	assert.Regexp(t, `error more.yaml:6:1 this is not YAML`, strings.Join(probs, "\n"))
	assert.NotContains(t, strings.Join(probs, "\n"), "already defined")
}

// TestTheRecordsAreNoPathOfAProject: whatever names a path.
func TestTheRecordsAreNoPathOfAProject(t *testing.T) {
	for _, name := range []string{".stonebaton", "./.stonebaton/local.key", ".env", ".env.local"} {
		_, probs := compile(map[string]string{project.Main: coretest.Main, "s.yaml": "source: s\nopenapi: {document: data/x.yaml, reads: [" + name + "]}\ntake: []\n"}, nil)
		assert.Contains(t, strings.Join(probs, "\n"), "is of the records, or of secrets", name)
	}
}

func TestFieldsThatAModelGetsBeside(t *testing.T) {
	with := func(more string) (*project.Project, string) {
		p, probs := compile(map[string]string{project.Main: strings.Replace(coretest.Main, "models: {", "models: {mine: {speaks: chat-completions, url: \"http://127.0.0.1:1\", name: m, "+more+"}, ", 1)}, nil)
		return p, strings.Join(probs, "\n")
	}
	p, probs := with("extra: {effort: low}, fields: {max_tokens: most}")
	require.NotNil(t, p, probs)
	assert.Equal(t, map[string]any{"effort": "low"}, p.Models["mine"].Extra)
	assert.Equal(t, map[string]string{"max_tokens": "most"}, p.Models["mine"].Fields)
	_, probs = with("extra: {messages: []}")
	assert.Contains(t, probs, "extra: messages is made by the run")
}
