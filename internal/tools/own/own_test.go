package own_test

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/tools/own"
	"stonebaton.example/internal/tools/tooltest"
)

func TestAFunctionCanEndInEveryWay(t *testing.T) {
	p := tooltest.Project(t, "tool: f\nsummary: Do f when it is asked for.\ngo: true\ntimeout: 1s\n", nil)
	end := func(f func(context.Context, any) (any, error)) (any, string, ledger.Outcome, string) {
		r, bad := tooltest.Call(t, own.New([]own.Tool{{Name: "f", Call: f}}), p, "f", nil)
		if bad == nil {
			return r.Value, "", "", ""
		}
		return nil, string(bad.Class), bad.Outcome, bad.Say
	}
	v, _, _, _ := end(func(context.Context, any) (any, error) { return "done", nil })
	assert.Equal(t, "done", v)
	_, class, outcome, say := end(func(context.Context, any) (any, error) { return nil, &own.Refusal{Say: "no"} })
	assert.Equal(t, []any{"refused", ledger.NotDone, "no"}, []any{class, outcome, say})
	_, class, outcome, _ = end(func(context.Context, any) (any, error) { return nil, errors.New("half") })
	assert.Equal(t, []any{"go", ledger.Unknown}, []any{class, outcome})
	_, class, _, say = end(func(context.Context, any) (any, error) { panic("over") })
	assert.Equal(t, "panic", class)
	assert.Equal(t, "f panicked: over", say)
	_, class, _, _ = end(func(ctx context.Context, _ any) (any, error) { <-ctx.Done(); return nil, ctx.Err() })
	assert.Equal(t, "timeout", class)
	forever := make(chan struct{})
	t.Cleanup(func() { close(forever) })
	_, class, _, say = end(func(context.Context, any) (any, error) { <-forever; return nil, nil })
	assert.Equal(t, "timeout", class, "a function that does not look at its context is not waited for")
	assert.Equal(t, "f had not ended after 1s", say)
	_, bad := tooltest.Call(t, own.New(nil), p, "f", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "this program has no function for f")
}

func TestAFunctionHasALog(t *testing.T) {
	p := tooltest.Project(t, "tool: f\nsummary: Do f when it is asked for.\ngo: true\n", nil)
	var heard []string
	r, bad := tooltest.Call(t, own.New([]own.Tool{{Name: "f", Call: func(ctx context.Context, _ any) (any, error) {
		own.Log(ctx, "half way")
		return 1, nil
	}}}), p, "f", nil, func(i *deed.Invocation) { i.Log = func(line string) { heard = append(heard, line) } })
	require.Nil(t, bad)
	assert.Equal(t, "half way\n", r.Sent.Log)
	assert.Equal(t, []string{"half way"}, heard)
	own.Log(t.Context(), "said to nobody")
}

func TestAFunctionAttachesFiles(t *testing.T) {
	p := tooltest.Project(t, "tool: f\nsummary: Do f when it is asked for.\ngo: true\n", nil)
	r, bad := tooltest.Call(t, own.New([]own.Tool{{Name: "f", Call: func(ctx context.Context, _ any) (any, error) {
		return own.Attach(ctx, "a.txt", "text/plain", []byte("a")), nil
	}}}), p, "f", nil)
	require.Nil(t, bad)
	assert.Equal(t, []deed.File{{Name: "a.txt", Type: "text/plain", Body: []byte("a")}}, r.Files)
	assert.Equal(t, "a.txt", r.Value.(map[string]any)["file"])
	assert.Nil(t, own.Attach(t.Context(), "a", "", nil), "for nobody")
}
