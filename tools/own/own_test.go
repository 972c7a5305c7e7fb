package own_test

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton/core/ledger"
	"stonebaton/tools/own"
	"stonebaton/tools/tooltest"
)

func TestAFunctionCanEndInEveryWay(t *testing.T) {
	p := tooltest.Project(t, "tool: f\nsummary: Do f when it is asked for.\ngo: true\ntimeout: 1s\n", nil)
	end := func(f func(context.Context, any) (any, error)) (any, string, ledger.Outcome, string) {
		r, bad := tooltest.Call(t, own.New([]own.Tool{{Name: "f", Call: f}}), p, "f", nil)
		if bad == nil {
			return r.Value, "", "", ""
		}
		return nil, bad.Class, bad.Outcome, bad.Say
	}
	v, _, _, _ := end(func(context.Context, any) (any, error) { return "done", nil })
	assert.Equal(t, "done", v)
	_, class, outcome, say := end(func(context.Context, any) (any, error) { return nil, &own.Refusal{Say: "no"} })
	assert.Equal(t, []any{"refused", ledger.NotDone, "no"}, []any{class, outcome, say})
	_, class, outcome, _ = end(func(context.Context, any) (any, error) { return nil, errors.New("half") })
	assert.Equal(t, []any{"go", ledger.Unknown}, []any{class, outcome})
	_, class, _, say = end(func(context.Context, any) (any, error) { panic("over") })
	assert.Equal(t, "panic", class)
	assert.Equal(t, "f broke down: over", say)
	_, class, _, _ = end(func(ctx context.Context, _ any) (any, error) { <-ctx.Done(); return nil, ctx.Err() })
	assert.Equal(t, "timeout", class)
	_, bad := tooltest.Call(t, own.New(nil), p, "f", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "this program has no function for f")
}
