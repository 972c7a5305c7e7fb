//go:build linux

package e2e

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// withoutLandlock makes this thread, and every program started from it, see a
// kernel that has no Landlock. The thread ends with the test.
func withoutLandlock(t *testing.T) {
	t.Helper()
	runtime.LockOSThread()
	prog := []unix.SockFilter{
		{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: 0},
		{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: unix.SYS_LANDLOCK_CREATE_RULESET, Jf: 1},
		{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS)},
		{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ALLOW},
	}
	f := unix.SockFprog{Len: uint16(len(prog)), Filter: &prog[0]}
	require.NoError(t, unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0))
	require.NoError(t, unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(&f)), 0, 0))
}

func TestWhereTheKernelCannotBoundProgramsTheyAreRefused(t *testing.T) {
	withoutLandlock(t)
	dir := filepath.Join(t.TempDir(), "p")
	require.Zero(t, command(t, "", "", "new", dir).code)
	write := func(sandbox string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "hail.yaml"), []byte("tool: hail\nsummary: Hail a vessel when somebody asks for it.\neffect: read\ncommand: {run: [echo, ahoy], output: text"+sandbox+"}\n"), 0o644))
	}
	write("")
	r := command(t, "", "", "check", dir)
	assert.Contains(t, r.out, `hail.yaml:1:7: warning: "hail" cannot be called: this kernel has no Landlock, with which files are kept from programs, so it will be refused; say sandbox: none if it may run without bounds`)
	r = command(t, "", "", "try", "hail", "-dir", dir)
	assert.NotZero(t, r.code)
	assert.Contains(t, r.out, "hail was not run: this kernel has no Landlock")
	assert.NotContains(t, r.out, "words    ahoy")

	write(", sandbox: none")
	r = command(t, "", "", "check", dir)
	assert.NotContains(t, r.out, "cannot be called")
	r = command(t, "", "", "try", "hail", "-dir", dir)
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.out, "words    ahoy")
}
