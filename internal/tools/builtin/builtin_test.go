package builtin_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/builtin"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

const docs = `
tool: ls
summary: List the notes when somebody asks what there is.
builtin: {do: files.list, in: [notes]}
---
tool: cat
summary: Read one of the notes when its text is wanted.
builtin: {do: files.read, in: [notes]}
---
tool: grep
summary: Search the notes when words are looked for.
builtin: {do: files.search, in: [notes]}
---
tool: save
summary: Write a note when somebody wants it kept.
builtin: {do: files.write, in: [notes]}
---
tool: edit
summary: Replace a passage of a note when it has to be changed.
builtin: {do: files.replace, in: [notes]}
---
tool: both
summary: Read a file of either folder when it is wanted.
builtin: {do: files.read, in: [notes, plans]}
---
tool: sums
summary: Reckon exactly when figures are asked for.
builtin: {do: calc}
---
tool: facts
summary: Tell what is known of the vessel when it matters.
builtin: {do: state.read, facts: [length_m]}
---
tool: note_length
summary: Keep the length of the vessel when the person says it.
builtin: {do: state.set, facts: [length_m]}
---
tool: send
summary: Send a message when somebody has to be told.
builtin: {do: outbox.send}
---
tool: sent
summary: List the messages that went out before.
builtin: {do: outbox.list}
`

type bench struct {
	*testing.T
	dir string
	h   *builtin.Handler
	p   *project.Project
	rec *tools.Memory
	n   int
}

func begin(t *testing.T) *bench {
	dir := t.TempDir()
	for name, text := range map[string]string{"notes/plan.md": "one\ntwo\nthree\n", "notes/deep/tides.md": "High water at noon.\n", "notes/.hidden": "x", "plans/a.md": "A plan.", ".env": "KEY=secret", "notes/blob": "\xff\xfe\x00"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o640))
	}
	rec := &tools.Memory{}
	return &bench{T: t, dir: dir, h: builtin.New(dir, rec, web.New(&tooltest.Secrets{})), p: tooltest.Project(t, docs, nil), rec: rec}
}

func (b *bench) call(tool string, args map[string]any) (deed.Result, *deed.Failure) {
	b.n++
	return tooltest.Call(b.T, b.h, b.p, tool, args, func(i *deed.Invocation) {
		i.Key, i.Facts = fmt.Sprint("key-", b.n), map[string]any{"length_m": 46.0, "booking": "B-1"}
	})
}

func (b *bench) ok(tool string, args map[string]any) deed.Result {
	b.Helper()
	r, bad := b.call(tool, args)
	require.Nil(b, bad, "%+v", bad)
	return r
}

func (b *bench) refused(tool string, args map[string]any, say string) {
	b.Helper()
	_, bad := b.call(tool, args)
	if assert.NotNil(b, bad, "%s %v", tool, args) {
		assert.Contains(b, bad.Say, say)
	}
}

func (b *bench) text(name string) string {
	raw, err := os.ReadFile(filepath.Join(b.dir, name))
	require.NoError(b, err)
	return string(raw)
}

func TestFilesAreListedReadAndSearched(t *testing.T) {
	b := begin(t)
	list := b.ok("ls", nil).Value.([]any)
	require.Len(t, list, 3, "hidden files are not there")
	assert.Equal(t, "deep/tides.md", list[1].(map[string]any)["path"])
	assert.Len(t, b.ok("ls", map[string]any{"match": "*.md"}).Value, 2)
	assert.Equal(t, map[string]any{"path": "plan.md", "text": "two", "lines": 3.0}, b.ok("cat", map[string]any{"path": "plan.md", "from": 2.0, "lines": 1.0}).Value)
	assert.Equal(t, []any{map[string]any{"path": "deep/tides.md", "line": 1.0, "text": "High water at noon."}}, b.ok("grep", map[string]any{"text": "WATER"}).Value)
	assert.Equal(t, "A plan.", b.ok("both", map[string]any{"path": "plans/a.md"}).Value.(map[string]any)["text"])
	b.refused("cat", map[string]any{"path": ".hidden"}, "begins with a dot are not for tools")
	b.refused("cat", map[string]any{"path": "none.md"}, "cannot find the file none.md")
	b.refused("cat", map[string]any{"path": "blob"}, "it is not a text")
	b.refused("cat", map[string]any{"path": "plan.md", "from": 9.0}, "there is no line 9")
	b.refused("both", map[string]any{"path": "a.md"}, "outside the folders that may be used: notes, plans")
}

func TestAChangeIsShownAndCanBeUndone(t *testing.T) {
	b := begin(t)
	r := b.ok("edit", map[string]any{"path": "plan.md", "old": "two", "new": "2"})
	assert.Equal(t, "--- notes/plan.md\n+++ notes/plan.md\n@@ -1,3 +1,3 @@\n one\n-two\n+2\n three\n", r.Sent.Diff)
	assert.Equal(t, "one\n2\nthree\n", b.text("notes/plan.md"))
	info, err := os.Stat(filepath.Join(b.dir, "notes/plan.md"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "who may read it stays")
	b.n-- // the same call once more, as after a crash
	again := b.ok("edit", map[string]any{"path": "plan.md", "old": "two", "new": "2"})
	assert.Equal(t, r.Value, again.Value)
	assert.Equal(t, "the same call had done it already", again.Sent.Log)
	second := b.ok("edit", map[string]any{"path": "plan.md", "old": "one", "new": "1"})
	_, err = b.h.Undo(t.Context(), r.Sent.Undo)
	assert.ErrorContains(t, err, "has been changed since")
	for _, key := range []string{second.Sent.Undo, r.Sent.Undo} {
		_, err = b.h.Undo(t.Context(), key)
		require.NoError(t, err)
	}
	assert.Equal(t, "one\ntwo\nthree\n", b.text("notes/plan.md"))
	_, err = b.h.Undo(t.Context(), r.Sent.Undo)
	assert.ErrorContains(t, err, "undone already")
	_, err = b.h.Undo(t.Context(), "nothing")
	assert.ErrorIs(t, err, tools.ErrNoChange)

	r = b.ok("save", map[string]any{"path": "new/note.md", "text": "Fresh.\n"})
	assert.Equal(t, true, r.Value.(map[string]any)["created"])
	assert.Contains(t, r.Sent.Diff, "+Fresh.")
	_, err = b.h.Undo(t.Context(), r.Sent.Undo)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(b.dir, "notes/new/note.md"))

	b.refused("edit", map[string]any{"path": "plan.md", "old": "four", "new": "4"}, "the passage is not in plan.md")
	b.refused("edit", map[string]any{"path": "plan.md", "old": "e", "new": "E"}, "is in plan.md 3 times")
	b.refused("save", map[string]any{"path": "big", "text": strings.Repeat("x", 2<<20)}, "a tool may write 1048576")
}

func TestNothingOutsideTheGrantIsTouched(t *testing.T) {
	b := begin(t)
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "f"), []byte("theirs"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(outside, "f"), filepath.Join(b.dir, "notes/link")))
	require.NoError(t, os.Symlink(outside, filepath.Join(b.dir, "notes/dir")))
	require.NoError(t, os.Symlink("../.env", filepath.Join(b.dir, "notes/near")))
	for _, path := range []string{"../.env", "deep/../../.env", "/etc/passwd", "link", "dir/f", "near", "..", ".", "a\x00b", strings.Repeat("n", 4096), "\xff"} {
		_, bad := b.call("cat", map[string]any{"path": path[:min(len(path), 500)]})
		assert.NotNil(t, bad, "%.40q is read", path)
		_, bad = b.call("save", map[string]any{"path": path[:min(len(path), 500)], "text": "mine"})
		assert.NotNil(t, bad, "%.40q is written", path)
	}
	assert.Equal(t, "KEY=secret", b.text(".env"))
	raw, err := os.ReadFile(filepath.Join(outside, "f"))
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(raw))
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, left, 1)
	b.refused("cat", map[string]any{"path": "../.env"}, `"../.env" is outside the folders that may be used: notes`)
	b.refused("cat", map[string]any{"path": strings.Repeat("n", 400)}, "longer than 255 bytes")
}

func TestLargeFoldersAndFilesHaveBounds(t *testing.T) {
	b := begin(t)
	require.NoError(t, syscall.Mkfifo(filepath.Join(b.dir, "notes/pipe"), 0o644))
	b.refused("cat", map[string]any{"path": "pipe"}, "it is not a plain file")
	b.refused("save", map[string]any{"path": "pipe", "text": "x"}, "it is not a plain file")
	b.ok("save", map[string]any{"path": "long.md", "text": strings.Repeat("a word\n", 2001)})
	found := b.ok("grep", map[string]any{"text": "a word"})
	assert.Len(t, found.Value, 2000)
	assert.True(t, found.More, "that there are more is said")
	var was, is strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&was, "%d\n", i)
		if i >= 50_000 && i%2 == 0 {
			fmt.Fprint(&is, "x")
		}
		fmt.Fprintf(&is, "%d\n", i)
	}
	b.ok("save", map[string]any{"path": "numbers", "text": was.String()})
	r := b.ok("save", map[string]any{"path": "numbers", "text": is.String()})
	assert.Contains(t, r.Sent.Diff, "-50000\n+x50000\n 50001\n", "what changed first is shown, without comparing all")
	for i := range 2000 {
		require.NoError(t, os.WriteFile(filepath.Join(b.dir, "notes", fmt.Sprint("f", i)), nil, 0o600))
	}
	list := b.ok("ls", nil)
	assert.Len(t, list.Value, 2000)
	assert.True(t, list.More)
	list = b.ok("ls", map[string]any{"match": "f199?"})
	assert.Len(t, list.Value, 10)
	assert.False(t, list.More)
}

func TestReckoningIsExact(t *testing.T) {
	b := begin(t)
	rows := []any{map[string]any{"total": 57.68}, map[string]any{"total": 0.1}, map[string]any{"total": "0.2"}}
	for src, want := range map[string]string{
		"0.1 + 0.2": "0.3", "round(12.4 * 2 * 1.6 + 18, 2)": "57.68", "round(2.5)": "3", "round(-2.5)": "-3", "1/8": "0.125", "7 % 3": "1", "-7 % 3": "2", "floor(-1.5)": "-2", "ceil(-1.5)": "-1",
		"max(1, 2.5, 2)": "2.5", "abs(-4)": "4", "99999999999999999999 + 1": "100000000000000000000", `days("2026-05-06", "2026-05-08")`: "2", `add_days("2026-12-31", 1)`: "2027-01-01", `weekday("2026-05-08")`: "Friday",
		`sum("total")`: "57.98", "count()": "3", `least("total")`: "0.1", `most("total")`: "57.68",
	} {
		assert.Equal(t, map[string]any{"value": want, "exact": true}, b.ok("sums", map[string]any{"expression": src, "rows": rows}).Value, src)
	}
	assert.Equal(t, map[string]any{"value": "0.333333333333333333333333333333", "exact": false}, b.ok("sums", map[string]any{"expression": "1/3"}).Value, "what is rounded says so")
	for src, say := range map[string]string{"1/0": "division by zero", "x + 1": "x has no value here", "os.Exit(1)": "only numbers", "f(1)": "there is no function f", "1 +": "is not an expression", `sum("cost")`: `row 1 has no number in "cost"`,
		"1e999999": "not a decimal number", strings.Repeat("(", 990) + "1" + strings.Repeat(")", 1005): "is not an expression", `days("Friday", "2026-05-08")`: "is not a date", "1 << 3": "cannot be used here", strings.Repeat("9e99*", 100) + "9": "grows too large"} {
		b.refused("sums", map[string]any{"expression": src, "rows": rows}, say)
	}
}

func TestFactsAndMessages(t *testing.T) {
	b := begin(t)
	assert.Equal(t, map[string]any{"length_m": 46.0}, b.ok("facts", nil).Value, "only what is granted")
	assert.Equal(t, map[string]any{"length_m": 12.4}, b.ok("note_length", map[string]any{"length_m": "12.4"}).Value)
	sp, bad := loop.Speak(b.p.Tools["note_length"], map[string]any{"state": map[string]any{}}, deed.Result{Value: map[string]any{"length_m": 12.4}}, "")
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"length_m": 12.4}, sp.Sets)
	faults := b.p.Tools["note_length"].Input.Check(map[string]any{"booking": "B-2"})
	assert.NotEmpty(t, faults, "a fact that is not declared cannot be set")

	r := b.ok("send", map[string]any{"to": "ann", "text": "Berth C4 is yours."})
	assert.Equal(t, "M-1", r.Value.(map[string]any)["id"])
	b.n-- // the same call once more
	assert.Equal(t, "M-1", b.ok("send", map[string]any{"to": "ann", "text": "Berth C4 is yours."}).Value.(map[string]any)["id"], "the same key sends once")
	b.ok("send", map[string]any{"to": "ben", "text": "Hello."})
	assert.Len(t, b.ok("sent", nil).Value, 2)
	assert.Len(t, b.ok("sent", map[string]any{"to": "ann"}).Value, 1)
}

func TestAPageIsReadAsText(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/notices/one":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, "<html><head><title>Notices</title><script>alert(1)</script></head><body><h1>Notice 1</h1><p>The <b>fuel</b> pontoon is shut.</p><ul><li>until Friday</li></ul></body></html>")
		case "/notices/old":
			w.Header().Set("Content-Type", "text/html; charset=iso-8859-1")
			fmt.Fprint(w, "<p>Caf\xe9 at the quay</p>")
		case "/notices/chart":
			w.Header().Set("Content-Type", "application/pdf")
			fmt.Fprint(w, "%PDF")
		case "/notices/away":
			http.Redirect(w, r, "/private/x", http.StatusFound)
		case "/notices/inner":
			http.Redirect(w, r, "http://169.254.169.254/latest/", http.StatusFound)
		default:
			http.NotFound(w, r)
		}
	}))
	defer srv.Close()
	p, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main + "---\ntool: look_up\nsummary: Read a notice of the harbour when it is wanted.\nbuiltin: {do: page, from: [\"" + srv.URL + "/notices/\"]}\n"}})
	require.NotNil(t, p, "%v", probs)
	h := builtin.New(t.TempDir(), &tools.Memory{}, web.New(&tooltest.Secrets{}))
	r, bad := tooltest.Call(t, h, p, "look_up", map[string]any{"url": srv.URL + "/notices/one"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"url": srv.URL + "/notices/one", "title": "Notices", "text": "Notice 1\nThe fuel pontoon is shut.\n- until Friday"}, r.Value)
	r, bad = tooltest.Call(t, h, p, "look_up", map[string]any{"url": srv.URL + "/notices/old"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "Café at the quay", r.Value.(map[string]any)["text"])
	for path, say := range map[string]string{"/notices/chart": "/notices/chart is application/pdf, which is not text", "/private/x": "is not among the pages that may be read", "/notices/../private/x": "is not among", "/notices/away": "not among the addresses", "/notices/inner": "not among the addresses", "/notices/none": "answered 404"} {
		_, bad := tooltest.Call(t, h, p, "look_up", map[string]any{"url": srv.URL + path})
		if assert.NotNil(t, bad, path) {
			assert.Contains(t, bad.Say, say, path)
		}
	}
}

func TestAChangeIsLookedAtBeforeAnybodyIsAsked(t *testing.T) {
	b := begin(t)
	look := func(tool string, args map[string]any) (string, *deed.Failure) {
		return b.h.Look(t.Context(), deed.Invocation{Project: b.p, Tool: b.p.Tools[tool], Args: args, Key: "k"})
	}
	for say, args := range map[string]map[string]any{
		"the passage is not in plan.md":                                      {"path": "plan.md", "old": "four", "new": "4"},
		"the passage is in plan.md 2 times; give more of the text around it": {"path": "plan.md", "old": "t", "new": "T"},
		"cannot find the file none.md":                                       {"path": "none.md", "old": "a", "new": "b"},
		"is outside the folders that may":                                    {"path": "../x.md", "old": "a", "new": "b"},
	} {
		_, bad := look("edit", args)
		require.NotNil(t, bad, say)
		assert.Contains(t, bad.Say, say)
		assert.Equal(t, ledger.NotDone, bad.Outcome)
	}
	diff, bad := look("edit", map[string]any{"path": "plan.md", "old": "two", "new": "2"})
	require.Nil(t, bad)
	assert.Contains(t, diff, "-two\n+2\n")
	assert.Equal(t, "one\ntwo\nthree\n", b.text("notes/plan.md"), "nothing was changed")
	diff, bad = look("save", map[string]any{"path": "new.md", "text": "New.\n"})
	require.Nil(t, bad)
	assert.Contains(t, diff, "+New.")
	assert.NoFileExists(t, filepath.Join(b.dir, "notes/new.md"))
	assert.Equal(t, map[string]any{"path": "plan.md", "bytes": 12.0, "line": 2.0}, b.ok("edit", map[string]any{"path": "plan.md", "old": "two", "new": "2"}).Value)
	assert.Equal(t, false, b.ok("save", map[string]any{"path": "plan.md", "text": "x"}).Value.(map[string]any)["created"])
}

func TestALinkedFolderIsNotGranted(t *testing.T) {
	b := begin(t)
	require.NoError(t, os.Rename(filepath.Join(b.dir, "notes"), filepath.Join(b.dir, "tools")))
	require.NoError(t, os.Symlink("tools", filepath.Join(b.dir, "notes")))
	_, bad := b.call("save", map[string]any{"path": "trap.yaml", "text": "source: trap\n"})
	require.NotNil(t, bad, "a note must not become a tool by another name of its folder")
	assert.Contains(t, bad.Say, "is reached through a link; grant the folder itself")
	assert.NoFileExists(t, filepath.Join(b.dir, "tools/trap.yaml"))
}
