package program_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/program"
	"stonebaton.example/internal/tools/script"
	"stonebaton.example/internal/tools/tooltest"
)

const document = "tool: run_program\nsummary: Run a small program when a table or a figure is needed that no tool gives.\ntimeout: 20s\nprogram: {languages: [javascript, python3, sh]"

// kept keeps what programs made.
type kept struct {
	tools.Memory
	files []string
}

func (k *kept) KeepFile(ctx context.Context, body []byte) (string, error) {
	k.files = append(k.files, string(body))
	return k.Memory.KeepFile(ctx, body)
}

type bench struct {
	*testing.T
	h    *program.Handler
	p    *project.Project
	kept *kept
	dir  string // of the sessions
	run  string
}

func open(t *testing.T, more string) *bench {
	b := &bench{T: t, p: tooltest.Project(t, document+more+"}", nil), kept: &kept{}, dir: t.TempDir(), run: "aaaaa-1"}
	b.h = program.New(t.TempDir(), b.dir, b.kept, script.New(nil).Evaluate)
	return b
}

func (b *bench) runs(language, file, code string) (map[string]any, *ledger.Sent, *deed.Failure) {
	b.Helper()
	if language != "javascript" {
		if _, err := os.Stat("/usr/bin/" + language); err != nil {
			b.Skip("there is no " + language + " here")
		}
	}
	r, bad := tooltest.Call(b, b.h, b.p, "run_program", map[string]any{"language": language, "file": file, "code": code}, func(i *deed.Invocation) { i.Run = b.run })
	v, _ := r.Value.(map[string]any)
	return v, r.Sent, bad
}

func TestAProgramWaitsForAPersonByDefault(t *testing.T) {
	b := open(t, "")
	tool := b.p.Tools["run_program"]
	require.NotNil(t, tool.Gate, "nobody has to say so")
	assert.Equal(t, ledger.Write, tool.Effect)
	assert.Equal(t, "safe", tool.Resend, "it changes nothing but its own folder")
	assert.Empty(t, open(t, ", network: true").p.Tools["run_program"].Resend)
}

func TestWhatAProgramWritesAndMakes(t *testing.T) {
	b := open(t, "")
	v, sent, bad := b.runs("python3", "table.py", "print('two rows')\nopen('table.csv', 'w').write('day,window\\nFri,06:10\\n')\n")
	require.Nil(t, bad)
	assert.Equal(t, 0.0, v["exit"])
	assert.Equal(t, "two rows", v["output"])
	assert.Regexp(t, `^python3 3\.`, v["by"], "it says which, and which version")
	assert.Equal(t, []any{"table.csv"}, v["files"])
	require.Len(t, sent.Files, 1)
	assert.Contains(t, sent.Files[0].Type, "text/csv")
	assert.Equal(t, []string{"day,window\nFri,06:10\n"}, b.kept.files)
	v, _, _ = b.runs("python3", "more.py", "print(open('table.csv').read())")
	assert.Contains(t, v["output"], "06:10", "the next one of the session finds it")
	assert.Nil(t, v["files"], "and only what is new is kept")
	b.run = "bbbbb-1"
	v, _, _ = b.runs("python3", "spy.py", "import os\nprint(os.listdir('..'))\nprint(open('../aaaaa/table.csv').read())")
	assert.NotEqual(t, 0.0, v["exit"], "another session does not")
	assert.Contains(t, v["errors"], "PermissionError")
}

func TestAProgramThatFailsIsMended(t *testing.T) {
	b := open(t, ", tries: 2")
	v, _, bad := b.runs("python3", "t.py", "print(nmae)")
	require.Nil(t, bad, "it is a result that the model reads")
	assert.Equal(t, 1.0, v["exit"])
	assert.Contains(t, v["errors"], "NameError")
	i := deed.Invocation{Project: b.p, Tool: b.p.Tools["run_program"], Run: b.run, Args: map[string]any{"language": "python3", "file": "t.py", "code": "print(name)"}, Vars: expr.Vars{}}
	diff, bad := b.h.Look(t.Context(), i)
	require.Nil(t, bad)
	assert.Contains(t, diff, "-print(nmae)")
	assert.Contains(t, diff, "+print(name)", "a person is shown what has changed")
	b.runs("python3", "t.py", "print(name)")
	_, _, bad = b.runs("python3", "t.py", "print('fine')")
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "t.py has failed 2 times, and is not run again")
	b.run = "aaaaa-2"
	v, _, bad = b.runs("python3", "t.py", "print('fine')")
	require.Nil(t, bad, "another run begins anew")
	assert.Equal(t, "fine", v["output"])
}

func TestAScriptInProcess(t *testing.T) {
	b := open(t, "")
	v, _, bad := b.runs("javascript", "sum.js", "log('adding'); return [1, 2, 3].reduce((a, b) => a + b);")
	require.Nil(t, bad)
	assert.Equal(t, "adding\n", v["output"])
	assert.EqualValues(t, 6, v["result"])
	v, _, bad = b.runs("javascript", "bad.js", "return nothing.here;")
	require.Nil(t, bad)
	assert.Equal(t, 1.0, v["exit"])
	assert.Contains(t, v["errors"], "nothing is not defined")
}

func TestAProgramStaysWithinItsBounds(t *testing.T) {
	for name, c := range map[string]struct{ code, key, say string }{
		"floods":          {"yes", "ended", "wrote more than 1048576 bytes"},
		"forks":           {":(){ :|:& };:; sleep 5", "", ""},
		"reads elsewhere": {"cat /etc/shadow", "errors", "ermission denied"},
		"fills the disk":  {"head -c 100000000 /dev/zero > big", "", ""},
		"never ends":      {"while :; do :; done", "ended", "had not ended after"},
		"makes a link":    {"ln -s /etc/passwd stolen.txt; echo done", "output", "done"},
	} {
		t.Run(name, func(t *testing.T) {
			b := open(t, ", disk_mb: 8, processes: 16")
			b.p.Tools["run_program"].Timeout = 2 * time.Second
			v, sent, bad := b.runs("sh", "x.sh", c.code)
			require.Nil(t, bad)
			if c.key != "" {
				assert.Contains(t, v[c.key], c.say)
			}
			if name != "makes a link" {
				assert.NotEqual(t, 0.0, v["exit"], "%v", v)
			}
			if name != "fills the disk" {
				assert.Empty(t, sent.Files)
				assert.Empty(t, b.kept.files, "nothing is taken for its own that is not")
			}
		})
	}
}

func TestALinkIsNeverWrittenThrough(t *testing.T) {
	b := open(t, "")
	outside := filepath.Join(t.TempDir(), "mine")
	require.NoError(t, os.WriteFile(outside, []byte("untouched"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "aaaaa"), 0o700))
	require.NoError(t, os.Symlink(outside, filepath.Join(b.dir, "aaaaa", "x.sh")))
	_, _, bad := b.runs("sh", "x.sh", "echo overwritten")
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "is not a file")
	raw, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "untouched", string(raw))
}

func TestTooManyFilesAreNotKept(t *testing.T) {
	b := open(t, "")
	v, _, bad := b.runs("sh", "many.sh", "i=0; while [ $i -lt 1100 ]; do : > f$i; i=$((i+1)); done")
	require.Nil(t, bad)
	assert.Contains(t, v["ended"], "it made more than 1000 files; its folder was emptied")
	list, err := os.ReadDir(filepath.Join(b.dir, "aaaaa"))
	require.NoError(t, err)
	assert.Empty(t, list)
	v, _, _ = b.runs("sh", "some.sh", "i=0; while [ $i -lt 60 ]; do echo $i > f$i; i=$((i+1)); done")
	assert.Contains(t, v["ended"], "10 are not kept")
	assert.Len(t, b.kept.files, 50)
}

func TestALibraryOfTheProject(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "libs", "quay"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "libs", "quay", "__init__.py"), []byte("depth = 4.2\n"), 0o600))
	b := open(t, ", libraries: [libs]")
	b.h = program.New(dir, b.dir, b.kept, nil)
	v, _, bad := b.runs("python3", "d.py", "import quay\nprint(quay.depth)")
	require.Nil(t, bad)
	assert.Equal(t, "4.2", v["output"], "%v", v["errors"])
}

func TestALanguageThatIsNotThere(t *testing.T) {
	b := open(t, "")
	tool := *b.p.Tools["run_program"]
	tool.Work.Spec = &program.Program{Languages: []string{"javascript", "cobol"}, Tries: 3}
	_, bad := b.h.Call(t.Context(), deed.Invocation{Tool: &tool, Args: map[string]any{"language": "cobol", "file": "a.cob", "code": "1"}})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.Equal(t, "there is no cobol on this machine; there is javascript", bad.Say)
	require.ErrorContains(t, b.h.Check(t.Context(), &tool), "cobol is not on this machine")
}

func TestNoGrantOpensTheWholeProject(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("KEY=hidden\n"), 0o600))
	require.NoError(t, os.Symlink(".", filepath.Join(dir, "all")))
	for _, granted := range []string{"all", dir, filepath.Dir(dir)} {
		for _, key := range []string{"reads", "libraries"} {
			b := open(t, ", "+key+": [\""+granted+"\"]")
			b.h = program.New(dir, b.dir, b.kept, nil)
			require.ErrorContains(t, b.h.Check(t.Context(), b.p.Tools["run_program"]), "would open the whole project", granted)
			_, _, bad := b.runs("sh", "x.sh", "cat "+dir+"/.env")
			require.NotNil(t, bad, granted)
			assert.Contains(t, bad.Say, "would open the whole project")
			assert.Equal(t, ledger.NotDone, bad.Outcome)
		}
	}
}

func TestAProgramReachesTheHostsThatItsFileNames(t *testing.T) {
	l := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "high water 06:10") }))
	defer l.Close()
	port := l.URL[strings.LastIndexByte(l.URL, ':')+1:]
	b := open(t, "")
	b.p = tooltest.Project(t, strings.Replace(document, "javascript", "node", 1)+", network: ['localhost:"+port+"', '*.kelmere.example']}", nil)
	assert.Empty(t, b.p.Tools["run_program"].Resend, "it may have changed something there")
	code := "for (const u of ['http://localhost:" + port + "', 'http://127.0.0.9:" + port + "', 'http://tides.example']) try { console.log(await (await fetch(u)).text()) } catch (e) { console.log(e.cause.code) }"
	seen, bad := b.h.Look(t.Context(), deed.Invocation{Tool: b.p.Tools["run_program"], Run: b.run, Args: map[string]any{"language": "node", "file": "tides.mjs", "code": code}})
	require.Nil(t, bad)
	assert.Contains(t, seen, "It may reach localhost:"+port+", *.kelmere.example.", "whoever agrees sees it")
	v, _, bad := b.runs("node", "tides.mjs", code)
	require.Nil(t, bad)
	assert.Equal(t, "high water 06:10\nEACCES\nENOTFOUND", v["output"], "%v", v)
	assert.Equal(t, []any{"127.0.0.9:" + port, "tides.example"}, v["refused"])

	problems := func(network string) string {
		_, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main + "---\n" + document + ", network: " + network + "}"}, Env: map[string]string{"PORT": "99999", "TIDES": "tides.example"}})
		var out string
		for _, p := range probs {
			out += p.Say + "\n"
		}
		return out
	}
	for _, good := range []string{"true", "false", "[tides.example]", "['tides.example:443', '*.kelmere.example', '10.0.0.7:8080', '[::1]:80', '${TIDES}']"} {
		assert.NotContains(t, problems(good), "network", good)
	}
	for _, bad := range []string{"[]", "['https://tides.example']", "['tides.example/x']", "['*']", "['tides.example:0']", "['tides.example:70000']", "['${PORT}:99999']", "[7]", "some"} {
		assert.Contains(t, problems(bad), "network", bad)
	}
	assert.Contains(t, problems("['https://tides.example']"), `network: "https://tides.example" is not a host`)
}
