package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/tools/tooltest"
)

// TestAServiceThatInstallsAToolServerAnswersMeanwhile: the first start takes as long as the
// registry does, the service is there at once, and says how far it is wherever it is asked.
func TestAServiceThatInstallsAToolServerAnswersMeanwhile(t *testing.T) {
	hold := make(chan struct{})
	open := sync.OnceFunc(func() { close(hold) })
	registry := tooltest.Registry(t, func(path string) {
		if strings.HasSuffix(path, ".tgz") {
			<-hold
		}
	}, tooltest.Almanac())
	t.Cleanup(open) // before the registry is closed, which waits for its answers
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), fmt.Appendf(nil, `project: almanac
start: desk
models: {house: {speaks: understudy}}
---
agent: desk
summary: Answers at the quay.
prompt: You are the desk of the quay.
tools: [sunrise]
---
source: almanac
mcp: {package: {node: "quay-almanac@1.2.0", registry: %q}}
take: [sunrise]
effects: {sunrise: read}
`, registry), 0o600))
	s := launch(t, "serve", "-listen", "127.0.0.1:0", dir)
	assert.Contains(t, s.err.String(), "almanac: installing quay-almanac@1.2.0 from "+registry)
	assert.Contains(t, s.err.String(), "what almanac offers cannot be read: the package quay-almanac@1.2.0 is still being installed, since ")
	assert.Contains(t, s.err.String(), "Its tools are taken in as soon as it answers; `stonebaton source inspect almanac` shows how far it is.")
	assert.Contains(t, s.run(t, "source").out, "quay-almanac@1.2.0", "also before the project is whole")

	p := browse(t, s.url)
	p.open("/bench/source/almanac")
	p.sees("quay-almanac@1.2.0 is being installed, since")
	p.sees(registry + "/files/quay-almanac.tgz") // what the installer says
	told := make(chan result)
	go func() { told <- s.run(t, "source", "inspect", "almanac") }()
	open()
	p.sees("Tells when the sun rises over Kelmere")
	p.sees("2 tools, 1 taken")
	got := <-told
	assert.Zero(t, got.code, got.err)
	assert.Contains(t, got.out, "almanac: quay-almanac 1.2.0 (Model Context Protocol 2025-06-18)\n2 tools, 1 taken\n")
	p.until(`document.body.innerText.includes("almanac") && !document.body.innerText.includes("1 error")`)
	assert.Regexp(t, `almanac: installed quay-almanac@1\.2\.0 in `, s.err.String())
	try := s.run(t, "try", "sunrise", "-args", `{"day": "2026-05-08"}`)
	assert.Zero(t, try.code, try.err)
	assert.Contains(t, try.out, `"rises": "05:12"`)

	check := command(t, "", "", "check", dir)
	assert.Zero(t, check.code, check.out)
	assert.NotContains(t, check.err, "installing", "what is installed for the project is there for every command in it")

	require.NoError(t, os.RemoveAll(filepath.Join(dir, ".stonebaton", "packages")))
	check = command(t, "", "", "check", dir)
	assert.Zero(t, check.code, check.out)
	assert.Regexp(t, "^almanac: installing quay-almanac@1\\.2\\.0 from "+registry+"\n(?s:.*)almanac: installed quay-almanac@1\\.2\\.0 in ", check.err, "a command waits, and says for what")
}
