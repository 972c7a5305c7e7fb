package ledger_test

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
)

var all = []ledger.Data{&ledger.RunOpened{}, &ledger.StopAsked{}, &ledger.RunRecovered{}, &ledger.RunClosed{}, &ledger.TurnSent{}, &ledger.TurnReceived{}, &ledger.TurnFailed{}, &ledger.CallDecided{},
	&ledger.CallStarted{}, &ledger.CallReturned{}, &ledger.CallFailed{}, &ledger.CallRefused{}, &ledger.BatonPassed{}, &ledger.StateChanged{}, &ledger.GateRaised{}, &ledger.GateSettled{}, &ledger.TimerFired{}}

func TestEveryKindIsWrittenAndRead(t *testing.T) {
	kinds := map[ledger.Kind]bool{}
	for _, d := range all {
		fill(reflect.ValueOf(d).Elem())
		e := ledger.New("t1", d)
		e.Run, e.Seq, e.At = "a-1", 3, time.Date(2026, 5, 4, 9, 0, 0, 1000, time.UTC)
		raw, err := json.Marshal(e)
		require.NoError(t, err)
		var back ledger.Event
		require.NoError(t, json.Unmarshal(raw, &back), string(d.Kind()))
		assert.Equal(t, e, back, string(d.Kind()))
		assert.False(t, kinds[d.Kind()], "a kind is one type's alone")
		kinds[d.Kind()] = true
	}
	assert.Len(t, kinds, 17)
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
