package shell_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/shell"
	"stonebaton.example/internal/tools/tooltest"
)

const document = "tool: shell\nsummary: Run a line of the shell over the notes when somebody asks for it.\ntimeout: 10s\nshell: {in: notes, harmless: [ls, 'cat *', 'grep -c …'], disk_mb: 1}\n"

type bench struct {
	*testing.T
	h   *shell.Handler
	p   *project.Project
	dir string
}

func open(t *testing.T) *bench {
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	b := &bench{T: t, p: tooltest.Project(t, document, nil), dir: t.TempDir()}
	b.h = shell.New(b.dir, "", &tools.Memory{})
	require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "notes"), 0o755))
	b.write("plan.md", "One.\nTwo.\n")
	b.write("empty.md", "")
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "stonebaton.yaml"), []byte("secret"), 0o600))
	return b
}

func (b *bench) write(name, text string) {
	b.Helper()
	require.NoError(b, os.WriteFile(filepath.Join(b.dir, "notes", name), []byte(text), 0o644))
}

func (b *bench) read(name string) string {
	raw, err := os.ReadFile(filepath.Join(b.dir, "notes", name))
	if err != nil {
		return "none"
	}
	return string(raw)
}

func (b *bench) runs(line string) (map[string]any, deed.Result, *deed.Failure) {
	b.Helper()
	r, bad := tooltest.Call(b, b.h, b.p, "shell", map[string]any{"line": line})
	v, _ := r.Value.(map[string]any)
	return v, r, bad
}

func (b *bench) held(line string) bool {
	t := b.p.Tools["shell"]
	_, held := loop.Held(t, expr.Vars{"args": expr.Typed(t.Input.Doc(), map[string]any{"line": line})}, "free")
	return held
}

func TestHarmlessLinesPassAndTheRestAsks(t *testing.T) {
	b := open(t)
	for _, line := range []string{"ls", "cat plan.md", "cat 'plan.md'", "  ls  ", `grep -c "One" plan.md empty.md`, "grep -c"} {
		assert.False(t, b.held(line), line)
	}
	for _, line := range []string{"ls -l", "rm plan.md", "cat plan.md; rm plan.md", "cat plan.md && true", "cat plan.md > x", "cat $(rm plan.md)", "cat `id`", "cat *", "ls\nrm plan.md", "cat plan.md other.md", "c'a't 'x", "LS", "cat", "X=1 ls", "cat ~", `cat "$HOME"`, "ls &"} {
		assert.True(t, b.held(line), line)
	}
}

func TestALineIsSeenBeforeAndUndoneAfter(t *testing.T) {
	b := open(t)
	line := "sed -i s/Two/Three/ plan.md && echo new > fresh.md && rm empty.md && mkdir sub && cp plan.md sub/copy.md"
	tool := b.p.Tools["shell"]
	diff, bad := b.h.Look(t.Context(), deed.Invocation{Tool: tool, Args: map[string]any{"line": line}})
	require.Nil(t, bad)
	for _, s := range []string{"-Two.", "+Three.", "--- /dev/null\n+++ notes/fresh.md", "+new", "+++ notes/sub/copy.md"} {
		assert.Contains(t, diff, s)
	}
	assert.Equal(t, "One.\nTwo.\n", b.read("plan.md"), "to look changes nothing")
	v, r, bad := b.runs(line)
	require.Nil(t, bad)
	assert.Equal(t, 0.0, v["exit"])
	assert.Equal(t, []any{"empty.md", "fresh.md", "plan.md", "sub/copy.md"}, v["changed"])
	assert.Equal(t, diff, r.Sent.Diff, "it does what was shown")
	assert.Equal(t, "One.\nThree.\n", b.read("plan.md"))
	assert.Equal(t, "none", b.read("empty.md"))
	b.write("fresh.md", "mine")
	_, err := b.h.Undo(t.Context(), r.Sent.Undo)
	var no *tools.UndoError
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Say, "notes/fresh.md has been changed since")
	assert.Equal(t, "One.\nThree.\n", b.read("plan.md"), "then nothing is undone")
	b.write("fresh.md", "new\n")
	_, err = b.h.Undo(t.Context(), r.Sent.Undo)
	require.NoError(t, err)
	assert.Equal(t, []string{"One.\nTwo.\n", "", "none", "none"}, []string{b.read("plan.md"), b.read("empty.md"), b.read("fresh.md"), b.read("sub/copy.md")}, "all of it together")
	_, err = b.h.Undo(t.Context(), r.Sent.Undo)
	require.ErrorContains(t, err, "was undone already")
}

func TestALineStaysInItsFolder(t *testing.T) {
	b := open(t)
	for _, line := range []string{"cat ../stonebaton.yaml", "echo x > ../stonebaton.yaml", "echo x > /tmp/stonebaton-shell-test", "ln -s ../stonebaton.yaml here && cat here"} {
		v, _, bad := b.runs(line)
		require.Nil(t, bad)
		assert.NotEqual(t, 0.0, v["exit"], line)
		assert.NotContains(t, fmt.Sprint(v), "secret")
	}
	raw, err := os.ReadFile(filepath.Join(b.dir, "stonebaton.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "secret", string(raw))
	require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "notes")))
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(b.dir, "notes")))
	_, _, bad := b.runs("ls")
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "reached through a link")
}

func TestWhatALineMayNotDo(t *testing.T) {
	b := open(t)
	v, _, bad := b.runs("i=0; while [ $i -lt 2100 ]; do : > f$i; i=$((i+1)); done")
	require.Nil(t, bad)
	assert.Contains(t, v["ended"], "nothing that it changed is kept")
	v, _, _ = b.runs("rm plan.md; head -c 3000000 /dev/zero > big")
	assert.NotEqual(t, 0.0, v["exit"])
	b.p.Tools["shell"].Timeout = 300 * time.Millisecond
	v, _, _ = b.runs("rm -f plan.md; while :; do :; done")
	assert.Contains(t, v["ended"], "nothing that it changed is kept")
	assert.Equal(t, "One.\nTwo.\n", b.read("plan.md"))
}

func TestAHarmlessLineThatIsNotHarmless(t *testing.T) {
	b := open(t)
	b.p = tooltest.Project(t, "tool: shell\nsummary: Run a line of the shell over the notes when somebody asks for it.\nshell: {in: notes, harmless: ['rm …']}\n", nil)
	v, _, bad := b.runs("rm plan.md")
	require.Nil(t, bad)
	assert.Contains(t, v["ended"], "the line is listed as harmless")
	assert.Equal(t, "One.\nTwo.\n", b.read("plan.md"))
}

// TestNothingIsChangedThatCannotBeUndone fails to keep what an undo needs.
func TestNothingIsChangedThatCannotBeUndone(t *testing.T) {
	b := open(t)
	b.h = shell.New(b.dir, "", &full{})
	_, _, bad := b.runs("rm plan.md")
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "so nothing was changed")
	assert.Equal(t, "One.\nTwo.\n", b.read("plan.md"))
}

type full struct{ tools.Memory }

func (*full) SaveChange(context.Context, tools.Change) error { return os.ErrClosed }

func TestNoGrantOpensTheWholeProject(t *testing.T) {
	b := open(t)
	b.write("../.env", "KEY=hidden\n")
	require.NoError(t, os.Symlink(".", filepath.Join(b.dir, "all")))
	b.p = tooltest.Project(t, strings.Replace(document, "disk_mb: 1", "disk_mb: 1, reads: [all]", 1), nil)
	require.ErrorContains(t, b.h.Check(t.Context(), b.p.Tools["shell"]), "would open the whole project")
	_, _, bad := b.runs("cat " + b.dir + "/.env")
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "would open the whole project")
}
