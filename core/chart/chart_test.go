package chart_test

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/chart"
	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
)

func node(t *testing.T, c *chart.Chart, id string) *chart.Node {
	t.Helper()
	for _, n := range c.Nodes {
		if n.ID == id {
			return n
		}
	}
	t.Fatal("there is no node " + id)
	return nil
}

func way(c *chart.Chart, from, to string, link chart.Link) *chart.Way {
	for _, w := range c.Ways {
		if w.From == from && w.To == to && w.Link == link {
			return w
		}
	}
	return nil
}

func TestTheMapOfAProjectHasAllThatLeadsSomewhere(t *testing.T) {
	c := chart.Of(coretest.Project(t, coretest.Letters))
	assert.NotNil(t, way(c, "relay:letter", "relay:card", chart.Goes))
	assert.NotNil(t, way(c, "relay:round", "agent:writer", chart.Works), "branches too")
	assert.NotNil(t, way(c, "relay:trip", "tool:reserve", chart.Calls), "candidates of a plan too")
	assert.NotNil(t, way(c, "relay:talk", "agent:reader", chart.Works))
	assert.NotNil(t, way(c, "agent:desk", "relay:letter", chart.Goes), "a relay is a tool of an agent")
	assert.True(t, node(t, c, "agent:desk").Start)
	assert.True(t, node(t, c, "tool:reserve").Gate)
	seen := map[[2]int]string{}
	for _, n := range c.Nodes {
		at := [2]int{n.X, n.Y}
		assert.Empty(t, seen[at], "%s lies on %s", n.ID, seen[at])
		seen[at] = n.ID
		assert.LessOrEqual(t, n.X+n.W/2, c.Width)
		assert.Less(t, n.Y, c.Height)
	}
	tree := chart.Of(coretest.Project(t, coretest.Tree))
	assert.NotNil(t, way(tree, "agent:desk", "agent:dues", chart.Consults))
}

func TestTheMapOfARelayHasEveryWayOutOfALeg(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	c := chart.OfRelay(p, p.Relays["card"])
	assert.Equal(t, "kept.facts.length_m > 100.0", way(c, "leg:size", "leg:large", chart.When).When)
	assert.Empty(t, way(c, "leg:size", "leg:small", chart.When).When)
	assert.Nil(t, way(c, "leg:size", "leg:berth", chart.Next), "the last way always holds")
	assert.NotNil(t, way(c, "leg:berth", "leg:sorry", chart.Fails))
	assert.Less(t, node(t, c, "leg:facts").Y, node(t, c, "leg:size").Y, "it goes down the page")
	assert.NotNil(t, way(chart.OfRelay(p, p.Relays["letter"]), "leg:again", "leg:write", chart.When), "and back up")
	assert.NotNil(t, way(chart.OfRelay(p, p.Relays["line"]), "leg:reader", "end", chart.Next))
}

func TestTheWaysOfWhatPeopleDoNotAllowAreNamed(t *testing.T) {
	p := coretest.Project(t, `project: signed
start: writer
model: m
models: {m: {speaks: understudy}}
---
agent: writer
summary: Writes.
prompt: You write.
---
relay: letter
legs:
  write: {agent: writer, keep: letter, fails: late}
  sign:  {gate: {show: "{{ kept.letter }}", within: 1d}, back: write, tries: 2, refused: no, lapsed: late}
  done:  {finish: "{{ kept.letter }}"}
  no:    {finish: "It is refused."}
  late:  {finish: "Nobody signed."}
`)
	c := chart.OfRelay(p, p.Relays["letter"])
	for _, line := range []string{"fails → late\n", " → done\n", "sent back → write\n", "refused → no\n", "lapsed → late\n"} {
		assert.Contains(t, c.Text(), line)
	}
	assert.Equal(t, 4, strings.Count(c.DOT(), "style=dashed"))
	assert.Equal(t, 4, strings.Count(c.Mermaid(), "-.->"))
	assert.Equal(t, 4, strings.Count(c.SVG(), `class="w f"`))
}

func TestARunIsDrawnInWithTheValuesOnWhichAConditionHeld(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	w := coretest.Begin(p, ledger.RunOpened{Relay: "card", Input: json.RawMessage(`{"name":"Long One"}`), Text: "card"})
	w.Step()
	w.Return("r.facts:1.t0.c1", map[string]any{"length_m": 146.0})
	w.Step()
	c := chart.OfRelay(p, p.Relays["card"])
	require.NoError(t, c.Path("w-1", w.Events))
	took := way(c, "leg:size", "leg:large", chart.When)
	assert.Equal(t, []int{1}, took.Taken)
	assert.Equal(t, []chart.Held{{Run: "w-1", Visit: 1, Values: []string{"kept.facts.length_m = 146"}}}, took.Held)
	assert.Equal(t, []int{0}, way(c, "leg:size", "leg:small", chart.When).Taken)
	require.NoError(t, c.Path("w-1", w.Events[:5]))
	assert.Equal(t, []int{1, 0}, took.Taken, "the paths of two runs together")

	whole := chart.Of(p)
	require.NoError(t, whole.Path("w-1", w.Events))
	assert.Equal(t, []int{1}, node(t, whole, "tool:look").Taken)
	assert.Equal(t, []int{1}, way(whole, "relay:card", "tool:look", chart.Calls).Taken)
	assert.Equal(t, []int{1}, node(t, whole, "relay:card").Taken)
	require.Error(t, whole.Path("w-2", w.Events[1:]))
}

func TestTheStepsOfAPlanAreTheRelays(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	w := coretest.Begin(p, ledger.RunOpened{Relay: "trip", Input: json.RawMessage(`{"text":"to Kelmere"}`), Text: "trip"})
	w.Step()
	w.Reply("", `next_step {"who":"look","with":{"name":"Petrel"}}`)
	w.Step()
	w.Return("r.plan:1.t1.c1.t0.c1", map[string]any{"length_m": 46.0})
	w.Step()
	w.Reply("", `next_step {"who":"reader","ask":"read it"}`)
	w.Step()
	c := chart.Of(p)
	require.NoError(t, c.Path("w-1", w.Events))
	assert.Equal(t, []int{1}, way(c, "relay:trip", "agent:desk", chart.Works).Taken)
	assert.Equal(t, []int{1}, way(c, "relay:trip", "tool:look", chart.Calls).Taken)
	assert.Equal(t, []int{1}, way(c, "relay:trip", "agent:reader", chart.Works).Taken)
}

// hostile has names and conditions that mean something in every language that is written.
var hostile = strings.Replace(coretest.Letters, `summary: Look a vessel up and reserve a berth for it when both are asked for.`, `summary: '"]<script>alert(1)</script>--> }'`, 1)

func TestWhatIsWrittenIsWellFormed(t *testing.T) {
	p := coretest.Project(t, hostile)
	for _, c := range []*chart.Chart{chart.Of(p), chart.OfRelay(p, p.Relays["card"])} {
		raw, err := json.Marshal(c)
		require.NoError(t, err)
		again := &chart.Chart{}
		require.NoError(t, json.Unmarshal(raw, again))
		assert.Equal(t, c.Text(), again.Text(), "a map that came as JSON is written alike")
		svg := again.SVG()
		assert.NotContains(t, svg, "<script")
		d := xml.NewDecoder(strings.NewReader(svg))
		for {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				break
			} else {
				require.NoError(t, err)
			}
		}
		assert.Equal(t, strings.Count(c.DOT(), "{"), strings.Count(c.DOT(), "}"))
		assert.NotContains(t, c.Mermaid(), "<script")
	}
	assert.Contains(t, chart.OfRelay(p, p.Relays["card"]).Mermaid(), "kept.facts.length_m #gt; 100.0")
}

func TestWhoJudgesIsOnTheMap(t *testing.T) {
	p := coretest.Project(t, strings.Replace(coretest.Letters, "prompt: You are the desk.\n", "prompt: You are the desk.\ngood_when: {judge: reader, that: \"It is kind.\"}\n", 1))
	w := coretest.Begin(p, ledger.RunOpened{Relay: "tried", Input: json.RawMessage(`{"text":"x"}`), Text: "x"})
	for _, reply := range []string{"a letter", "a letter", `{"good":true,"remarks":""}`} {
		w.Step()
		w.Reply(reply)
	}
	c := chart.Of(p)
	require.NoError(t, c.Path("w-1", w.Events))
	assert.Equal(t, []int{1}, way(c, "relay:tried", "agent:reader", chart.Works).Taken, "by a leg")

	w = coretest.Begin(p, ledger.RunOpened{Agent: "desk", Text: "Hello."})
	w.Step()
	w.Reply("Good day.")
	w.Step()
	c = chart.Of(p)
	require.NoError(t, c.Path("w-1", w.Events))
	assert.Equal(t, []int{1}, way(c, "agent:desk", "agent:reader", chart.Judged).Taken, "by an agent")
}
