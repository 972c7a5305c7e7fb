package command_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/tools/command"
	"stonebaton.example/internal/tools/tooltest"
)

const head = "tool: run\nsummary: Run a program when it is asked for.\ntimeout: 1m\ninput: {type: object, properties: {name: {type: string, description: A name.}, n: {type: integer, description: A count.}}}\n"

func run(t *testing.T, spec string, args map[string]any, files map[string]string, change ...func(*deed.Invocation)) (deed.Result, *deed.Failure, string) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	}
	p := tooltest.Project(t, head+spec, nil)
	r, bad := tooltest.Call(t, command.New(dir, "", &tooltest.Secrets{}), p, "run", args, change...)
	return r, bad, dir
}

func TestAProgramGetsItsArgumentsAndGivesItsResult(t *testing.T) {
	r, bad, _ := run(t, `command: {run: [./tell, "{{ args.name }}"], state: [length_m], env: {KEY: "${secret:K}", LEVEL: high}}`, map[string]any{"name": "a; rm -rf /", "n": 3.0},
		map[string]string{"tell": "#!/bin/sh\ncat > in\necho \"seen $1\" >&2\nprintf '{\"in\": %s, \"level\": \"%s\", \"key\": \"%s\"}' \"$(cat in)\" \"$LEVEL\" \"$KEY\""},
		func(i *deed.Invocation) { i.Facts = map[string]any{"length_m": 46.0, "booking": "B-1"} })
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"in": map[string]any{"args": map[string]any{"name": "a; rm -rf /", "n": 3.0}, "state": map[string]any{"length_m": 46.0}, "key": "key-1"}, "level": "high", "key": "the-value"}, r.Value)
	assert.Equal(t, "./tell 'a; rm -rf /'", r.Sent.URL, "the command line as a shell would have to read it")
	assert.Equal(t, "seen a; rm -rf /\n", r.Sent.Log, "no shell has seen it")
	assert.Contains(t, r.Sent.Reply, `"level": "high"`)
}

func TestLongNumbersStayExact(t *testing.T) {
	r, bad, _ := run(t, `command: {run: [cat]}`, map[string]any{"n": int64(9007199254740993)}, nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, int64(9007199254740993), r.Value.(map[string]any)["args"].(map[string]any)["n"])
}

func TestWhatAProgramSaysOfItsEnd(t *testing.T) {
	for name, c := range map[string]struct {
		spec, script, class, say string
		outcome                  ledger.Outcome
	}{
		"declared": {`refusals: {"3": "the bell is muffled"}`, "echo 'since noon' >&2; exit 3", "refused", "the bell is muffled: since noon", ledger.NotDone},
		"other":    {"", "echo broken >&2; exit 4", "command", "run ended with code 4: broken", ledger.Unknown},
		"signal":   {"", "kill -SEGV $$", "command", "ended by a signal: segmentation fault", ledger.Unknown},
		"no JSON":  {"", "echo hello", "result", "what run wrote is not JSON", ledger.Unknown},
		"late":     {"", "trap '' TERM; while true; do sleep 0.05; done", "timeout", "had not ended after", ledger.Unknown},
		"flood":    {"", "yes", "bounds", "it wrote more than 4194304 bytes to its standard output", ledger.Unknown},
		"outside":  {"", "cat /etc/shadow", "command", "Permission denied. In its sandbox it may read", ledger.Unknown},
		"forks":    {"processes: 8", "for i in 1 2 3 4 5 6 7 8 9 10 11 12; do sleep 9 & done; wait", "bounds", "8 are allowed", ledger.Unknown},
		"disk":     {"disk_mb: 1", "head -c 3000000 /dev/zero > big; sleep 1", "bounds", "it wrote more than 1 MB", ledger.Unknown},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, bad, _ := run(t, "command:\n  run: [./p]\n  "+c.spec+"\n", nil, map[string]string{"p": "#!/bin/sh\n" + c.script + "\n"}, func(i *deed.Invocation) {
				if name == "late" {
					short := *i.Tool
					short.Timeout = time.Second
					i.Tool = &short
				}
			})
			require.NotNil(t, bad)
			assert.EqualValues(t, c.class, bad.Class, bad.Say)
			assert.Contains(t, bad.Say, c.say)
			assert.Equal(t, c.outcome, bad.Outcome)
		})
	}
}

func TestTextIsAResultToo(t *testing.T) {
	r, bad, _ := run(t, "command: {run: [./p], output: text}", nil, map[string]string{"p": "#!/bin/sh\necho four hours\n"})
	require.Nil(t, bad)
	assert.Equal(t, "four hours", r.Value)
	r, bad, _ = run(t, "command: {run: [./p]}", nil, map[string]string{"p": "#!/bin/sh\ntrue\n"})
	require.Nil(t, bad)
	assert.Nil(t, r.Value, "no output is no result")
}

func TestFilesOfTheProjectAreGrantedOneByOne(t *testing.T) {
	files := map[string]string{"p": "#!/bin/sh\ncat \"$PROJECT/data/a\" && echo new > \"$PROJECT/out/made\"\n", "data/a": "granted", "out/.keep": "", ".env": "KEY=x"}
	_, bad, dir := run(t, "command: {run: [./p], output: text}", nil, files)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "Permission denied")
	assert.NoFileExists(t, filepath.Join(dir, "out/made"))
	r, bad, dir := run(t, "command: {run: [./p], output: text, reads: [data], writes: [out]}", nil, files)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "granted", r.Value)
	assert.FileExists(t, filepath.Join(dir, "out/made"))
}

func TestWithoutASandboxNothingIsKeptFromAProgram(t *testing.T) {
	files := map[string]string{"p": "#!/bin/sh\ncat \"$PROJECT/.env\"\n", ".env": "KEY=x"}
	_, bad, _ := run(t, "command: {run: [./p], output: text}", nil, files)
	require.NotNil(t, bad)
	r, bad, _ := run(t, "command: {run: [./p], output: text, sandbox: none}", nil, files)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "KEY=x", r.Value)
}

func TestAProgramThatIsNotThere(t *testing.T) {
	for spec, say := range map[string]string{
		"command: {run: [./nothing]}":          "there is no program ./nothing in the project",
		"command: {run: [no-such-program-xy]}": `there is no program "no-such-program-xy" on this machine`,
		"command: {run: [../outside]}":         "is outside the project",
	} {
		_, bad, _ := run(t, spec, map[string]any{"name": "../../bin/sh"}, nil)
		require.NotNil(t, bad, spec)
		assert.Contains(t, bad.Say, say)
		assert.Equal(t, ledger.NotDone, bad.Outcome)
	}
}

func TestWhatAProgramMayReadIsDecidedByTheFileAlone(t *testing.T) {
	files := map[string]string{"p": "#!/bin/sh\n", ".env": "KEY=word\n", "words.txt": "word\n", "tool/prog": "#!/bin/sh\ncat \"$(dirname \"$0\")/beside\"\n", "tool/beside": "seen"}
	_, bad, _ := run(t, `command: {run: [grep, -r, "{{ args.name }}", "."], output: text}`, map[string]any{"name": "word"}, files)
	require.NotNil(t, bad, "a folder among the arguments grants nothing: the program looks in its own, empty one")
	assert.NotContains(t, bad.Say+bad.Sent.Reply, "KEY")
	_, bad, _ = run(t, `command: {run: [cat, "{{ args.name }}"], output: text}`, map[string]any{"name": "words.txt"}, files)
	require.NotNil(t, bad, "a value that is the name of a file of the project opens nothing")
	_, bad, _ = run(t, `command: {run: [cat, "x{{ args.name }}", .env], output: text}`, map[string]any{"name": ""}, files)
	require.NotNil(t, bad, "nor does the name of a file with secrets")
	assert.NotContains(t, bad.Sent.Reply, "KEY")
	r, bad, _ := run(t, `command: {run: [cat, words.txt], output: text}`, nil, files)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "word", r.Value)
	_, bad, _ = run(t, `command: {run: [tool/prog], output: text}`, nil, files)
	require.NotNil(t, bad, "what stands beside a program is not its own")
	assert.Contains(t, bad.Say, "beside is beside it, but a program reads only the files that its tool names")
	r, bad, _ = run(t, `command: {run: [tool/prog], output: text, reads: [tool]}`, nil, files)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "seen", r.Value)
	dir := t.TempDir()
	_, bad, _ = run(t, `command: {run: [cat, words.txt], output: text, reads: [`+filepath.Dir(dir)+`]}`, nil, files)
	require.NotNil(t, bad)
	_, bad, _ = run(t, `command: {run: [cat, words.txt], output: text, reads: [/]}`, nil, files)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "would open the whole project")
}

func TestAProgramLeavesFiles(t *testing.T) {
	r, bad, _ := run(t, `command: {run: [./draw], files: ["*.png", out/table.csv]}`, nil,
		map[string]string{"draw": "#!/bin/sh\nprintf '\\211PNG\\r\\n\\032\\n' > chart.png; mkdir out; echo a,b > out/table.csv; echo x > other.txt; ln -s /etc/passwd link.png; echo '{\"drawn\": 1}'"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"drawn": 1.0}, r.Value)
	require.Len(t, r.Files, 2, "what is asked for, and no links")
	assert.Equal(t, deed.File{Name: "chart.png", Type: "image/png", Body: []byte("\x89PNG\r\n\x1a\n")}, r.Files[0])
	assert.Equal(t, "table.csv", r.Files[1].Name)
	_, bad, _ = run(t, `command: {run: [./draw], files: ["*"]}`, nil, map[string]string{"draw": "#!/bin/sh\nfor i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21; do echo x > $i; done"})
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "at most 20 files")
}
