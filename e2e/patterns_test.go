package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// patterns gives a copy of the patterns, with the project whose tools one of them calls
// beside it.
func patterns(t *testing.T) string {
	t.Helper()
	root := t.TempDir()
	for _, d := range []string{"patterns", "patterns_server"} {
		require.NoError(t, os.CopyFS(filepath.Join(root, d), os.DirFS(mustAbs(t, "../examples/"+d))))
	}
	return filepath.Join(root, "patterns")
}

func TestEveryPatternRunsOffline(t *testing.T) {
	dir := patterns(t)
	files, err := filepath.Glob(filepath.Join(dir, "*.yaml"))
	require.NoError(t, err)
	r := command(t, "", "", "check", dir)
	assert.Zero(t, r.code, r.out)
	assert.Contains(t, r.out, "No problems")
	assert.Contains(t, r.out, " 10 relays, ")
	r = command(t, "", "", "drill", "-dir", dir)
	assert.Zero(t, r.code, r.out)
	assert.Contains(t, r.out, "17 passed, 0 failed")
	for _, f := range files {
		name := strings.TrimSuffix(filepath.Base(f), ".yaml")
		if name == "stonebaton" || name == "tools" {
			continue
		}
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.Contains(t, string(raw), "relay: "+name+"\n")
		assert.Contains(t, string(raw), "drill: ", "every pattern has its drills")
	}
}

func TestAConversationThroughARelayKeepsTheBetterQuestions(t *testing.T) {
	dir := patterns(t)
	main := filepath.Join(dir, "stonebaton.yaml")
	raw, err := os.ReadFile(main)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(main, []byte(strings.Replace(string(raw), "start: front", "start: rewrite_first", 1)), 0o644))
	s := launch(t, "serve", "-listen", "127.0.0.1:0", dir)
	r := s.run(t, "say", "hi um when is job 12 ready pls")
	require.Zero(t, r.code, r.err)
	assert.Regexp(t, `editor +When is job 12 ready\?`, r.out)
	assert.Contains(t, r.out, "Job 12: the bicycle of Aldous, ready on Friday, 46 EUR.")
	session := r.out[strings.LastIndex(r.out, "session ")+len("session "):]
	session = strings.TrimSpace(session)
	require.Zero(t, s.run(t, "say", "-session", session, "and 14?").code)
	require.NoError(t, s.end(syscall.SIGTERM))
	s = launch(t, "serve", "-listen", "127.0.0.1:0", dir)
	r = s.run(t, "say", "-session", session, "and 15?")
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "When is job 15 ready?", "what the leg remembers is there after a restart")
	r = s.run(t, "say", "-session", session, "and 17?")
	assert.Contains(t, r.out, "Job 17: the raincoat of Dunne")
	var talk struct {
		Talk []struct{ Who, Agent, Text string }
	}
	get := func(path string) string {
		resp, err := http.Get(s.url + path)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(raw)
	}
	require.NoError(t, json.Unmarshal([]byte(get("/api/sessions/"+session)), &talk))
	var said []string
	for _, x := range talk.Talk[:4] {
		said = append(said, x.Who+" "+x.Text)
	}
	assert.Equal(t, []string{"user hi um when is job 12 ready pls", "leg When is job 12 ready?", "agent Job 12: the bicycle of Aldous, ready on Friday, 46 EUR.", "user and 14?"}, said, "both versions are seen")
	var events struct {
		Events []struct {
			Data struct {
				Memory []struct{ Text string }
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(get("/api/runs/"+session+"-4/events")), &events))
	memory := events.Events[0].Data.Memory
	require.Len(t, memory, 6)
	assert.Equal(t, []string{"When is job 12 ready?", "When is job 14 ready?", "When is job 15 ready?"}, []string{memory[0].Text, memory[2].Text, memory[4].Text}, "the session keeps the better questions, not the rough ones")
}

func TestTheMapOfAProjectAndOfARelay(t *testing.T) {
	dir := patterns(t)
	s := launch(t, "serve", "-listen", "127.0.0.1:0", dir)
	r := s.run(t, "say", "-relay", "write_and_criticise", "-input", `{"job": 12}`)
	require.Zero(t, r.code, r.err)
	run := firstRun(t, s.run(t, "runs", "-json").out)
	r = s.run(t, "map", "write_and_criticise", "-run", run)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "write     agent letters (×2)")
	assert.Contains(t, r.out, "→ fine (×1)   when kept.review.fine")
	assert.Contains(t, r.out, "visit 2 of "+run+": kept.review.fine = true")
	r = s.run(t, "map")
	assert.Contains(t, r.out, "front                     agent · house · conversations start here")
	for as, want := range map[string]string{"dot": "digraph", "mermaid": "flowchart LR", "svg": "<svg xmlns"} {
		r = command(t, "", "", "map", "-dir", dir, "-as", as, "in_line")
		assert.Zero(t, r.code, r.err)
		assert.Contains(t, r.out, want)
		assert.Contains(t, r.out, "kind")
	}
	assert.Contains(t, command(t, "", "", "map", "-dir", dir, "inline").err, `unknown relay "inline". Did you mean "in_line"?`)
	assert.Contains(t, command(t, "", "", "map", "-dir", dir, "-as", "png").err, "There is: text, dot, mermaid, svg")
	assert.Contains(t, s.run(t, "map", "-run", "none-1").err, "there is no such run")
}

func TestPartsOfARelayFromTheCommandLine(t *testing.T) {
	dir := patterns(t)
	s := launch(t, "serve", "-listen", "127.0.0.1:0", dir)
	r := s.run(t, "say", "-relay", "write_and_criticise", "-input", `{"job": 12}`, "-from", "review", "-kept", `{"letter": "Dear all, the price is 5 EUR, and it is ready on Friday."}`, "-until", "enough")
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "1 turn, 0 calls")
	assert.NotContains(t, r.out, "leg write")
	for args, want := range map[string]string{
		`-relay write_and_criticise -input {"job":12} -from revew`:       `has no leg "revew". Did you mean "review"?`,
		`-relay write_and_criticise -input {"job":12} -kept {"leter":1}`: `keeps no "leter". Did you mean "letter"?`,
		`-relay write_and_criticise -input {"job":"many"}`:               "the input does not fit write_and_criticise",
		"-relay write":                 `unknown relay "write"`,
		"-turns -3 hello":              "a run cannot have -3 turns",
		`-input {"job":1} hello`:       "-input is for -relay NAME",
		"-relay in_line -to front hey": "not with both",
		"-person-at tunrs hey":         `unknown place "tunrs"; there is turns, calls and answer`,
	} {
		r := s.run(t, append([]string{"say"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.err, want, args)
	}
	r = s.run(t, "say", "-turns", "1", "When is job 12 ready?")
	assert.Contains(t, r.out, "the run has used its one turn (limit turns: 1)")

	run := firstRun(t, s.run(t, "runs", "-json").out)
	r = s.run(t, "request", run, "-step", "1")
	assert.Contains(t, r.out, "tok  instructions                 front_desk.yaml:10")
	assert.Contains(t, r.out, "tok  tool pass_to_jobs")
	r = command(t, "", "", "check", "-explain", dir)
	assert.Contains(t, r.out, "relay in_line\n  kind   (in_line.yaml:6:3)\n      the agent sorter works, on a thread of its own\n      it is told the input of the relay")
}

func TestWhatARelayTakes(t *testing.T) {
	dir := patterns(t)
	s := launch(t, "serve", "-listen", "127.0.0.1:0", dir)
	for _, of := range [][]string{{"-dir", dir}, nil} { // of a folder, and of the service's project
		takes := func(name string) []string {
			r := s.run(t, append(append([]string{"schema"}, of...), "input", name)...)
			var doc struct{ Required []string }
			require.NoError(t, json.Unmarshal([]byte(r.out), &doc), "%s %s", r.out, r.err)
			return doc.Required
		}
		assert.Equal(t, []string{"name", "stalls", "days"}, takes("four_in_a_line"), "a relay")
		assert.Equal(t, []string{"question"}, takes("front"), "an agent")
		r := s.run(t, append(append([]string{"schema"}, of...), "input", "four_in_line")...)
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.err, `Did you mean "four_in_a_line" or "in_line"?`)
	}
}

// TestANewProjectLikeAPattern: each stands alone, has no problems, and its drills pass.
func TestANewProjectLikeAPattern(t *testing.T) {
	list := command(t, "", "", "new", "-list")
	require.Zero(t, list.code, list.err)
	rows := strings.Split(strings.TrimSpace(list.out), "\n")[1:]
	require.Len(t, rows, 9, "all but the one that needs another project beside it")
	for _, row := range rows {
		name, says, _ := strings.Cut(row, " ")
		assert.NotEmpty(t, strings.TrimSpace(says))
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "p")
			r := command(t, "", "", "new", "-like", name, dir)
			require.Zero(t, r.code, r.err)
			assert.Contains(t, command(t, "", "", "check", dir).out, name+": No problems")
			r = command(t, "", "", "drill", "-dir", dir)
			assert.Zero(t, r.code, r.out)
			assert.Regexp(t, `[1-9] passed, 0 failed`, r.out)
			again := command(t, "", "", "new", "-like", name, dir)
			assert.Equal(t, 1, again.code)
			assert.Contains(t, again.err, "is not empty")
		})
	}
	wrong := command(t, "", "", "new", "-like", "inline", filepath.Join(t.TempDir(), "p"))
	assert.Equal(t, 2, wrong.code)
	assert.Contains(t, wrong.err, `Did you mean "in_line"?`)
}
