package code_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/code"
	"stonebaton.example/internal/tools/tooltest"
)

// source is a folder with files of functions, and what a source of them brings.
type source struct {
	t    *testing.T
	dir  string
	doc  string
	h    *code.Handler
	cat  project.Catalogue
	p    *project.Project
	said []project.Problem
}

func (s *source) write(name, text string) {
	s.t.Helper()
	at := filepath.Join(s.dir, name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(s.t, os.WriteFile(at, []byte(text), 0o644))
}

// offers asks for the catalogue, and compiles the project with it.
func (s *source) offers() error {
	src := project.Source{Files: map[string]string{project.Main: coretest.Main + "---\n" + s.doc}, Env: map[string]string{}}
	list := app.Reader.Sources(src)
	require.Len(s.t, list, 1)
	cat, err := s.h.Catalogue(s.t.Context(), list[0])
	s.cat = cat
	src.Catalogues = map[string]project.Catalogue{list[0].Name: cat.Taken(list[0])}
	s.p, s.said = app.Reader.Compile(src)
	return err
}

func (s *source) call(name string, args map[string]any, change ...func(*deed.Invocation)) (deed.Result, *deed.Failure) {
	s.t.Helper()
	require.NotNil(s.t, s.p, s.problems())
	return tooltest.Call(s.t, s.h, s.p, name, args, change...)
}

func (s *source) problems() string {
	var b strings.Builder
	for _, p := range s.said {
		fmt.Fprintln(&b, p.Place, p.Say, p.Remedy)
	}
	return b.String()
}

// of makes a source of one file, with settings more.
func of(t *testing.T, name, text string, settings ...string) *source {
	t.Helper()
	s := &source{t: t, dir: t.TempDir(), doc: fmt.Sprintf("source: shop\ncode: {file: %s%s}\ntune: {hang: {timeout: 8s}}\nagents: [desk]\n", name, strings.Join(append([]string{""}, settings...), ", "))}
	if !strings.Contains(text, "hang") {
		s.doc = strings.Replace(s.doc, "tune: {hang: {timeout: 8s}}\n", "", 1)
	}
	s.h = code.New(s.dir, "", &tooltest.Secrets{})
	t.Cleanup(func() { _ = s.h.Close() })
	s.write(name, text)
	return s
}

func python(t *testing.T, text string, settings ...string) *source {
	t.Helper()
	s := of(t, "shop.py", text, settings...)
	require.NoError(t, s.offers())
	return s
}

// broken gives why a file cannot be loaded.
func (s *source) broken() string {
	s.t.Helper()
	require.NoError(s.t, s.offers())
	require.Len(s.t, s.cat.Broken, 1)
	b := s.cat.Broken[0]
	return fmt.Sprintf("%s:%d %s %s", b.At.File, b.At.Line, b.Say, b.Remedy)
}

const shop = `
import asyncio, dataclasses, datetime, decimal, enum, logging, sys, typing, uuid
from typing import Annotated, Literal, Optional

class Side(enum.Enum):
    north = "north"
    south = "south"

@dataclasses.dataclass
class Stop:
    """A place where the ferry lands."""
    name: str
    minutes: int = 5
    next: "Optional[Stop]" = None

# effect: read
def fare(people: Annotated[int, "How many cross."], ticket: Literal["single", "return"] = "single") -> float:
    """Tell what a crossing costs.

    Args:
        ticket: One way, or both.
    """
    logging.info("fare for %d", people)
    print("counting", end="")
    return people * (4.5 if ticket == "return" else 2.5)

async def route(stop: Stop, day: datetime.date, side: Side = Side.north, avoid: Optional[list[str]] = None, _session=None) -> dict:
    """Plan a route."""
    await asyncio.sleep(0)
    assert isinstance(stop.next, Stop) and isinstance(day, datetime.date) and side is Side.south
    _session.state["length_m"] = 12
    del _session.state["berth"]
    _session.attach("map.txt", "hello", "text/plain")
    return {"stop": stop, "day": day, "side": side, "set": {3, 1}, "id": uuid.UUID(int=7), "cost": decimal.Decimal("2.5"), "person": _session.person, "key": _session.key}

def nested(stop: Stop) -> str:
    "Give the name."
    raise ValueError("no " + stop.name)

def undone():
    "Refuse before anything was done."
    e = RuntimeError("closed")
    e.not_done = True
    raise e

def hang():
    "Wait for ever."
    while True: pass

def leave():
    "End the process."
    import os
    print("leaving")
    os._exit(7)

def exits():
    "Exit."
    sys.exit("enough")

def _hidden(): pass
`

func TestFunctionsBecomeTools(t *testing.T) {
	s := python(t, shop)
	var names []string
	for _, o := range s.cat.Tools {
		names = append(names, o.Tool)
		assert.Equal(t, "", o.Fault, o.Name)
	}
	assert.Equal(t, []string{"fare", "route", "nested", "undone", "hang", "leave", "exits"}, names)
	assert.Contains(t, s.cat.From, "shop.py (Python")
	fare := s.p.Tools["fare"]
	assert.Equal(t, ledger.Read, fare.Effect)
	assert.Equal(t, ledger.Write, s.p.Tools["route"].Effect, "unless it says otherwise")
	assert.Equal(t, map[string]any{"type": "object", "additionalProperties": false, "required": []any{"people"}, "properties": map[string]any{
		"people": map[string]any{"type": "integer", "description": "How many cross."},
		"ticket": map[string]any{"type": "string", "enum": []any{"single", "return"}, "default": "single", "description": "One way, or both."}}}, fare.Input.Doc())
	assert.NotContains(t, s.p.Tools["route"].Input.Doc()["properties"], "_session", "the model never sees it")
	assert.Contains(t, s.p.Agents["desk"].Tools, "fare", "the source gives them to an agent")

	r, bad := s.call("fare", map[string]any{"people": 2.0})
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 5, r.Value)
	assert.Equal(t, "INFO root: fare for 2\ncounting\n", r.Sent.Log)
	assert.Equal(t, "shop.py fare", r.Sent.URL)
	assert.JSONEq(t, `{"people": 2, "ticket": "single"}`, r.Sent.Body)
}

func TestArgumentsAreMadeWhatTheirTypesSay(t *testing.T) {
	s := python(t, shop)
	r, bad := s.call("route", map[string]any{"stop": map[string]any{"name": "Kelmere", "next": map[string]any{"name": "Ness", "minutes": 2.0}}, "day": "2026-05-08", "side": "south"},
		func(i *deed.Invocation) {
			i.Person = "ann"
			i.Facts = map[string]any{"berth": "A1", "length_m": 9.0, "other": true}
		})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"stop": map[string]any{"name": "Kelmere", "minutes": 5.0, "next": map[string]any{"name": "Ness", "minutes": 2.0, "next": nil}}, "day": "2026-05-08", "side": "south",
		"set": []any{1.0, 3.0}, "id": "00000000-0000-0000-0000-000000000007", "cost": 2.5, "person": "ann", "key": "key-1"}, r.Value)
	assert.Equal(t, map[string]any{"length_m": 12.0, "berth": nil}, r.Sets, "the facts that it changed, and no other")
	require.Len(t, r.Files, 1)
	assert.Equal(t, "hello", string(r.Files[0].Body))

	s = python(t, "import decimal\ndef cost(of: decimal.Decimal):\n    'Tell.'\n")
	_, bad = s.call("cost", map[string]any{"of": "much"})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.Contains(t, bad.Say, "the argument of cannot be made of what was given: InvalidOperation")
}

func TestWhatAnExceptionSays(t *testing.T) {
	s := python(t, shop)
	_, bad := s.call("nested", map[string]any{"stop": map[string]any{"name": "boat"}})
	require.NotNil(t, bad)
	assert.Equal(t, deed.Class("raised"), bad.Class)
	assert.Equal(t, ledger.NotDone, bad.Outcome, "it can have changed nothing outside")
	line := 1 + strings.Count(shop[:strings.Index(shop, `raise ValueError`)], "\n")
	assert.Equal(t, fmt.Sprintf("ValueError: no boat (shop.py:%d)", line), bad.Say)
	assert.Contains(t, bad.Sent.Log, `File "shop.py"`)
	assert.NotContains(t, bad.Sent.Log, "<string>", "the runner is not of the trace")

	_, bad = s.call("exits", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "it called exit(enough)")
	r, bad := s.call("fare", map[string]any{"people": 1.0})
	require.Nil(t, bad)
	assert.EqualValues(t, 2.5, r.Value, "the process goes on")

	out := python(t, shop, "network: true")
	_, bad = out.call("nested", map[string]any{"stop": map[string]any{"name": "boat"}})
	assert.Equal(t, ledger.Unknown, bad.Outcome, "it may have told a service something before it failed")
	_, bad = out.call("undone", nil)
	assert.Equal(t, ledger.NotDone, bad.Outcome, "unless it says that it has not")
}

func TestACallThatHangsIsEndedAloneAndOneThatDiesIsTold(t *testing.T) {
	s := python(t, shop)
	var wg sync.WaitGroup
	wg.Go(func() {
		_, bad := s.call("hang", nil)
		if assert.NotNil(t, bad) {
			assert.Equal(t, deed.Class("timeout"), bad.Class)
			assert.Equal(t, "hang had not returned after 8s, and its process was ended", bad.Say)
		}
	})
	for range 20 {
		_, bad := s.call("fare", map[string]any{"people": 1.0})
		assert.Nil(t, bad, "%+v", bad)
	}
	wg.Wait()
	_, bad := s.call("leave", nil)
	require.NotNil(t, bad)
	assert.Equal(t, deed.Class("ended"), bad.Class)
	assert.Equal(t, "the process of shop.py ended while leave was under way: exit code 7", bad.Say)
	assert.Equal(t, "leaving\n", bad.Sent.Log)
	_, bad = s.call("fare", map[string]any{"people": 1.0})
	assert.Nil(t, bad, "another process serves it")
}

func TestTheBoundOfCallsAtATime(t *testing.T) {
	s := python(t, "import os, time\ndef who(n: int) -> int:\n    'Tell the process.'\n    time.sleep(0.02)\n    return os.getpid()\n", "at_once: 2")
	pids := map[any]bool{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for n := range 12 {
		wg.Go(func() {
			r, bad := s.call("who", map[string]any{"n": float64(n)})
			mu.Lock()
			defer mu.Unlock()
			assert.Nil(t, bad, "%+v", bad)
			pids[r.Value] = true
		})
	}
	wg.Wait()
	assert.LessOrEqual(t, len(pids), 2)
}

func TestWhatIsKeptBetweenCalls(t *testing.T) {
	const counter = "N = 0\ndef count() -> int:\n    'Count.'\n    global N\n    N += 1\n    return N\ndef hang():\n    'Wait.'\n    while True: pass\n"
	s := python(t, counter, "keeps_state: true")
	for want := 1; want < 4; want++ {
		r, bad := s.call("count", nil)
		require.Nil(t, bad, "%+v", bad)
		assert.EqualValues(t, want, r.Value)
	}
	_, bad := s.call("hang", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "; what it kept in memory is lost")

	off := of(t, "shop.py", counter, "keeps_state: true", "at_once: 3")
	require.NoError(t, off.offers())
	assert.Contains(t, off.problems(), "takes one call at a time")
}

func TestAFileThatChangesIsLoadedAnew(t *testing.T) {
	s := of(t, "shop.py", "import beside\ndef one() -> int:\n    'Tell.'\n    return beside.N\n")
	assert.Contains(t, s.broken(), "No module named 'beside'")
	s.write("beside.py", "N = 1\n")
	assert.Contains(t, s.broken(), "beside.py is beside it, but only what file: names can be read")
	s.doc = strings.Replace(s.doc, "{file: shop.py}", "{file: [shop.py, beside.py]}", 1)
	require.NoError(t, s.offers())
	r, bad := s.call("one", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 1, r.Value)
	s.write("beside.py", "N = 22\n")
	require.Eventually(t, func() bool {
		r, bad := s.call("one", nil)
		return bad == nil && r.Value == 22.0
	}, 10*time.Second, 10*time.Millisecond, "what it imports counts")

	s.write("shop.py", "def one(of: int) -> int:\n    'Tell.'\n    return 3\n")
	_, bad = s.call("one", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "what one of shop.py takes has changed since this run began")
	s.write("shop.py", "def two() -> int:\n    'Tell.'\n    return 3\n")
	_, bad = s.call("one", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "shop.py has no function one any more")
	s.write("shop.py", "def one(\n")
	_, bad = s.call("one", nil)
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.Contains(t, bad.Say, "shop.py cannot be loaded: SyntaxError")
}

func TestFilesThatCannotBeLoaded(t *testing.T) {
	for name, c := range map[string]struct{ text, say string }{
		"syntax":     {"def a():\n    pass\ndef b(:\n", "shop.py:3 shop.py cannot be loaded: SyntaxError: invalid syntax"},
		"exits":      {"import sys\nsys.exit(4)\n", "shop.py:2 shop.py cannot be loaded: it called exit(4)"},
		"raises":     {"print('so far')\n\n1/0\n", "shop.py:3 shop.py cannot be loaded: ZeroDivisionError"},
		"dies":       {"import os\nos._exit(3)\n", "shop.py:1 shop.py cannot be loaded: its process ended while it was loaded: exit code 3"},
		"no package": {"import kelmere_tides\n", "shop.py:1 shop.py cannot be loaded: ModuleNotFoundError: No module named 'kelmere_tides' (shop.py:1) Install it beside the project:   python3 -m venv .venv && .venv/bin/pip install kelmere_tides"},
		"endless":    {"while True: pass\n", "it was not ready in time: what stands outside its functions runs when it is loaded"},
		"not text":   {"\x00\xff", "shop.py cannot be loaded"},
		"looks out":  {"open('/etc/shadow').read()\n", "shop.py:1 shop.py cannot be loaded: PermissionError"},
		"dials":      {"import socket\nsocket.create_connection(('127.0.0.1', 9), timeout=1)\n", "shop.py:2 shop.py cannot be loaded: "},
	} {
		t.Run(name, func(t *testing.T) {
			patience := "timeout: 1m"
			if strings.Contains(c.say, "not ready in time") {
				patience = "timeout: 2s"
			}
			s := of(t, "shop.py", c.text, patience)
			assert.Contains(t, s.broken(), c.say)
			assert.Contains(t, s.problems(), "cannot be loaded", "and check says it")
		})
	}
}

func TestFilesThatAreOddAndLoaded(t *testing.T) {
	for name, c := range map[string]struct{ text, also, lacks, fault string }{
		"prints":    {"print('hello')\ndef a():\n    'Tell.'\n", "shop.py printed while it was loaded: hello", "", ""},
		"two":       {"def a():\n    'Tell.'\n\ndef a():\n    'Tell.'\n", "", "two functions are called a: the one of line 1 is not used", ""},
		"complex":   {"def a(x: complex):\n    'Tell.'\n", "", "", "the type of x: complex is not a type that JSON has"},
		"not there": {"def a(x: 'Boat'):\n    'Tell.'\n", "", "", "a type of it is not there"},
		"many":      {"def a(*x):\n    'Tell.'\n", "", "", "it takes any number of arguments"},
		"nothing":   {"X = 1\n", "shop.py has no public function", "", ""},
		"forks":     {"import os\nif os.fork() == 0: os._exit(0)\ndef a():\n    'Tell.'\n", "", "", ""},
		"shadows":   {"def print(x: int):\n    'Tell.'\ndef json():\n    'Tell.'\n", "", "", ""},
		"recursive": {"from typing import Dict, List, Union\nJson = Union[Dict[str, 'Json'], List['Json'], str]\ndef a(x: Json):\n    'Tell.'\n", "", "", "the type of x"},
		"imports":   {"from os.path import join\nfrom json import dumps as a\n", "shop.py has no public function", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := python(t, c.text)
			require.Empty(t, s.cat.Broken)
			assert.Contains(t, strings.Join(s.cat.Also, "\n"), c.also)
			if len(s.cat.Tools) == 0 {
				return
			}
			assert.Contains(t, strings.Join(s.cat.Tools[0].Lacks, "\n"), c.lacks)
			assert.Contains(t, s.cat.Tools[0].Fault, c.fault)
			if c.fault != "" {
				assert.NotContains(t, s.p.Tools, "a")
				assert.Contains(t, s.problems(), c.fault)
			}
		})
	}
}

func TestAFileThatHasTheNameOfAModule(t *testing.T) {
	s := of(t, "json.py", "def a() -> int:\n    'Tell.'\n    return 1\n")
	require.NoError(t, s.offers())
	r, bad := s.call("a", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 1, r.Value)
}

func TestFiveHundredFunctions(t *testing.T) {
	var b strings.Builder
	for n := range 500 {
		fmt.Fprintf(&b, "def f%d(x: int) -> int:\n    'Tell %d.'\n    return x\n\n", n, n)
	}
	s := python(t, b.String())
	assert.Len(t, s.cat.Tools, 500)
	r, bad := s.call("f499", map[string]any{"x": 3.0})
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 3, r.Value)
}

func TestResultsThatJSONHasNot(t *testing.T) {
	s := python(t, `
import os, threading
class Boat: pass
def a(n: int):
    "Give something."
    return [b"x", float("nan"), Boat(), {"a": [1, {2, "x"}, b"y"]}, {(1, 2): 3}, lambda: 1][n]
def endless():
    "Give what holds itself."
    x = []
    x.append(x)
    return x
def past():
    "Write past the log."
    os.write(1, b"to the descriptor\n")
    os.system("echo of a program")
    return 1
def spoof() -> int:
    "Write answers that nobody asked for."
    for n in range(100): os.write(4, b'{"n": %d, "returns": "spoofed"}\n' % (n + 1000))
    return 5
def floods() -> int:
    "Print very much."
    for i in range(300000): print("x" * 100)
    return 2
def large():
    "Give too much."
    return "x" * (50 << 20)
`)
	for n, say := range []string{"result is of the type bytes, which JSON has not", "result is nan, which JSON has not", "result is of the type Boat", "result.a[2] is of the type bytes", "result has a key that is a tuple"} {
		_, bad := s.call("a", map[string]any{"n": float64(n)})
		require.NotNil(t, bad, say)
		assert.Equal(t, deed.Class("result"), bad.Class)
		assert.Contains(t, bad.Say, say)
	}
	_, bad := s.call("endless", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "nested too deeply, or within itself")
	r, bad := s.call("past", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "to the descriptor\nof a program\n", r.Sent.Log)
	r, bad = s.call("spoof", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 5, r.Value, "an answer to no call is a line of the log")
	r, bad = s.call("floods", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 2, r.Value)
	assert.LessOrEqual(t, len(r.Sent.Log), 17<<10)
	_, bad = s.call("large", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "what it gave is larger than 4 MB")
}

func TestRuntimes(t *testing.T) {
	s := of(t, "shop.py", shop, "runtime: no-such-python")
	assert.ErrorContains(t, s.offers(), `there is no program "no-such-python" on this machine, which is to run shop.py`)
	s = of(t, "shop.py", shop, "runtime: ./gone")
	assert.ErrorContains(t, s.offers(), "there is no program ./gone")
	s = of(t, "shop.mjs", "export function a() {}", "runtime: ./old-node")
	s.write("old-node", "#!/bin/sh\necho v18.20.1\n")
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "old-node"), 0o755))
	assert.ErrorContains(t, s.offers(), "is Node 18.20, and 20.10 or newer is needed for shop.mjs")
	s.write("old-node", "#!/bin/sh\necho v21.0.0\n")

	ts := of(t, "shop.ts", "export function a() {}", "runtime: ./node")
	ts.write("node", "#!/bin/sh\necho v20.12.0\n")
	require.NoError(t, os.Chmod(filepath.Join(ts.dir, "node"), 0o755))
	assert.ErrorContains(t, ts.offers(), "TypeScript needs 22.6 or newer for shop.ts; or write its types into comments of a .mjs")
}

func TestAnEnvironmentBesideTheProjectIsFound(t *testing.T) {
	s := of(t, "tools/shop.py", "import sys, tides\ndef a() -> str:\n    'Tell.'\n    return tides.HIGH + sys.prefix\n")
	out, err := exec.Command("python3", "-c", "import venv, sys; venv.EnvBuilder(with_pip=False, symlinks=True).create(sys.argv[1])", filepath.Join(s.dir, ".venv")).CombinedOutput()
	if err != nil {
		t.Skipf("this Python makes no environments: %s", out)
	}
	lib, err := filepath.Glob(filepath.Join(s.dir, ".venv", "lib", "python*", "site-packages"))
	require.NoError(t, err)
	require.Len(t, lib, 1)
	require.NoError(t, os.WriteFile(filepath.Join(lib[0], "tides.py"), []byte("HIGH = 'noon '\n"), 0o644))
	require.NoError(t, s.offers())
	require.Empty(t, s.cat.Broken)
	r, bad := s.call("a", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "noon "+filepath.Join(s.dir, ".venv"), r.Value)
}

func TestAFolderOfFilesOfTwoLanguages(t *testing.T) {
	s := of(t, "tools/a.py", "import _shared\ndef one() -> int:\n    'Tell.'\n    return _shared.N\ndef both(): 'Tell.'\n")
	s.doc = strings.Replace(s.doc, "tools/a.py", "tools", 1)
	s.write("tools/_shared.py", "N = 5\ndef not_offered(): 'Tell.'\n")
	s.write("tools/b.mjs", "/** Tell. */\nexport function two() { return 2 }\n/** Tell. */\nexport function both() {}\n")
	s.write("tools/notes.txt", "x")
	require.NoError(t, s.offers())
	var names []string
	for _, o := range s.cat.Tools {
		names = append(names, o.Name)
	}
	assert.Equal(t, []string{"one", "both", "two"}, names)
	assert.Equal(t, []string{"tools/b.mjs:4 has a function of the same name, which is left out"}, s.cat.Tools[1].Lacks)
	assert.Contains(t, s.problems(), "tools/b.mjs:4 has a function of the same name, which is left out")
	for name, want := range map[string]any{"one": 5.0, "two": 2.0} {
		r, bad := s.call(name, nil)
		require.Nil(t, bad, "%+v", bad)
		assert.EqualValues(t, want, r.Value)
	}
	for file, say := range map[string]string{"none": "there is no none in the project", "empty": "empty holds no file of functions: their names end in", "tools/notes": "there is no tools/notes"} {
		s.write("empty/x.txt", "")
		s.doc = "source: shop\ncode: {file: " + file + "}\n"
		assert.ErrorContains(t, s.offers(), say)
	}
}

func TestGrantsOfFunctions(t *testing.T) {
	s := of(t, "shop.py", `
import os
def reads() -> str:
    "Read a file."
    return open(os.environ["PROJECT"] + "/data/x.txt").read()
def writes() -> None:
    "Write a file."
    open(os.environ["PROJECT"] + "/out/y.txt", "w").write("y")
def peeks() -> str:
    "Read what is not granted."
    return open(os.environ["PROJECT"] + "/secret.txt").read()
def environment() -> str:
    "Tell the key."
    return os.environ["KEY"]
`, "reads: [data]", "writes: [out]", `env: {KEY: "${secret:K}"}`)
	s.write("data/x.txt", "x")
	s.write("secret.txt", "s")
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "out"), 0o755))
	require.NoError(t, s.offers())
	r, bad := s.call("reads", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "x", r.Value)
	_, bad = s.call("writes", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.FileExists(t, filepath.Join(s.dir, "out", "y.txt"))
	r, _ = s.call("environment", nil)
	assert.Equal(t, "the-value", r.Value)
	_, bad = s.call("peeks", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "PermissionError")
	assert.Equal(t, ledger.Unknown, bad.Outcome, "it may write")
	assert.NoError(t, s.h.Check(t.Context(), s.p.Tools["reads"]))
}

func TestAPackageThatACallMisses(t *testing.T) {
	s := python(t, "def a():\n    'Tell.'\n    import kelmere_pages\n")
	_, bad := s.call("a", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Sent.Log, "python3 -m venv .venv && .venv/bin/pip install kelmere_pages", "the step says what to do")
}

func TestHostsAreNamedForTheSandboxAlone(t *testing.T) {
	s := of(t, "shop.py", "def a() -> int:\n    'Tell.'\n    return 1\n", "sandbox: none", "network: [pages.example]")
	require.NoError(t, s.offers())
	assert.Contains(t, s.problems(), "nothing keeps a program with sandbox: none from other hosts")
}

func TestACallThatWaitsForOthersIsTakenBack(t *testing.T) {
	s := python(t, "def hang():\n    'Wait.'\n    print('begun')\n    while True: pass\n", "at_once: 1")
	begun, free := make(chan bool, 1), make(chan bool)
	go func() {
		defer close(free)
		_, _ = s.call("hang", nil, func(i *deed.Invocation) { i.Log = func(string) { begun <- true } })
	}()
	<-begun
	_, bad := s.call("hang", nil, func(i *deed.Invocation) {
		short := *i.Tool
		short.Timeout = time.Millisecond
		i.Tool = &short
	})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.Equal(t, "hang was not called: shop.py was not ready within 1ms", bad.Say)
	<-free
}

var _ tools.Handler = (*code.Handler)(nil)

// TestNothingIsLeftOfWhatHasEnded: neither a process nor its folder, once the handler is closed.
func TestNothingIsLeftOfWhatHasEnded(t *testing.T) {
	work := t.TempDir()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f.py"), []byte("def one() -> int:\n    \"\"\"Give one when asked.\"\"\"\n    return 1\n"), 0o600))
	h := code.New(dir, work, &tooltest.Secrets{})
	_, err := h.Catalogue(t.Context(), project.OneFile("f.py"))
	require.NoError(t, err)
	left := func() []string {
		list, err := filepath.Glob(filepath.Join(work, "*"))
		require.NoError(t, err)
		return list
	}
	require.Len(t, left(), 1, "it is kept for the next call")
	require.NoError(t, h.Close())
	assert.Empty(t, left())
}
