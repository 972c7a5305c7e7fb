package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAProgramOfAnotherModuleBringsATool builds a program outside the module, as somebody
// would who ships tools of their own, and calls its tool through its own commands.
func TestAProgramOfAnotherModuleBringsATool(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/outside")))
	ours, err := os.ReadFile("../go.mod")
	require.NoError(t, err)
	// what we require, at the versions we require it at: nothing is looked up on a network
	mod := strings.Replace(string(ours), "module stonebaton.example", "module quay.example/lamps", 1)
	mod += "\nrequire stonebaton.example v0.0.0\n\nreplace stonebaton.example => " + mustAbs(t, "..") + "\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte(mod), 0o600))
	sums, err := os.ReadFile("../go.sum")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.sum"), sums, 0o600))
	bin := filepath.Join(dir, "lamps")
	build := exec.Command("go", "build", "-mod=mod", "-o", bin, ".")
	build.Dir, build.Env = dir, append(os.Environ(), "GOFLAGS=", "GOPROXY=off", "GOWORK=off")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)

	run := func(args ...string) string {
		c := exec.Command(bin, args...)
		c.Dir = filepath.Join(dir, "project")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	assert.Contains(t, run("check"), "1 agent, 1 tool")
	assert.Contains(t, run("try", "lamp_hours", "-args", `{"litres": 6}`), "The lamp burns for 48 hours.")
	assert.Contains(t, run("drill"), "1 passed")
}
