package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/api"
	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
)

// forged is what a model would say to put other words in the place of a question.
const forged = "ok\x1b[1A\x1b[2K\rReserve nothing?\x9b2J\u009b2J\u202eeno\u2066\u200b\a\x7f"

func TestWhatATerminalWouldObeyIsMadeVisible(t *testing.T) {
	got := visible(forged)
	for _, bad := range []string{"\x1b", "\r", "\x9b2", "\u009b", "\u202e", "\u2066", "\u200b", "\a", "\x7f"} {
		assert.NotContains(t, got, bad)
	}
	assert.Equal(t, "ok␛[1A␛[2K␍Reserve nothing?<9B>2J<U+009B>2J<U+202E>eno<U+2066><U+200B>␇␡", got)
	assert.Equal(t, "Zoë 👩\u200d💻 می\u200cخواهم\n\tx", visible("Zoë 👩\u200d💻 می\u200cخواهم\n\tx"), "writing stays as it is")
	assert.Equal(t, "a ⏎ b c", shown("a\nb\tc"), "one line stays one line")
	raw, err := json.Marshal(map[string]string{"x": "a\u202e\x7f\U000E0041"})
	require.NoError(t, err)
	safe := harmless(raw)
	assert.Equal(t, `{"x":"a\u202e\u007f\udb40\udc41"}`, string(safe))
	var back map[string]string
	require.NoError(t, json.Unmarshal(safe, &back))
	assert.Equal(t, "a\u202e\x7f\U000E0041", back["x"], "the value is the same")
}

// hostile prints a hostile text in every way that commands have.
func TestNoCommandPrintsWhatATerminalObeys(t *testing.T) {
	var out bytes.Buffer
	k := &call{Streams: Streams{Out: &out, Err: &out}, colour: false}
	now := time.Now()
	s := &trace.Step{ID: "t1", N: 1, Agent: forged, Name: forged, Title: forged, Brief: forged, Why: forged, Text: forged + "\nticket 9: forged", Status: "returned", Kind: trace.Turn, Model: forged,
		Wait: &trace.Wait{Ask: forged, Why: forged, Settled: &now, Who: forged, Because: forged}}
	p := newPrinter(k, false)
	p.person(forged, forged)
	p.keep(&trace.Step{ID: "c1", Kind: trace.Call, Agent: forged, Name: forged})
	p.delta(api.Delta{Step: "c1", Text: forged})
	p.line(s, "")
	p.answer(trace.Totals{Answer: forged, Agent: forged, Status: "failed", Problem: &ledger.Problem{Say: forged, Remedy: forged}})
	k.detail("r", &trace.Detail{Step: s, In: json.RawMessage(`"` + "\u202e" + `"`), Text: forged, Words: forged, Note: forged, Reasoning: forged, Sent: &ledger.Sent{URL: forged, Reply: forged, Log: forged, Diff: forged, Body: forged, Undo: forged}})
	k.print("%s", k.ticketLines(rows.Ticket{Ask: forged, Tool: forged, Args: rows.JSON(`{"a":"` + "\u202e" + `"}`), Reason: forged, Diff: forged, By: []string{forged}}))
	require.NoError(t, k.table("a b", [][]any{{forged, []string{forged}[0]}}))
	k.tried(api.Tried{Words: forged, Error: forged, Gate: forged, Repairs: []string{forged}, Result: forged, Sent: &ledger.Sent{URL: forged, Headers: map[string]string{forged: forged}, Log: forged, Diff: forged}})
	require.NoError(t, k.printJSON(map[string]string{"x": "\u202e\u009b\x7f"}))
	k.end(command{name: "say"}, &api.Problem{Detail: forged, Remedy: forged})
	for _, bad := range []string{"\x1b", "\r", "\x9b2", "\u009b", "\u202e", "\u2066", "\u200b", "\a", "\x7f"} {
		assert.NotContains(t, out.String(), bad)
	}
	assert.NotContains(t, out.String(), "\nticket 9", "a line of a text never looks like one of the program's own")
}

func TestTheWordsOfATurnComeBeforeItsCalls(t *testing.T) {
	h := serve(t, strings.Replace(coretest.Main, "models: {m: {speaks: understudy", `models: {m: {speaks: understudy, lines: "l.yaml"`, 1))
	h.write("l.yaml", "lines:\n  - {who: desk, said: tide, say: I look at the tide., calls: [{tool: tide}]}\n  - {who: desk, came: {from: tide}, say: It is high.}\n")
	code, out, errs := h.run("", "say", "-stubs", "Tell me the tide.")
	require.Equal(t, fine, code, errs)
	words, turn, called, answer := strings.Index(out, "desk     I look at the tide."), strings.Index(out, "turn 1"), strings.Index(out, "desk     tide"), strings.Index(out, "desk     It is high.")
	require.Greater(t, words, -1, out)
	assert.True(t, words < turn && turn < called && called < answer, out)
	assert.Equal(t, 1, strings.Count(out, "It is high."), "an answer is printed once")
	code, show, _ := h.run("", "show", runOf(out))
	require.Equal(t, fine, code)
	assert.True(t, strings.Index(show, "I look at the tide.") < strings.Index(show, "tide  "), show)
	code, whole, _ := h.run("", "show", "-whole", runOf(out))
	require.Equal(t, fine, code)
	for _, part := range []string{"local said:", "## 1. desk: turn 1 (returned", "model m", "sent, system:", "sent, tools:", "sent, user:", "said:\n\n    I look at the tide.", "called tide:", "## 2. desk: tide", "arguments:", "result:", "the model read:", "sent, tool tide:", "answer:\n\n    It is high."} {
		assert.Contains(t, whole, part)
	}
	assert.Equal(t, 1, strings.Count(whole, "sent, system:"), "what was sent before is not repeated")
}

// runOf finds the id in the last line of a run.
func runOf(out string) string {
	_, rest, _ := strings.Cut(out[strings.LastIndex(out, "\nrun "):], "run ")
	id, _, _ := strings.Cut(rest, " ")
	return id
}

func TestWordsThatAPersonHasToLetThroughAreNotSaidBefore(t *testing.T) {
	var out bytes.Buffer
	p := newPrinter(&call{Streams: Streams{Out: &out, Err: &out}}, false)
	change := func(data ledger.Data, status string, w *trace.Wait) {
		p.change(api.Change{Event: ledger.New("t1", data), Steps: []*trace.Step{{ID: "t1", Kind: trace.Turn, Agent: "press", Name: "turn 1", Status: status, Text: "The dues are 57 EUR.", Wait: w}}})
	}
	wait := &trace.Wait{Form: ledger.TextTicket, Ask: "May press say this?", By: []string{"harbourmaster"}}
	change(&ledger.TurnReceived{}, "returned", nil)
	assert.Empty(t, out.String(), "it is not known yet whether it is said")
	change(&ledger.GateRaised{Form: ledger.TextTicket}, "waiting", wait)
	assert.NotContains(t, out.String(), "press    The dues")
	now := time.Now()
	let := *wait
	let.Settled, let.Verb, let.Who = &now, ledger.Allow, "harbourmaster"
	out.Reset()
	change(&ledger.GateSettled{Verb: ledger.Allow}, "returned", &let)
	assert.True(t, strings.HasPrefix(out.String(), "press    The dues are 57 EUR.\n"), out.String())

	out.Reset()
	p = newPrinter(&call{Streams: Streams{Out: &out, Err: &out}}, false)
	change(&ledger.TurnReceived{}, "returned", nil)
	p.answer(trace.Totals{Agent: "press", Answer: "The dues are 57 EUR."})
	assert.Equal(t, 1, strings.Count(out.String(), "The dues are 57 EUR."), "nobody has to, and it comes once: %s", out.String())
}

func TestWordsAppearAsTheyArriveAndOnce(t *testing.T) {
	var out bytes.Buffer
	p := newPrinter(&call{Streams: Streams{Out: &out, Err: &out}}, false)
	turn := func(status, text string) *trace.Step {
		return &trace.Step{ID: "t1", Kind: trace.Turn, Agent: "desk", Name: "turn 1", Status: status, Text: text}
	}
	event := func(s *trace.Step) api.Change {
		return api.Change{Event: ledger.New("t1", &ledger.TurnReceived{}), Steps: []*trace.Step{s}}
	}
	p.change(event(turn("going", "")))
	p.delta(api.Delta{Step: "t1", Text: "High "})
	assert.Equal(t, "desk     High ", out.String())
	p.delta(api.Delta{Step: "t1", Text: "water\nat"})
	p.change(event(turn("returned", "High water\nat noon.")))
	assert.True(t, strings.HasPrefix(out.String(), "desk     High water\n         at noon.\ndesk     turn 1"), out.String())
	out.Reset()
	p.answer(trace.Totals{Agent: "desk", Answer: "High water\nat noon."})
	assert.Empty(t, out.String())
	p.change(event(turn("going", "")))
	p.delta(api.Delta{Step: "t1", Text: "Low"}) // and then the connection broke, and another attempt said something else
	p.change(event(&trace.Step{ID: "t1", Kind: trace.Turn, Agent: "desk", Name: "turn 1", Status: "returned", Attempts: 2, Text: "High."}))
	assert.Contains(t, out.String(), "desk     Low\ndesk     High.\n")
}

func TestEachSpeakerHasOneColour(t *testing.T) {
	p := newPrinter(&call{colour: true}, false)
	seen := map[string]string{}
	for _, name := range []string{"desk", "berths", "tides", "pilots", "customs"} {
		a := p.speaker(name)
		assert.Equal(t, a, p.speaker(name), "it stays")
		assert.Empty(t, seen[a], "%s and %s", name, seen[a])
		seen[a] = name
		assert.NotEqual(t, "31", a, "red says that something needs a person")
		lead, _ := p.lead(a, name)
		assert.Contains(t, string(lead), name, "and the name is always there")
	}
}

func TestTextsStandBehindTheColumnOfNames(t *testing.T) {
	out := &strings.Builder{}
	p := newPrinter(&call{Streams: Streams{Out: out}, wide: 12}, false)
	p.answer(trace.Totals{Agent: "berth_letter", Answer: "Dear Petrel,\nA berth is kept."})
	p.says("", "ann", "Thank you.\nGoodbye.")
	p.says("", "the_name_of_a_relay_that_is_long", "One.\nTwo.")
	for _, line := range []string{"berth_letter Dear Petrel,\n             A berth is kept.\n", "ann          Thank you.\n             Goodbye.\n", "_long One.\n                                 Two.\n"} {
		assert.Contains(t, out.String(), line)
	}
}

func TestAConversationInTheTerminal(t *testing.T) {
	h := serve(t, coretest.Main)
	code, out, errs := h.run("\n\n:help\nTell me the tide.\n:state\n:step\n:step 1\n:tools\n:model\n:model spare\n:model spar\n:model -\n:stat\n:new\n:state\n::not an order\n"+strings.Repeat("Sound the horn.\n", 2)+"exit\nnever said\n", "talk", "-stubs")
	require.Equal(t, fine, code, errs)
	for _, part := range []string{":state   the facts that the session keeps", "desk     high", "turn 2", "request ", "tool   ", "spare answers from now on.", "The agents' own models answer from now on.", "The next message begins a new session."} {
		assert.Contains(t, out, part)
	}
	for _, part := range []string{`unknown model "spar". Did you mean "spare"? :model lists them.`, `there is no :stat. Did you mean "state" or "step"?`, "there is no state yet: say something first", "Continue with   stonebaton talk -session "} {
		assert.Contains(t, errs, part)
	}
	runs := h.messages()
	assert.Equal(t, []string{"Sound the horn.", "Sound the horn.", ":not an order", "Tell me the tide."}, runs, "an empty line says nothing, and nothing is said after exit")
}

func TestFollowWhateverRunsNext(t *testing.T) {
	h := serve(t, coretest.Main)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	out := &shared{}
	done := make(chan int, 1)
	go func() {
		done <- Run(ctx, []string{"follow", "-at", h.url}, Streams{In: strings.NewReader(""), Out: out, Err: out}, Program{})
	}()
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "Waiting for what runs next") }, 10*time.Second, time.Millisecond)
	require.Eventually(t, func() bool { // its stream may not be open yet
		_, err := h.app.Engine.Begin(ctx, engine.Start{Text: "Tell me the tide.", Tools: ledger.ToolsStubs})
		return err == nil && strings.Contains(out.String(), "local    Tell me the tide.\n") && strings.Contains(out.String(), " done: ")
	}, 10*time.Second, 50*time.Millisecond)
	b, err := h.app.Engine.Begin(ctx, engine.Start{Text: lookUp, Tools: ledger.ToolsStubs})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "ticket 1: ") }, 10*time.Second, time.Millisecond)
	require.NoError(t, h.app.Engine.Settle(ctx, b.Run, "t2.c1", loop.Settlement{Verb: ledger.Allow}))
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "run "+b.Run+" done") }, 10*time.Second, time.Millisecond, "a run that waited is taken up again: %s", out)
	cancel()
	<-done
}

func TestWhatAppearsWaitsForAPerson(t *testing.T) {
	h := serve(t, coretest.Main)
	h.write("s.yaml", "source: things\nmcp: {command: [no-such-program-xy], sandbox: none}\ntake: [look]\n")
	require.Eventually(t, func() bool {
		_, out, _ := h.run("", "trust")
		return strings.Contains(out, "source things starts the program no-such-program-xy outside the sandbox\n    s.yaml:1:9   let it with   stonebaton trust things")
	}, 10*time.Second, 10*time.Millisecond)
	code, _, errs := h.run("", "trust", "thing")
	assert.Equal(t, wrongUse, code)
	assert.Contains(t, errs, "nothing of the name thing waits")
	code, out, errs := h.run("", "trust", "things")
	require.Equal(t, fine, code, errs)
	assert.Contains(t, out, "The source things may run now")
	_, out, _ = h.run("", "trust")
	assert.Equal(t, "Nothing waits to run outside the sandbox.\n", out)
}

func TestABrokenEditIsSaidWithTheNextMessage(t *testing.T) {
	h := serve(t, coretest.Main)
	h.write("b.yaml", "tool: Bad Name\n")
	require.Eventually(t, func() bool {
		_, _, errs := h.run("", "say", "-stubs", "Tell me the tide.")
		return strings.Contains(errs, "note: answered by the last good version of the project; b.yaml:1:")
	}, 10*time.Second, 10*time.Millisecond)
}

func TestTheServiceOfAnotherProjectIsNoted(t *testing.T) {
	h := serve(t, coretest.Main)
	t.Setenv("STONEBATON_URL", h.url)
	say := func() string {
		var out, errs bytes.Buffer
		Run(context.Background(), []string{"runs"}, Streams{In: strings.NewReader(""), Out: &out, Err: &errs}, Program{})
		return errs.String()
	}
	t.Chdir(t.TempDir())
	assert.Empty(t, say(), "in a folder that is no project")
	require.NoError(t, os.WriteFile("stonebaton.yaml", []byte(coretest.Main), 0o600))
	assert.Contains(t, say(), "note: the service at "+h.url+" runs the project in "+h.app.Projects.Dir()+", not the one in this folder")
	t.Chdir(h.app.Projects.Dir())
	assert.Empty(t, say())
	t.Setenv("STONEBATON_URL", "")
	require.NoError(t, h.app.Announce(h.url))
	var out, errs bytes.Buffer
	assert.Equal(t, fine, Run(context.Background(), []string{"runs"}, Streams{In: strings.NewReader(""), Out: &out, Err: &errs}, Program{}), "it is found without being named: %s", errs.String())
	assert.Contains(t, out.String(), "No runs.")
}

func TestWhoSpeaksAndWithWhichState(t *testing.T) {
	h := serve(t, coretest.Main)
	code, out, errs := h.run("", "say", "-json", "-stubs", "-person", "ann", "-state", `{"length_m": 12}`, "Tell me the tide.")
	require.Equal(t, fine, code, errs)
	var s Said
	require.NoError(t, json.Unmarshal([]byte(out), &s))
	assert.Equal(t, map[string]any{"length_m": 12.0}, s.State)
	_, out, _ = h.run("", "show", s.ID)
	assert.Contains(t, out, "ann      Tell me the tide.")
	code, _, errs = h.run("", "say", "-state", "{", "x")
	assert.Equal(t, wrongUse, code)
	assert.Contains(t, errs, "-state is not a JSON object")
	_, out, _ = h.run("", "models", "-test", "m", "-test", "spare")
	assert.Contains(t, out, "m answers in ")
	assert.Contains(t, out, "spare answers in ")
	_, _, errs = h.run("", "runs", "-limit", "5000")
	assert.Contains(t, errs, "limit must be from 1 to 1000")
}

func TestCommandsInAFolderWithAnyName(t *testing.T) {
	for _, name := range []string{"Hafen büro", "100%", "a#b?c", "日誌"} {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		t.Chdir(dir)
		for _, args := range [][]string{{"new", "p"}, {"check", "p"}, {"drill", "-dir", "p"}, {"try", "lend_tool", "-dir", "p", "-args", `{"item":"saw","days":2}`}, {"tools", "-dir", "p"}} {
			var out, errs bytes.Buffer
			assert.Equal(t, fine, Run(context.Background(), args, Streams{In: strings.NewReader(""), Out: &out, Err: &errs}, Program{}), "%s: %v: %s", name, args, errs.String())
		}
	}
	var errs bytes.Buffer
	assert.Equal(t, failed, Run(context.Background(), []string{"check", "nowhere"}, Streams{Out: &errs, Err: &errs}, Program{}))
	assert.Contains(t, errs.String(), "cannot find the folder nowhere")
	errs.Reset()
	assert.Equal(t, failed, Run(context.Background(), []string{"check", "/"}, Streams{Out: &errs, Err: &errs}, Program{}))
	assert.Contains(t, errs.String(), "so this folder is not a project")
	errs.Reset()
	assert.Equal(t, fine, Run(context.Background(), []string{"schema", "expressions"}, Streams{Out: &errs, Err: &errs}, Program{}))
	assert.Contains(t, errs.String(), "fixed(x, n)")
}

func TestARowOfATableTakesOneLineOfATerminal(t *testing.T) {
	rows := [][]any{{"find_vessel", strings.Repeat("Look a vessel up. ", 9)}, {"toot", "Sound the horn."}}
	for _, tty := range []bool{true, false} {
		var out bytes.Buffer
		k := &call{Streams: Streams{Out: &out}, tty: tty}
		require.NoError(t, k.table("tool summary", rows))
		lines := strings.Split(out.String(), "\n")
		require.Len(t, lines, 4)
		assert.Equal(t, "toot          Sound the horn.", lines[2])
		if tty {
			assert.Len(t, []rune(lines[1]), 79)
			assert.Contains(t, lines[1], "…")
		} else {
			assert.Contains(t, lines[1], strings.TrimSpace(rows[0][1].(string)), "a file gets all of it")
		}
	}
}

// FuzzVisible: nothing that a terminal obeys is left of any text.
func FuzzVisible(f *testing.F) {
	f.Add("plain\n\ttext")
	f.Add("\x1b]8;;http://x\x07\u202e\xff\u009b2J\r")
	f.Fuzz(func(t *testing.T, s string) {
		for _, text := range []string{visible(s), shown(s)} {
			for _, r := range text {
				assert.False(t, r < ' ' && r != '\n' && r != '\t' || r == 0x7f || obeyed(r) || r == utf8.RuneError && !strings.ContainsRune(s, utf8.RuneError), "%q in %q", r, text)
			}
		}
		assert.NotContains(t, shown(s), "\n")
	})
}
