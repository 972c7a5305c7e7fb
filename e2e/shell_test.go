package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const yard = `project: yard
start: hand
models: {house: {speaks: understudy, lines: "lines.yaml"}}
---
tool: notes_shell
summary: Run a line of the shell over the notes when files there are to be searched or changed.
shell: {in: notes, harmless: [ls, "grep -c …"]}
says: {done: "It ended with code {{ result.exit }}. {{ result.?output.orValue('') }}"}
---
agent: hand
summary: Does what it is told with the notes.
prompt: You are the hand of the yard.
tools: [notes_shell]
`

const yardLines = `lines:
  - said: 'run (.+)'
    calls: [{tool: notes_shell, args: {line: "{1}"}}]
  - said: 'run'
    came: {from: notes_shell, with: '(.*)'}
    say: "{c1}"
`

// TestALineOfTheShell: a harmless one passes, another is shown before and undone after.
func TestALineOfTheShell(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "notes"), 0o755))
	for name, text := range map[string]string{"stonebaton.yaml": yard, "lines.yaml": yardLines, "notes/plan.md": "Paint the hull.\nDry the net.\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	plain := s.run(t, "say", "Run grep -c net plan.md")
	require.Equal(t, 0, plain.code, plain.out+plain.err)
	assert.Contains(t, plain.out, "It ended with code 0. 1")
	j := sayJSON(t, s, 4, "Run sed -i s/Dry/Sew/ plan.md && echo done > log.md")
	shown := s.run(t, "tickets", itoa(j.Tickets[0])).out
	for _, line := range []string{"--- /dev/null", "+++ notes/log.md", "-Dry the net.", "+Sew the net."} {
		assert.Contains(t, shown, line, "it is seen before anybody agrees")
	}
	require.Equal(t, 0, s.run(t, "allow", itoa(j.Tickets[0])).code)
	require.Equal(t, 0, s.run(t, "follow", j.ID).code)
	changes := s.run(t, "show", j.ID, "-changes").out
	assert.Contains(t, changes, "+Sew the net.")
	assert.Contains(t, changes, "stonebaton undo -run "+j.ID)
	assert.FileExists(t, filepath.Join(dir, "notes", "log.md"))
	assert.Contains(t, s.run(t, "undo", "-run", j.ID).out, "notes is as it was before.")
	raw, err := os.ReadFile(filepath.Join(dir, "notes", "plan.md"))
	require.NoError(t, err)
	assert.Equal(t, "Paint the hull.\nDry the net.\n", string(raw))
	assert.NoFileExists(t, filepath.Join(dir, "notes", "log.md"))
	assert.Contains(t, s.run(t, "show", j.ID, "-changes").out, "has changed nothing that is not undone")
	assert.Contains(t, s.run(t, "undo", "-run", j.ID).out, "has changed nothing that is not undone")
}
