package notice_test

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/right"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/notice"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/store"
)

const quay = `project: quay
start: desk
approvers: [harbourmaster, deputy]
models: {house: {speaks: understudy}}
notify: {tool: tell, args: {to: "=notice.address", subject: "{{ notice.kind }}: {{ notice.ask }}", text: "=notice.link"}}
---
tool: tell
summary: Tell somebody of the office that something waits for them.
effect: write
builtin: {do: outbox.send}
---
tool: moor
summary: Moor a vessel at the quay.
effect: write
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: "Name of the vessel."}}}
gate: {by: [harbourmaster], ask: "Moor {{ args.vessel }}?", within: 3h, remind: 1h, escalate: {after: 2h, to: [deputy]}}
stubs: [{returns: null}]
---
agent: desk
summary: Does what it is told.
prompt: You moor vessels.
tools: [moor]
`

var ctx = context.Background()

// clock is the time that a test says it is.
type clock struct{ now time.Time }

func (c *clock) Now() time.Time { return c.now }

func (c *clock) Until(time.Time, bool) (<-chan time.Time, func()) {
	panic("nobody waits here")
}

// broken fails until it is fixed, and counts.
type broken struct {
	engine.Tools
	fails, calls int
	after        func()
}

func (b *broken) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	if b.calls++; b.calls <= b.fails {
		return deed.Result{}, &deed.Failure{Say: "the mast is down"}
	}
	r, bad := b.Tools.Call(context.WithoutCancel(ctx), i)
	if b.after != nil {
		b.after()
	}
	return r, bad
}

type office struct {
	*testing.T
	app    *app.App
	clock  *clock
	tools  *broken
	teller *notice.Teller
}

func open(t *testing.T) *office {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(quay), 0o600))
	a, err := app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	for _, p := range []people.Person{{Name: "mara", Is: []string{"harbourmaster"}, Address: "mara@kelmere.example"}, {Name: "nils", Is: []string{"harbourmaster"}}, {Name: "siv", Is: []string{"deputy"}}} {
		p.Rights = []right.Right{right.Talk}
		_, err := a.People.Add(p, time.Now())
		require.NoError(t, err)
	}
	o := &office{t, a, &clock{time.Now().UTC()}, &broken{Tools: a.Tools}, nil}
	o.teller = &notice.Teller{Store: a.Store, Projects: a.Projects, Tools: o.tools, People: a.People, Signer: a.Links, Hub: a.Hub, Secrets: a.Secrets, Clock: o.clock, Logger: slog.New(slog.DiscardHandler), URL: func() string { return "https://quay.example" }}
	return o
}

// begin gives the id of the ticket of a run that is held.
func (o *office) begin(tools ledger.Tools) (run string, ticket int64) {
	b, err := o.app.Engine.Begin(ctx, engine.Start{Text: "Moor the Gannet, please.", Tools: tools, Person: "ines"})
	require.NoError(o, err)
	require.NoError(o, o.app.Engine.Wait(ctx))
	list, err := o.app.Store.Tickets(ctx, store.TicketFilter{Run: b.Run})
	require.NoError(o, err)
	require.Len(o, list, 1)
	o.clock.now = time.Now().UTC().Truncate(time.Microsecond)
	return b.Run, list[0].ID
}

func (o *office) tell(later time.Duration) time.Time {
	o.clock.now = o.clock.now.Add(later)
	next, err := o.teller.Tell(ctx)
	require.NoError(o, err)
	return next
}

// sent lists what was sent: to whom, and what about.
func (o *office) sent() string {
	list, err := o.app.Store.Messages(ctx, "")
	require.NoError(o, err)
	var out []string
	for _, m := range list {
		assert.True(o, strings.HasPrefix(m.Text, "https://quay.example/link#"), m.Text)
		assert.Empty(o, m.Run, "it belongs to no run, so that who asked does not find the link")
		out = append(out, m.To+" "+m.Subject)
	}
	return strings.Join(out, "\n")
}

func TestPeopleAreToldRemindedAndToldLater(t *testing.T) {
	o := open(t)
	run, ticket := o.begin(ledger.ToolsLive)
	next := o.tell(0)
	assert.Equal(t, "mara@kelmere.example raised: Moor Gannet?\nnils raised: Moor Gannet?", o.sent())
	assert.WithinDuration(t, o.clock.now.Add(time.Hour), next, 0)
	o.tell(59 * time.Minute)
	assert.NotContains(t, o.sent(), "reminder", "not before its time")
	o.tell(time.Minute)
	assert.Contains(t, o.sent(), "mara@kelmere.example reminder: Moor Gannet?\nnils reminder: Moor Gannet?")

	require.NoError(t, o.app.Store.Append(ctx, o.fires(run)), "more people may settle it now")
	o.tell(time.Second)
	assert.True(t, strings.HasSuffix(o.sent(), "siv escalated: Moor Gannet?"), o.sent())
	list, err := o.app.Store.NoticesOf(ctx, ticket)
	require.NoError(t, err)
	require.Len(t, list, 4)
	assert.Equal(t, []string{"mara", "nils"}, []string(list[0].Told))
	assert.Equal(t, "due", list[2].Status)
}

// fires makes the event of the timer of an escalation.
func (o *office) fires(run string) engine.Batch {
	events, err := engine.All(o.app.Store.Read(ctx, run, 0))
	require.NoError(o, err)
	last := events[len(events)-1]
	for i := len(events) - 1; events[i].Kind != ledger.KindGateRaised; i-- {
		last = events[i-1]
	}
	epoch, err := o.app.Store.Lease(ctx, run)
	require.NoError(o, err)
	row, err := o.app.Store.Run(ctx, run)
	require.NoError(o, err)
	e := ledger.New(last.Step, &ledger.TimerFired{What: ledger.ForMore, Due: time.Now(), Why: "nobody has decided yet"})
	e.Run, e.Seq, e.At = run, events[len(events)-1].Seq+1, time.Now().UTC().Truncate(time.Microsecond)
	b := engine.Batch{Run: run, Events: []ledger.Event{e}, Epoch: epoch}
	b.Head.Status, b.Head.OpenedAt, b.Head.LastAt = ledger.Status(row.Status), row.Opened.Time, e.At
	return b
}

func TestASettledTicketIsNotTold(t *testing.T) {
	o := open(t)
	run, ticket := o.begin(ledger.ToolsLive)
	o.tell(0)
	require.NoError(t, o.app.Engine.Settle(ctx, run, "t1.c1", loop.Settlement{Verb: ledger.RefuseIt, By: "nils", Stands: []string{"nils", "harbourmaster"}, Because: "No."}))
	before := o.sent()
	assert.True(t, o.tell(2*time.Hour).IsZero(), "nothing is left to do")
	assert.Equal(t, before, o.sent())
	list, err := o.app.Store.NoticesOf(ctx, ticket)
	require.NoError(t, err)
	assert.Equal(t, "over", list[1].Status)
}

func TestAMessageThatCannotBeSentIsTriedAgain(t *testing.T) {
	o := open(t)
	_, ticket := o.begin(ledger.ToolsLive)
	o.tools.fails = 1
	next := o.tell(0)
	assert.Equal(t, "nils raised: Moor Gannet?", o.sent(), "one could be told")
	assert.WithinDuration(t, o.clock.now.Add(20*time.Second), next, 0)
	list, err := o.app.Store.NoticesOf(ctx, ticket)
	require.NoError(t, err)
	assert.Equal(t, "mara: the mast is down", list[0].Failed)
	o.tell(20 * time.Second)
	assert.Equal(t, "nils raised: Moor Gannet?\nmara@kelmere.example raised: Moor Gannet?", o.sent(), "the other alone is told again")

	o.tools.fails, o.tools.calls = 1000, 0
	_, ticket = o.begin(ledger.ToolsLive)
	for range 8 {
		o.tell(20 * time.Minute)
	}
	list, err = o.app.Store.NoticesOf(ctx, ticket)
	require.NoError(t, err)
	assert.Equal(t, "failed", list[0].Status, "after some tries it is given up, and the ticket says so")
	assert.Equal(t, 6, list[0].Tries)
}

// TestANoticeIsMadeOnce ends the service between a call and what is kept of it: the call is
// made again with the same key, and the outbox knows it.
func TestANoticeIsMadeOnce(t *testing.T) {
	o := open(t)
	o.begin(ledger.ToolsLive)
	dying, kill := context.WithCancel(ctx)
	o.tools.after = kill
	_, err := o.teller.Tell(dying)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 2, o.tools.calls)
	o.tools.after = nil
	o.tell(0)
	assert.Equal(t, 4, o.tools.calls, "it is made again")
	assert.Equal(t, "mara@kelmere.example raised: Moor Gannet?\nnils raised: Moor Gannet?", o.sent(), "and nobody gets it twice")
}

func TestNobodyIsToldOfStubs(t *testing.T) {
	o := open(t)
	o.begin(ledger.ToolsStubs)
	o.tell(0)
	assert.Empty(t, o.sent())
}

func TestWhatIsWrongWithARuleForNotices(t *testing.T) {
	dir := t.TempDir()
	bad := strings.Replace(quay, "notice.address", "notice.adress", 1)
	bad = strings.Replace(bad, "builtin: {do: outbox.send}", "builtin: {do: outbox.send}\ngate: {by: [deputy]}", 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(bad+"---\ntool: cast_off\nsummary: Let a vessel go from the quay.\neffect: write\ngate: {by: [deputy], notify: {tool: tel, args: {to: x}}}\nstubs: [{returns: null}]\n"), 0o600))
	a, err := app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	defer a.Close()
	probs, _, _ := a.Projects.Problems()
	say := ""
	for _, p := range probs {
		say += p.Say + "\n"
	}
	assert.Contains(t, say, "adress")
	assert.Contains(t, say, `"tell" waits for people itself`)
	assert.Contains(t, say, `unknown tool "tel". Did you mean "tell"?`)
}
