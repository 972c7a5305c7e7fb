//go:build linux

package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const bells = `project: bells
start: ringer
models: {house: {speaks: understudy}}
---
tool: ring
summary: Ring the bell when somebody asks to ring the bell.
effect: write
resend: key
timeout: 1m
input: {type: object, required: [who], properties: {who: {type: string, description: "Who rings, such as Ada."}}}
http: {method: POST, url: "%s/ring", body: {who: "=args.who"}}
---
agent: ringer
summary: Rings the bell.
prompt: You ring the bell.
tools: [ring]
`

// TestAFullDiskAndThenRoom fills the file system of the records while twenty runs go and a
// message waits, and frees it again.
func TestAFullDiskAndThenRoom(t *testing.T) {
	small := t.TempDir()
	switch err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=24m"); {
	case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.EACCES):
		t.Skip("no file system can be mounted here")
	default:
		require.NoError(t, err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(small, syscall.MNT_DETACH)) })

	var rung, begun atomic.Int32
	release := make(chan struct{})
	ring := sync.OnceFunc(func() { close(release) })
	bell := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		begun.Add(1)
		<-release
		rung.Add(1)
		fmt.Fprintln(w, `{"heard": true}`)
	}))
	t.Cleanup(bell.Close)
	t.Cleanup(ring)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(fmt.Sprintf(bells, bell.URL)), 0o600))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0", "-data", filepath.Join(small, "records"), "-spare", "2")
	say := func(session string) (int, map[string]any) {
		raw, err := json.Marshal(map[string]string{"text": `Ring the bell, who is "Ada".`, "session": session})
		require.NoError(t, err)
		resp, err := http.Post(s.url+"/api/runs", "application/json", bytes.NewReader(raw))
		require.NoError(t, err)
		defer resp.Body.Close()
		var out map[string]any
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&out))
		return resp.StatusCode, out
	}
	const n = 20
	var runs []string
	for range n {
		code, out := say("")
		require.Equal(t, 201, code, "%v", out)
		runs = append(runs, out["run"].(string))
	}
	session, _, _ := strings.Cut(runs[0], "-")
	code, out := say(session)
	require.Equal(t, 202, code, "%v", out)
	require.Equal(t, runs[0], out["waits_for"])
	require.Eventually(t, func() bool { return begun.Load() == n }, 30*time.Second, 5*time.Millisecond)

	fill := filepath.Join(small, "fill")
	f, err := os.Create(fill)
	require.NoError(t, err)
	for err == nil {
		_, err = f.Write(make([]byte, 64<<10))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, f.Close())
	ring() // the bell has rung twenty times, and none of it can be written

	seen := &lockedBuffer{}
	follow := exec.Command(binary, "follow", runs[1])
	follow.Stdout, follow.Env = seen, append(os.Environ(), "STONEBATON_URL="+s.url)
	require.NoError(t, follow.Start())
	require.Eventually(t, func() bool { return strings.Contains(seen.String(), "The records cannot be written now") }, 30*time.Second, 20*time.Millisecond, "%s", seen)
	code, out = say("")
	assert.Equal(t, 507, code, "no new run begins")
	assert.Contains(t, out["detail"], "MB are free where the records are")
	assert.Contains(t, body(t, s.url+"/readyz"), `"status":503`)
	assert.Contains(t, s.run(t, "stop", runs[2]).err, "nothing was changed")
	assert.NotContains(t, body(t, s.url+"/api/runs/"+runs[3]), `"status":"done"`)

	require.NoError(t, os.Remove(fill))
	for _, run := range append(runs, session+"-2") {
		waitFor(t, s, run, "done")
	}
	assert.EqualValues(t, n+1, rung.Load(), "nothing is doubled, nothing is lost")
	require.NoError(t, follow.Wait())
	assert.Contains(t, seen.String(), "It goes on.")
	assert.Contains(t, body(t, s.url+"/readyz"), "ready")
}
