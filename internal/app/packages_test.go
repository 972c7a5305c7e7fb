package app_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools/tooltest"
)

// A package that cannot be installed after all is said as soon as it is known, and is not
// tried again and again.
func TestAnInstallationThatFailsLateIsSaidOnce(t *testing.T) {
	hold := make(chan struct{})
	release := sync.OnceFunc(func() { close(hold) })
	var asked atomic.Int32
	registry := tooltest.Registry(t, func(string) { asked.Add(1); <-hold }, tooltest.Almanac())
	t.Cleanup(release)
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "s.yaml", "source: almanac\nmcp: {package: {node: \"quay-almanac@9.9.9\", registry: \""+registry+"\"}}\ntake: [sunrise]\n")
	a := open(t, dir)
	defer a.Close()
	problems := func() string { probs, _, _ := a.Projects.Problems(); return texts(probs) }
	_, err := a.Projects.Current()
	require.Error(t, err)
	assert.Contains(t, problems(), "what almanac offers cannot be read: the package quay-almanac@9.9.9 is still being installed, since ")
	_, err = a.Projects.Reload(ctx)
	require.NoError(t, err)
	assert.LessOrEqual(t, asked.Load(), int32(1), "it is installed once, however often the project is read")
	release()
	assert.Eventually(t, func() bool { return strings.Contains(problems(), "No matching version found for quay-almanac@9.9.9") }, 20*time.Second, 5*time.Millisecond)
	n := asked.Load()
	_, err = a.Projects.Reload(ctx)
	require.NoError(t, err)
	assert.Equal(t, n, asked.Load())
	probs, _, _ := a.Projects.Problems()
	require.NotEmpty(t, probs)
	assert.Equal(t, "`stonebaton source inspect almanac` tries again.", probs[0].Remedy)
}

func TestASourceThatFailsLateIsSaid(t *testing.T) {
	hold, silent := make(chan struct{}), atomic.Bool{}
	release := sync.OnceFunc(func() { close(hold) })
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if silent.Load() {
			<-hold
			w.WriteHeader(http.StatusTeapot)
			return
		}
		_, _ = w.Write([]byte(`{"openapi":"3.1.0","info":{"title":"T","version":"1"},"paths":{"/things":{"get":{"operationId":"getThing","summary":"Get the things when they are asked for"}}}}`))
	}))
	defer srv.Close()
	defer release()
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "s.yaml", strings.Replace(office, "%s", srv.URL, 1))
	require.NoError(t, open(t, dir).Close())
	silent.Store(true)
	a := open(t, dir)
	defer a.Close()
	problems := func() string { probs, _, _ := a.Projects.Problems(); return texts(probs) }
	require.Contains(t, problems(), "it has not answered within 2s, and is still being asked")
	release()
	assert.Eventually(t, func() bool {
		return strings.Contains(problems(), "answered 418; its tools are as they were the last time.")
	}, 20*time.Second, 5*time.Millisecond)
}

// Nothing is fetched for what a person has to confirm first.
func TestAPackageOutsideTheSandboxIsNotInstalledUnseen(t *testing.T) {
	var asked atomic.Int32
	registry := tooltest.Registry(t, func(string) { asked.Add(1) }, tooltest.Almanac())
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	a := open(t, dir)
	defer a.Close()
	write(t, dir, "s.yaml", "source: almanac\nmcp: {package: {node: \"quay-almanac@1.2.0\", registry: \""+registry+"\"}, sandbox: none}\ntake: [sunrise]\n")
	_, err := a.Projects.Reload(ctx)
	require.NoError(t, err)
	probs, _, _ := a.Projects.Problems()
	assert.Contains(t, texts(probs), "installs the package quay-almanac@1.2.0, and starts its program outside the sandbox")
	p, err := a.Projects.Sources()
	require.NoError(t, err)
	_, err = app.Inspect(ctx, p, a.Workshop, "almanac")
	require.ErrorContains(t, err, "installs the package")
	assert.Zero(t, asked.Load())

	waiting := a.Projects.Waiting()
	require.Len(t, waiting, 1)
	_, err = a.Projects.Confirm(ctx, waiting[0].ID, "ann")
	require.NoError(t, err)
	assert.Eventually(t, func() bool {
		p, err := a.Projects.Current()
		return err == nil && p.Tools["sunrise"] != nil
	}, 20*time.Second, 5*time.Millisecond)
}
