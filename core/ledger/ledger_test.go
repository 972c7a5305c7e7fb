package ledger_test

import (
	"encoding/json"
	"reflect"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
)

var all = []ledger.Data{&ledger.RunOpened{}, &ledger.StopAsked{}, &ledger.RunRecovered{}, &ledger.RunClosed{}, &ledger.TurnSent{}, &ledger.TurnReceived{}, &ledger.TurnFailed{}, &ledger.CallDecided{},
	&ledger.CallStarted{}, &ledger.CallReturned{}, &ledger.CallFailed{}, &ledger.CallRefused{}, &ledger.BatonPassed{}, &ledger.StateChanged{}, &ledger.GateRaised{}, &ledger.GateVoted{}, &ledger.GateSettled{}, &ledger.TimerFired{}, &ledger.CallLooked{}, &ledger.FileUndone{}, &ledger.ThreadOpened{}, &ledger.ThreadClosed{}, &ledger.LimitReached{},
	&ledger.FrameOpened{}, &ledger.FrameClosed{}, &ledger.LegEntered{}, &ledger.LegLeft{}, &ledger.GuardrailSettled{}, &ledger.HookFired{}}

func TestEveryKindIsWrittenAndRead(t *testing.T) {
	kinds := map[ledger.Kind]bool{}
	for _, d := range all {
		fill(reflect.ValueOf(d).Elem())
		e := ledger.New("t1", d)
		e.Run, e.Seq, e.At = "a-1", 3, time.Date(2026, 5, 4, 9, 0, 0, 1000, time.UTC)
		raw, err := json.Marshal(e)
		require.NoError(t, err)
		var back ledger.Event
		require.NoError(t, json.Unmarshal(raw, &back), string(e.Kind))
		assert.Equal(t, e, back, string(e.Kind))
		assert.False(t, kinds[e.Kind], "a kind is one type's alone")
		kinds[e.Kind] = true
	}
	assert.Len(t, kinds, len(ledger.Kinds()), "every kind is tried")
}

// fill puts something into every field.
func fill(v reflect.Value) {
	switch v.Kind() {
	case reflect.Struct:
		if v.Type() == reflect.TypeOf(time.Time{}) {
			v.Set(reflect.ValueOf(time.Date(2026, 5, 4, 9, 30, 0, 0, time.UTC)))
			return
		}
		for i := range v.NumField() {
			fill(v.Field(i))
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem())
	case reflect.String:
		v.SetString("x")
	case reflect.Int, reflect.Int64:
		v.SetInt(7)
	case reflect.Float64:
		v.SetFloat(1.5)
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		if e := v.Type().Elem(); e.Kind() == reflect.Struct || e.Kind() == reflect.Slice {
			x := reflect.New(e).Elem()
			fill(x)
			v.SetMapIndex(reflect.ValueOf("a"), x)
			return
		}
		if e := v.Type().Elem(); e.Kind() == reflect.String {
			v.SetMapIndex(reflect.ValueOf("a"), reflect.ValueOf("b").Convert(e))
		} else {
			v.SetMapIndex(reflect.ValueOf("a"), reflect.ValueOf(1.0))
		}
	case reflect.Slice:
		if v.Type() == reflect.TypeOf(json.RawMessage{}) {
			v.Set(reflect.ValueOf(json.RawMessage(`{"a":1}`)))
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0))
	}
}

func TestKeysAreTheSameAtEveryAttempt(t *testing.T) {
	assert.Equal(t, ledger.Key("a-1", "t1.c1"), ledger.Key("a-1", "t1.c1"))
	assert.NotEqual(t, ledger.Key("a-1", "t1.c1"), ledger.Key("a-1", "t1.c2"))
	assert.NotEqual(t, ledger.Key("a-1", "t1.c1"), ledger.Key("a-11", "t1.c1"))
	assert.Len(t, string(ledger.HashOf(nil)), 32)
}

func TestStatusAndVerbs(t *testing.T) {
	for s, over := range map[ledger.Status]bool{ledger.Going: false, ledger.Held: false, ledger.Done: true, ledger.Failed: true, ledger.Stopped: true} {
		assert.Equal(t, over, s.Over(), s)
	}
	assert.NotContains(t, ledger.GateTicket.Verbs(), ledger.Happened)
	assert.NotContains(t, ledger.OutcomeTicket.Verbs(), ledger.Allow)
}

func TestStepsAreStructural(t *testing.T) {
	step := ledger.StepID("").Turn(1).Call(2).Turn(3).Call(4)
	assert.EqualValues(t, "t1.c2.t3.c4", step)
	assert.EqualValues(t, "t1.c2", step.Thread(), "the call is made on the thread that t1.c2 opened")
	assert.EqualValues(t, "t1.c2", step.Parent().Thread())
	assert.EqualValues(t, "", step.Thread().Thread(), "and that was opened from the main thread")
	assert.Equal(t, "t1.c2", ledger.ThreadName(step))
	assert.Equal(t, "main", ledger.ThreadName("t1.c2"))
	for _, good := range []ledger.StepID{"", "limit", "t0", "t0.c1", "t1.c2.t3", "t10.c20", "r", "r.write:2", "r.write:2.t1.c1", "r.ships:1.i3.t1", "t1.c2.a_b:1.sub:12.t0.c1"} {
		assert.NoError(t, good.Check(), good)
	}
	for _, bad := range []ledger.StepID{"c1", "t", "t1.t2", "t1.c", "t01", "t1.", ".t1", "t-1", "t1.c1.c2", "t1.x2", "T1", "t1.ct2", "r.r", "t1.r", "write:1", "r.t1", "r.i1", "t1.write:1", "r.Write:1", "r.write:", "r.write:01", "r.write:1.i1.i1", "r.write:1.c1", "r.c1"} {
		assert.Error(t, bad.Check(), bad)
	}
}

func TestWhatIsUnknownIsAnError(t *testing.T) {
	read := func(v int, kind, data string) error {
		var e ledger.Event
		return json.Unmarshal([]byte(`{"run":"a-1","seq":1,"at":"2026-05-04T09:00:00Z","v":`+strconv.Itoa(v)+`,"kind":"`+kind+`","thread":"main","step":"t1","data":`+data+`}`), &e)
	}
	var unknown *ledger.UnknownError
	require.ErrorAs(t, read(2, "turn.dreamt", `{}`), &unknown)
	assert.ErrorContains(t, unknown, "does not know the kind")
	require.ErrorAs(t, read(3, "turn.sent", `{}`), &unknown)
	assert.ErrorContains(t, unknown, "reads it up to version 2")
	require.ErrorAs(t, read(2, "turn.sent", `{"agent":"a","mood":"good"}`), &unknown)
	assert.ErrorContains(t, unknown, `a field "mood" that this one does not know`)
	assert.NoError(t, read(1, "turn.sent", `{"agent":"a","mood":"good"}`), "older ones are read as they were written")
	assert.Error(t, read(2, "turn.sent", `{"agent":7}`))

	var e ledger.Event
	require.NoError(t, json.Unmarshal([]byte(`{"run":"a-1","seq":1,"at":"2026-05-04T09:00:00Z","v":1,"kind":"call.decided","thread":"main","step":"t1.c1","data":{"turn":"t1","n":1}}`), &e))
	assert.EqualValues(t, "t1", e.Data.(*ledger.CallDecided).Of, "and taken to what they are now")
	require.NoError(t, json.Unmarshal([]byte(`{"run":"a-1","seq":1,"at":"2026-05-04T09:00:00Z","v":1,"kind":"timer.fired","thread":"main","step":"limit","data":{"due":"2026-05-04T09:00:00Z"}}`), &e))
	assert.Equal(t, ledger.ForLimit, e.Data.(*ledger.TimerFired).What)
}

func TestWhatAStepLiesOn(t *testing.T) {
	for step, on := range map[ledger.StepID]ledger.StepID{"": "", "limit": "", "r": "", "t1": "", "t1.c2": "", "t1.c2.t3": "t1.c2", "t1.c2.t3.c4": "t1.c2", "r.write:1": "r", "r.write:1.t1": "r.write:1",
		"r.write:1.t1.c1": "r.write:1", "r.ships:1.i3": "r", "r.ships:1.i3.t2": "r.ships:1.i3", "t1.c2.write:1": "t1.c2", "r.sub:1.c1_:2": "r.sub:1"} {
		assert.Equal(t, on, step.Thread(), step)
	}
	name, n := ledger.Root.Leg("write", 2).LegName()
	assert.Equal(t, []any{"write", 2}, []any{name, n})
}
