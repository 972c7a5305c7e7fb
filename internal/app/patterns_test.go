package app_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/understudy"
)

// kept is a log that remembers what was appended to it, batch by batch.
type kept struct {
	*engine.Memory
	mu      sync.Mutex
	opening engine.Opening
	batches []engine.Batch
}

func (k *kept) Open(ctx context.Context, o engine.Opening) error {
	k.mu.Lock()
	k.opening = o
	k.mu.Unlock()
	return k.Memory.Open(ctx, o)
}

func (k *kept) Append(ctx context.Context, b engine.Batch) error {
	k.mu.Lock()
	k.batches = append(k.batches, b)
	k.mu.Unlock()
	return k.Memory.Append(ctx, b)
}

type only struct{ p *project.Project }

func (o only) Current() (*project.Project, error) { return o.p, nil }

func (o only) Version(context.Context, ledger.Hash) (*project.Project, error) { return o.p, nil }

// Every pattern is run with the understudy, then once more for each append of it, killed
// there, and comes to the same.
func TestEveryPatternThatIsKilledAtEveryAppendComesToTheSame(t *testing.T) {
	root := t.TempDir()
	for _, d := range []string{"patterns", "patterns_server"} {
		require.NoError(t, os.CopyFS(filepath.Join(root, d), os.DirFS("../../examples/"+d)))
	}
	program := filepath.Join(root, "stonebaton") // the tool server of one of them
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/stonebaton").CombinedOutput()
	require.NoError(t, err, "%s", out)
	shop := shopIn(t, filepath.Join(root, "patterns"))
	p, _, probs := shop.Read(ctx, func(name string) (string, bool) { return program, name == "STONEBATON" }, nil)
	require.NotNil(t, p, "%v", probs)
	start := func(log engine.Records) *engine.Engine {
		e := engine.New(engine.Config{Log: log, Models: model.Set{"understudy": &understudy.Wire{Always: true}}, Tools: shop.Set, Projects: only{p}, Blanker: shop.Secrets, Live: &live.Hub{}, Clock: engine.WallClock{}, Jitter: func() float64 { return 0 }, NewID: func() string { return "run" }})
		require.NoError(t, e.Start(ctx))
		return e
	}
	outcome := func(e *engine.Engine, run string) string {
		c, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		require.NoError(t, e.Wait(c))
		s, err := e.State(ctx, run)
		require.NoError(t, err)
		require.NotNil(t, s.Closed())
		return fmt.Sprint(s.Closed().Status, " ", s.Closed().Answer, " ", s.Calls(), " ", s.Legs())
	}
	relays := map[string]bool{}
	for _, d := range p.Drills {
		say := d.Says[0]
		if say.Relay == "" || len(d.Legs) > 0 {
			continue
		}
		relays[say.Relay] = true
		input, err := json.Marshal(say.Input)
		require.NoError(t, err)
		log := &kept{Memory: engine.NewMemory()}
		e := start(log)
		b, err := e.Begin(ctx, engine.Start{Relay: say.Relay, Input: input})
		require.NoError(t, err)
		want := outcome(e, b.Run)
		e.Close()
		for cut := range len(log.batches) + 1 {
			mem := engine.NewMemory()
			o := log.opening
			o.Events = slices.Clone(o.Events)
			require.NoError(t, mem.Open(ctx, o))
			for _, x := range log.batches[:cut] {
				require.NoError(t, mem.Append(ctx, x))
			}
			again := start(mem)
			assert.Equal(t, want, outcome(again, b.Run), "%s, killed after append %d", d.Name, cut)
			again.Close()
		}
	}
	assert.Len(t, relays, 10)
}
