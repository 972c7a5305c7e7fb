package bench

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools/code"
	"stonebaton.example/internal/tools/tooltest"
)

// functionsIn compiles a project with the functions of a text of Python.
func functionsIn(b *testing.B, dir, text string) (*code.Handler, *project.Project) {
	b.Helper()
	require.NoError(b, os.WriteFile(filepath.Join(dir, "f.py"), []byte(text), 0o600))
	h := code.New(dir, "", &tooltest.Secrets{})
	b.Cleanup(func() { _ = h.Close() })
	cat, err := h.Catalogue(b.Context(), project.OneFile("f.py"))
	require.NoError(b, err)
	require.Empty(b, cat.Broken)
	return h, tooltest.Project(b, "source: f\ncode: {file: f.py}\n", map[string]project.Catalogue{"f": cat})
}

// interpreter gives the program itself, where python3 is a script that chooses one.
func interpreter(b *testing.B) string {
	out, err := exec.Command("python3", "-c", "import sys; print(sys.executable)").Output()
	require.NoError(b, err)
	return strings.TrimSpace(string(out))
}

// BenchmarkFunction holds a call of a kept function of Python that does nothing against a line
// to a loop of Python, and back: one that reads the call and writes the answer as JSON, and one
// that reads nothing and sends the line back.
func BenchmarkFunction(b *testing.B) {
	h, p := functionsIn(b, b.TempDir(), "# effect: read\ndef nothing(n: int) -> int:\n    'Do nothing when asked.'\n    return n\n")
	asked := func(reply string) func() {
		loop := exec.Command(interpreter(b), "-c", "import sys, json\ndef nothing(n):\n    return n\nfor line in sys.stdin.buffer:\n    sys.stdout.buffer.write("+reply+")\n    sys.stdout.buffer.flush()\n")
		in, err := loop.StdinPipe()
		require.NoError(b, err)
		out, err := loop.StdoutPipe()
		require.NoError(b, err)
		require.NoError(b, loop.Start())
		b.Cleanup(func() { in.Close(); _ = loop.Wait() })
		read, line := bufio.NewReader(out), []byte(`{"call":"nothing","args":{"n":3}}`+"\n")
		return func() {
			_, _ = in.Write(line)
			if _, err := read.ReadSlice('\n'); err != nil {
				b.Fatal(err)
			}
		}
	}
	ctx, cancel := context.WithTimeout(b.Context(), time.Hour)
	b.Cleanup(cancel)
	i := deed.Invocation{Project: p, Tool: p.Tools["nothing"], Args: map[string]any{"n": int64(3)}, Key: "key-1"}
	plain, echo := asked("json.dumps({'returns': nothing(**json.loads(line)['args'])}).encode() + b'\\n'"), asked("line")
	for range b.N {
		ours := func() {
			if _, bad := h.Call(ctx, i); bad != nil {
				b.Fatal(bad.Say)
			}
		}
		bare, call := sideBySide(1000, plain, ours)
		b.ReportMetric(float64(call)/float64(bare), "ratio")
		b.ReportMetric(float64(bare.Nanoseconds())/1000, "µs-bare")
		b.ReportMetric(float64(call.Nanoseconds())/1000, "µs")
		bare, call = sideBySide(1000, echo, ours)
		b.ReportMetric(float64(call)/float64(bare), "ratio-echo")
	}
}

// BenchmarkFunctionsListed tells how much longer than a bare start of the interpreter it takes until
// a hundred functions are listed, and until a file that has changed is in use.
func BenchmarkFunctionsListed(b *testing.B) {
	var text strings.Builder
	for n := range 100 {
		fmt.Fprintf(&text, "# effect: read\ndef f%d(name: str, length_m: float = 3.5, tags: list[str] = []) -> dict[str, float]:\n    '''Do something when asked.\n\n    Args:\n        name: Of the boat.\n        length_m: How long it is.\n        tags: Some words.\n    '''\n    return {name: length_m}\n\n", n)
	}
	dir := b.TempDir()
	h, p := functionsIn(b, dir, text.String())
	python := interpreter(b)
	for range b.N {
		bare, listed := sideBySide(10, func() { _ = exec.Command(python, "-c", "pass").Run() }, func() {
			h := code.New(dir, "", &tooltest.Secrets{})
			defer h.Close()
			_, err := h.Catalogue(b.Context(), project.OneFile("f.py"))
			require.NoError(b, err)
		})
		changed := best(10, func() {
			at := filepath.Join(dir, "f.py")
			require.NoError(b, os.WriteFile(at, []byte(text.String()+fmt.Sprintln("# at", time.Now())), 0o600))
			_, bad := tooltest.Call(b, h, p, "f7", map[string]any{"name": "Petrel"})
			require.Nil(b, bad)
		})
		b.ReportMetric(float64((listed-bare).Microseconds())/1000, "ms-more")
		b.ReportMetric(float64(bare.Microseconds())/1000, "ms-start")
		b.ReportMetric(float64(changed.Microseconds())/1000, "ms-changed")
	}
}
