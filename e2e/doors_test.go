package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/project"
)

// markup would do something if any page took it for more than text.
const markup = `<img src=x onerror="window.owned=1"><svg onload="window.owned=1"><script>window.owned=1</script><a href="javascript:window.owned=1">x</a>`

// marked is a project whose every text is markup.
const marked = `project: marked
summary: 'MARKUP'
start: desk
models: {house: {speaks: understudy, lines: "*.lines.yaml"}}
---
tool: tow
summary: 'Tow a vessel. MARKUP'
effect: write
input:
  type: object
  required: [vessel]
  properties:
    vessel:
      type: string
      description: 'Its name. MARKUP'
gate:
  when: "true"
  why: 'MARKUP'
script: "return {said: args.vessel}"
---
agent: desk
summary: 'Tows. MARKUP'
prompt: 'You tow. MARKUP'
tools: [tow]
`

// TestMarkupIsText walks through the pages of a project whose texts, and those of its people and
// models, are markup, in a browser with the policy on.
func TestMarkupIsText(t *testing.T) {
	dir := t.TempDir()
	quoted, err := json.Marshal(markup)
	require.NoError(t, err)
	lines := "lines:\n  - {who: desk, said: \"^tow\", say: " + string(quoted) + ", calls: [{tool: tow, args: {vessel: " + string(quoted) + "}}]}\n"
	for name, text := range map[string]string{project.Main: strings.ReplaceAll(marked, "MARKUP", markup), "m.lines.yaml": lines} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	j := command(t, s.url, "", "say", "tow it "+markup, "-json")
	var said struct{ Run, Session string }
	_ = json.Unmarshal([]byte(j.out), &said)
	require.NotEmpty(t, said.Session, j.out+j.err)
	resp, err := http.Get(s.url + "/runs")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "script-src 'self'")

	p := browse(t, s.url)
	look := func(path, sees string) {
		p.open(path)
		p.sees(sees)
		assert.True(t, js[bool](p, `window.owned === undefined && !document.querySelector("main img[src=x], main script, main a[href^=javascript]")`), path)
	}
	for path, sees := range map[string]string{"/try/" + said.Session: "onerror", "/runs": "onerror", "/tickets": "onerror", "/tickets/1": "onerror", "/map": "desk", "/bench/tow": "onerror", "/drills": "Drills", "/people": "People", "/record": "Record"} {
		look(path, sees)
	}
	require.Zero(t, s.run(t, "refuse", "1", "-because", markup).code)
	look("/try/"+said.Session, "onerror")
	look("/tickets?status=all", "Tickets")
	look("/record", "refuse")
}
