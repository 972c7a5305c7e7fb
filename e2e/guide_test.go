package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var block = regexp.MustCompile("(?ms)^```(\\w+) ?([^\n]*)\n(.*?)^```$")

// Each chapter on tools is done by its letter, in a fresh folder: files are
// written, commands are run, and what they print is what the chapter says.
func TestTheGuideByItsLetter(t *testing.T) {
	chapters, err := filepath.Glob("../docs/guide/2-tools*.md")
	require.NoError(t, err)
	require.Len(t, chapters, 13)
	repo, err := filepath.Abs("..")
	require.NoError(t, err)
	for _, chapter := range chapters {
		t.Run(strings.TrimSuffix(filepath.Base(chapter), ".md"), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(chapter)
			require.NoError(t, err)
			dir := filepath.Join(t.TempDir(), "quay")
			require.NoError(t, os.MkdirAll(dir, 0o755))
			out, ran := "", 0
			for _, m := range block.FindAllStringSubmatch(string(text), -1) {
				kind, how, body := m[1], m[2], m[3]
				if name, ok := strings.CutPrefix(how, "file="); ok {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(body), 0o644))
					continue
				}
				switch kind {
				case "sh":
					ran++
					if how == "background" {
						args := strings.Fields(strings.TrimSpace(body))[1:]
						for i, a := range args {
							if strings.HasPrefix(a, "../") {
								args[i] = filepath.Join(dir, a)
							}
						}
						launch(t, args...)
						continue
					}
					at := dir
					if how == "repo" {
						at = repo
					}
					var failed bool
					out, failed = shell(t, at, body)
					assert.Equal(t, how == "fails", failed, "%s\n%s", body, out)
				case "text":
					for _, line := range strings.Split(strings.TrimRight(body, "\n"), "\n") {
						assert.Contains(t, out, strings.TrimRight(line, " "), "%s", out)
					}
				}
			}
			assert.Positive(t, ran)
		})
	}
}

// shell runs commands as a reader would, with the program on the path.
func shell(t *testing.T, dir, commands string) (out string, failed bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "sh", "-e", "-c", commands)
	c.Dir = dir
	c.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "STONEBATON_URL=", "STONEBATON=")
	raw, err := c.CombinedOutput()
	return string(raw), err != nil
}
