package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const quayAside = `project: quay
start: counter
approvers: [harbourmaster]
models: {house: {speaks: understudy}}
---
tool: moor
summary: Moor a vessel at the quay.
effect: write
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: "Name of the vessel."}}}
gate: {by: [harbourmaster], within: 1d}
says: {done: "Moored the {{ args.vessel }}."}
stubs: [{returns: null}]
---
agent: counter
summary: Moors vessels.
prompt: You moor vessels.
tools: [moor]
waits: aside
`

// TestAConversationGoesOnWhileACallWaitsAside does it through the commands and in the console.
func TestAConversationGoesOnWhileACallWaitsAside(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(quayAside), 0o600))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	first := s.run(t, "say", "Moor the Gannet, please.")
	require.Equal(t, 0, first.code, first.err)
	assert.Contains(t, first.out, "harbourmaster decides about moor, until")
	assert.Regexp(t, `moor +aside`, first.out)
	session := strings.TrimSpace(first.out[strings.LastIndex(first.out, "session ")+len("session "):])
	assert.Contains(t, s.run(t, "say", "-session", session, "Good day.").out, "done", "the conversation goes on")
	p := browse(t, s.url)
	p.open("/try/" + session)
	p.sees("waits aside; you are told what becomes of it")
	p.sees("harbourmaster decides")
	p.sound("a conversation with a call that waits aside")
	p.click("Allow")
	p.sees("What had to wait has been decided.")
	p.sees("Moored the Gannet.")
	require.Eventually(t, func() bool {
		return len(s.run(t, "tickets").out) > 0 && s.run(t, "tickets").out == "Nothing waits for a person.\n"
	}, 20*time.Second, 50*time.Millisecond)
	p.until(`!document.body.innerText.includes("waits aside; you are told")`)
}
