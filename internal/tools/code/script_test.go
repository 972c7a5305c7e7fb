package code_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
)

const ferry = `import os from 'node:os'
/**
 * Tell what a crossing costs.
 * effect: read
 * @param {integer} people - How many cross.
 * @param {boolean} [bicycle=false] - Whether a bicycle comes along.
 * @returns {number}
 */
export function fare(people, bicycle) {
  console.log('counting', { people })
  process.stderr.write('half a line')
  return people * 2.5 + (bicycle ? 1 : 0)
}

/**
 * Plan a route.
 * @param {Object} options
 * @param {string} options.stop - Where.
 * @param {string[]} [options.avoid]
 */
export const route = async ({ stop, avoid = [], _session }) => {
  _session.state.length_m = 3
  delete _session.state.berth
  _session.attach('a.txt', 'hello', 'text/plain')
  return { stop, avoid, at: new Date(0), set: new Set([1]), person: _session.person, none: undefined }
}

/** Throw something. @param {string} what */
export function crash(what) {
  throw new RangeError('no ' + what)
}
/** Throw before anything was done. */
export function undone() { throw Object.assign(new Error('closed'), { notDone: true }) }
/** Throw a text. */
export function odd() { throw 'a text' }
/** Give what JSON has not.
 * @param {integer} n
 */
export function bad(n) {
  const x = {}
  x.x = x
  return [{ a: [1, NaN] }, 3n, () => 1, x, new Map(), new Uint8Array(2), Symbol('s')][n]
}
/** Wait for ever. */
export function hang() { for (;;); }
/** Exit. */
export function leave() { process.exit(3) }
/** Die. */
export function dies() { process.kill(process.pid, 'SIGKILL') }
/** Fail after the call. */
export function later() { Promise.reject(new Error('too late')); return 1 }
export class Boat {}
function hidden() {}
export const notAFunction = 3
`

func script(t *testing.T, name, text string, settings ...string) *source {
	t.Helper()
	s := of(t, name, text, settings...)
	require.NoError(t, s.offers())
	return s
}

func TestFunctionsOfScripts(t *testing.T) {
	s := script(t, "ferry.mjs", ferry)
	assert.Contains(t, s.cat.From, "ferry.mjs (Node ")
	assert.Len(t, s.cat.Tools, 10)
	assert.Equal(t, ledger.Read, s.p.Tools["fare"].Effect)
	r, bad := s.call("fare", map[string]any{"people": 2.0})
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 5, r.Value)
	assert.Equal(t, "counting { people: 2 }\nhalf a line\n", r.Sent.Log)

	r, bad = s.call("route", map[string]any{"stop": "Ness"}, func(i *deed.Invocation) {
		i.Person, i.Facts = "ann", map[string]any{"berth": "A1", "length_m": 9.0, "other": 1.0}
	})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"stop": "Ness", "avoid": []any{}, "at": "1970-01-01T00:00:00.000Z", "set": []any{1.0}, "person": "ann"}, r.Value)
	assert.Equal(t, map[string]any{"length_m": 3.0, "berth": nil}, r.Sets)
	require.Len(t, r.Files, 1)
	assert.Equal(t, "text/plain", r.Files[0].Type)
}

func TestWhatScriptsThrow(t *testing.T) {
	s := script(t, "ferry.mjs", ferry, "network: true")
	_, bad := s.call("crash", map[string]any{"what": "boat"})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.Unknown, bad.Outcome)
	assert.Equal(t, "RangeError: no boat (ferry.mjs:30)", bad.Say)
	_, bad = s.call("undone", nil)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	_, bad = s.call("odd", nil)
	assert.Equal(t, "it threw 'a text'", bad.Say)
	_, bad = s.call("leave", nil)
	assert.Contains(t, bad.Say, "it called process.exit(3)")
	_, bad = s.call("dies", nil)
	assert.Equal(t, deed.Class("ended"), bad.Class)
	assert.Contains(t, bad.Say, "a signal ended it")
	_, bad = s.call("hang", nil)
	assert.Equal(t, deed.Class("timeout"), bad.Class)
	r, bad := s.call("later", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 1, r.Value)
	for n, say := range []string{"result.a[1] is NaN, which JSON has not", "result is a bigint", "result is a function", "result.x is within itself", "result is a Map", "result is bytes", "result is a symbol"} {
		_, bad := s.call("bad", map[string]any{"n": float64(n)})
		require.NotNil(t, bad, say)
		assert.Equal(t, deed.Class("result"), bad.Class)
		assert.Contains(t, bad.Say, say)
	}
}

func TestScriptsThatCannotBeLoaded(t *testing.T) {
	for name, c := range map[string]struct{ file, text, say string }{
		"syntax":     {"a.mjs", "// x\nexport function a() {\n", "a.mjs:3 a.mjs cannot be loaded: SyntaxError: Unexpected end of input"},
		"no package": {"a.mjs", "import x from 'kelmere-tides'\n", "Cannot find package 'kelmere-tides'"},
		"exits":      {"a.mjs", "process.exit(2)\n", "a.mjs:1 a.mjs cannot be loaded: it called process.exit(2)"},
		"throws":     {"a.cjs", "\nthrow new Error('tired')\n", "a.cjs:2 a.cjs cannot be loaded: Error: tired (a.cjs:2)"},
		"dies":       {"a.js", "process.kill(process.pid, 'SIGKILL')\n", "its process ended while it was loaded"},
		"endless":    {"a.mjs", "for (;;);\n", "it was not ready in time"},
		"waits":      {"a.mjs", "await new Promise(() => setInterval(() => 0, 1000))\n", "it was not ready in time"},
		"looks out":  {"a.mjs", "import fs from 'node:fs'\nfs.readFileSync('/etc/shadow')\n", "EACCES"},
	} {
		t.Run(name, func(t *testing.T) {
			patience := "timeout: 1m"
			if strings.Contains(c.say, "not ready in time") {
				patience = "timeout: 2s"
			}
			s := of(t, c.file, c.text, patience)
			assert.Contains(t, s.broken(), c.say)
		})
	}
	s := of(t, "a.mjs", "import x from 'kelmere-tides'\n")
	assert.Contains(t, s.broken(), "npm install kelmere-tides")
}

func TestPackagesBesideAScript(t *testing.T) {
	s := of(t, "a.js", "const tides = require('kelmere-tides')\nexports.high = function () { return tides.high }\n")
	s.write("node_modules/kelmere-tides/index.js", "exports.high = 'noon'\n")
	s.write("package.json", "{}")
	require.NoError(t, s.offers())
	require.Empty(t, s.cat.Broken)
	r, bad := s.call("high", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "noon", r.Value)
}

func TestWhatAScriptWritesPastTheRunner(t *testing.T) {
	s := script(t, "a.mjs", strings.Join([]string{"import fs from 'node:fs'", "/** Write. */", "export function a() {", "  for (const x of ['hello', 'null', '{}', '[1]', '3']) fs.writeSync(1, x + '\\n')", "  return 1", "}"}, "\n"))
	r, bad := s.call("a", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, 1, r.Value, "none of it is an answer")
	assert.Equal(t, "hello\nnull\n{}\n[1]\n3\n", r.Sent.Log)
}
