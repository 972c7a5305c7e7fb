package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const waivers = `project: waivers
start: desk
model: house
models: {house: {speaks: understudy}}
approvers: [master, treasurer, deputy]
---
tool: owed
summary: Look up the arrears of a vessel.
effect: read
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: Name of the vessel.}}}
output: {type: object, required: [eur], properties: {eur: {type: number}}}
script: "return {eur: 840}"
---
tool: waive
summary: Waive arrears of a vessel.
input:
  type: object
  required: [vessel, eur]
  properties: {vessel: {type: string, description: Name of the vessel.}, eur: {type: number, description: How much in EUR.}}
gate:
  by: [master, treasurer]
  need: 2
  looks_up: {debt: {tool: owed, args: {vessel: "=args.vessel"}}}
  ask: "Waive {{ args.eur }} of the {{ found.debt.eur }} EUR of the {{ args.vessel }}?"
  escalate: {after: 1s, to: [deputy]}
says: {done: "Waived {{ args.eur }} EUR, agreed by {{ gate.by }}."}
stubs: [{returns: null}]
---
agent: desk
summary: Waives arrears.
prompt: You waive arrears.
tools: [waive]
`

func TestTwoPeopleAgreeOverARestart(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "waivers")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(waivers), 0o644))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	ticket := func() (x struct {
		Status string
		Args   map[string]any
		Ask    string
		By     []string
		Need   int
		Votes  []struct{ By, Verb string }
		Leads  map[string][]string
		Shown  string
	}) {
		resp, err := http.Get(s.url + "/api/tickets/1")
		require.NoError(t, err)
		defer resp.Body.Close()
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&x))
		return x
	}
	r := s.run(t, "say", "Waive 600 EUR of the Gannet.")
	assert.Equal(t, 4, r.code, r.err)
	assert.Contains(t, r.out, "Waive 600 of the 840 EUR of the Gannet?   2 of master, treasurer")
	assert.Equal(t, []string{"It goes ahead when one more has agreed."}, ticket().Leads["allow"])
	before := ticket().Shown
	assert.Contains(t, s.run(t, "allow", "1", "-as", "treasurer", "-because", "fair").out, "Ticket 1: treasurer agrees: fair; 1 of 2 have agreed.")
	r = s.run(t, "allow", "1", "-as", "treasurer")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "treasurer has agreed already")
	_ = s.end(syscall.SIGKILL)

	s = launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	assert.Len(t, ticket().Votes, 1, "a vote is on disk")
	assert.Contains(t, s.run(t, "amend", "1", "-as", "master", "-args", `{"eur": 400}`).out, "master changed it, and agrees; 1 of 2 have agreed")
	x := ticket()
	assert.Equal(t, map[string]any{"vessel": "Gannet", "eur": 400.0}, x.Args)
	assert.Equal(t, "Waive 400 of the 840 EUR of the Gannet?", x.Ask)
	assert.Len(t, x.Votes, 1, "those before it no longer count")
	assert.NotEqual(t, before, x.Shown)
	resp, err := http.Post(s.url+"/api/tickets/1/settle", "application/json", strings.NewReader(`{"verb":"allow","as":"treasurer","shown":"`+before+`"}`))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode, "nobody agrees to what they did not see")
	require.Eventually(t, func() bool { return len(ticket().By) == 3 }, 20*time.Second, 50*time.Millisecond, "the deputy may decide too after a while")
	assert.Contains(t, s.run(t, "allow", "1", "-as", "deputy").out, "Ticket 1: changed and allowed by master and deputy")
	run := firstRun(t, s.run(t, "runs", "-json").out)
	require.Eventually(t, func() bool {
		return strings.Contains(s.run(t, "show", run).out, `Master and deputy changed eur from "600" to "400" before agreeing. Waived 400 EUR, agreed by master and deputy.`)
	}, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, s.run(t, "show", run, "-whole").out, "master changed it, and agrees", "the story has each vote")

	told := filepath.Join(t.TempDir(), "told")
	file, err := os.Create(told)
	require.NoError(t, err)
	watch := exec.Command(binary, "tickets", "-follow", "-at", s.url)
	watch.Stdout, watch.Stderr = file, file
	require.NoError(t, watch.Start())
	t.Cleanup(func() { _ = watch.Process.Kill(); _ = watch.Wait(); file.Close() })
	tells := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool {
			raw, err := os.ReadFile(told)
			return err == nil && strings.Contains(string(raw), want)
		}, 20*time.Second, 20*time.Millisecond, want)
	}
	tells("Waiting for tickets")
	for range 2 {
		require.Equal(t, 4, s.run(t, "say", "Waive 10 EUR of the Petrel.").code)
	}
	assert.Equal(t, 0, s.run(t, "allow", "2", "3", "-as", "master").code, "several at once")
	tells("ticket 3: Waive 10 of the 840 EUR of the Petrel?")
	tells("master agrees")
	assert.Contains(t, s.run(t, "tickets", "2").out, "they said: Waive 10 EUR of the Petrel.")
	r = s.run(t, "allow", "2", "3", "-as", "treasurer")
	tells("ticket 3: allowed by master and treasurer")
	assert.Equal(t, 2, strings.Count(r.out, "allowed by master and treasurer"), r.out+r.err)
}

func TestTheCallsOfOneTurnGoAheadWithOneClick(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"stonebaton.yaml": "project: shelf\nstart: desk\nmodels: {house: {speaks: understudy, lines: lines.yaml}}\n---\ntool: put\nsummary: Put a thing away.\ninput: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}\ngate: {ask: \"Put the {{ args.name }} away?\"}\nscript: \"return args.name\"\n---\nagent: desk\nsummary: Puts away.\nprompt: You are the desk.\ntools: [put]\n",
		"lines.yaml":      "lines:\n  - {who: desk, said: put, calls: [{tool: put, args: {name: plane}}, {tool: put, args: {name: saw}}]}\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	require.Equal(t, 4, s.run(t, "say", "put all away").code)
	p := browse(t, s.url)
	p.open("/tickets")
	p.sees("2 calls of one turn of desk wait.")
	p.sees("Put the saw away?")
	p.sound("tickets of one turn")
	p.click("Allow all: 1, 2")
	p.sees("Nothing waits for a person.")

	run := firstRun(t, s.run(t, "runs", "-json").out)
	require.Eventually(t, func() bool { return strings.Contains(s.run(t, "show", run).out, "done: ") }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, 2, strings.Count(s.run(t, "show", run).out, "allowed by local"))

	// who is told by notices hears of each ticket once, while the page is not looked at
	js[chromedp.Void](p, `localStorage.setItem("told", "notice")`)
	p.open("/tickets")
	p.sees("Nothing waits for a person.")
	js[chromedp.Void](p, `window.told = []; window.Notification = class { static permission = "granted"; constructor(title, more) { told.push(title + " | " + more.body) } }; Object.defineProperty(document, "hidden", {value: true, configurable: true})`)
	require.Equal(t, 4, s.run(t, "say", "put all away").code)
	p.until(`told.length === 2`)
	require.Equal(t, 0, s.run(t, "refuse", "3", "-because", "no").code)
	p.until(`!document.body.innerText.includes("Put the plane away?")`)
	assert.Equal(t, "Put the plane away? | desk: gate: always, Put the saw away? | desk: gate: always", js[string](p, `told.sort().join(", ")`))
}
