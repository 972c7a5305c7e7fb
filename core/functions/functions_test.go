package functions_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/functions"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// offered makes an offer of a function of Python with two parameters.
func offered(doc string) project.Offer {
	return functions.Offer("fare.py", "def fare(people, ticket):\n    pass\n", functions.Function{Name: "fare", Line: 1, End: 2, Doc: doc,
		Params:  []functions.Param{{Name: "people", Schema: map[string]any{"type": "integer"}, Required: true}, {Name: "ticket", Schema: map[string]any{"type": "string"}}},
		Returns: map[string]any{"type": "number"}})
}

func said(o project.Offer, param string) any {
	return o.Input["properties"].(map[string]any)[param].(map[string]any)["description"]
}

func TestThreeStylesOfDocumentationSayTheSame(t *testing.T) {
	for name, doc := range map[string]string{
		"sections": "Tell what a crossing costs,\nbefore anybody buys a ticket.\n\nArgs:\n    people (int): How many cross.\n    ticket: One way, or\n        there and back.\n\nReturns:\n    float: The price in euros.\n\nRaises:\n    ValueError: For nobody.\n",
		"headings": "Tell what a crossing costs,\nbefore anybody buys a ticket.\n\nParameters\n----------\npeople : int\n    How many cross.\nticket : str, optional\n    One way, or\n    there and back.\n\nReturns\n-------\nfloat\n    The price in euros.\n",
		"fields":   "Tell what a crossing costs,\nbefore anybody buys a ticket.\n\n:param int people: How many cross.\n:param ticket: One way, or\n    there and back.\n:returns: The price in euros.\n:raises ValueError: For nobody.\n",
	} {
		o := offered(doc)
		assert.Equal(t, "Tell what a crossing costs, before anybody buys a ticket.", o.Summary, name)
		assert.Equal(t, "How many cross.", said(o, "people"), name)
		assert.Equal(t, "One way, or there and back.", said(o, "ticket"), name)
		assert.Contains(t, o.Output["description"], "The price in euros.", name)
		assert.Equal(t, []any{"people"}, o.Input["required"], name)
		assert.Empty(t, o.Lacks, name)
	}
}

func TestWhatDocumentationLacksOrHasTooMuch(t *testing.T) {
	o := offered("")
	assert.Equal(t, "", o.Summary)
	assert.Nil(t, said(o, "people"))
	o = offered("Tell a price.\n\nArgs:\n    persons: How many.\n")
	assert.Equal(t, []string{"the documentation of fare describes a parameter persons, which it does not have"}, o.Lacks)
}

func TestAnEffectIsSaidByAComment(t *testing.T) {
	for name, c := range map[string]struct {
		text  string
		want  ledger.Effect
		lacks string
	}{
		"before":      {"# effect: read\ndef fare():\n    pass\n", ledger.Read, ""},
		"within":      {"def fare():\n    # effect: irreversible\n    pass\n", ledger.Irreversible, ""},
		"of another":  {"# effect: read\ndef other():\n    pass\n\ndef fare():\n    pass\n", "", ""},
		"nobody's":    {"def fare():\n    pass\n", "", ""},
		"unknown":     {"# effect: reed\ndef fare():\n    pass\n", "", `line 1 says the effect "reed" of fare`},
		"not a line":  {"def fare():\n    x = '# effect: read'\n", "", ""},
		"in a script": {"/** Tell.\n * effect: read\n */\nfunction fare() {}\n", ledger.Read, ""},
	} {
		lines := strings.Split(c.text, "\n")
		f := functions.Function{Name: "fare"}
		for n, l := range lines {
			if strings.HasPrefix(l, "def fare") || strings.HasPrefix(l, "function fare") {
				f.Line, f.End = n+1, len(lines)
			}
		}
		o := functions.Offer("fare.py", c.text, f)
		assert.Equal(t, c.want, o.Effect, name)
		assert.Contains(t, strings.Join(o.Lacks, " "), c.lacks, name)
	}
}

func TestTwoFunctionsOfOneName(t *testing.T) {
	text := "def a():\n    pass\n\nasync def a():\n    pass\n"
	assert.Equal(t, 1, functions.Twice(text, functions.Function{Name: "a", Line: 4, End: 5}))
	assert.Equal(t, 0, functions.Twice(text, functions.Function{Name: "b", Line: 4, End: 5}))
}

func TestWhatIsHiddenIsNotOfTheContract(t *testing.T) {
	o := functions.Offer("x.py", "", functions.Function{Name: "x", Params: []functions.Param{{Name: "_session", Required: true}, {Name: "n", Schema: nil}}})
	assert.Equal(t, map[string]any{"n": map[string]any{}}, o.Input["properties"])
	assert.Nil(t, o.Input["required"])
	assert.Equal(t, 1, o.At.Line, "no line is the first")
}

const ferry = `import fs from 'node:fs'
// function fare(not, this) {}
const pattern = /function fare\(/, words = 'export function fare(nor, this) {'

/**
 * @typedef {Object} Stop A place where it lands.
 * @property {string} name - Its name.
 * @property {number} [minutes=5] - How long it stays.
 * @property {Stop} [next] - The one after.
 */

/**
 * Tell what a crossing costs,
 * before anybody buys a ticket.
 *
 * @param {integer} people - How many cross.
 * @param {boolean} [bicycle=false] - Whether a bicycle comes along.
 * @param {'single'|'return'} ticket - One way, or
 *   there and back.
 * @returns {Promise<number>} The price in euros.
 */
export async function fare(people, bicycle, ticket = 'single') {
  return ` + "`${people} }`" + ` // }
}

/**
 * Plan a route.
 * @param {Object} options
 * @param {Stop} options.stop - Where.
 * @param {string[]} [options.avoid] - Where not.
 * @param {Map<string, number>} options.odd - Odd.
 */
export const route = async ({ stop, avoid = [], odd, _session }) => ({ stop })

/** Nothing is known of it. */
export function bare(a, b = 2, c = 'x') {}

/** @param {Complex} x - A number. */
export function late(x) {}

export function rest(...all) {}
`

func TestContractsOfScripts(t *testing.T) {
	s := functions.ReadScript(ferry)
	fare := s.Function("fare")
	assert.Equal(t, "", fare.Fault)
	o := functions.Offer("ferry.mjs", ferry, fare)
	assert.Equal(t, "Tell what a crossing costs, before anybody buys a ticket.", o.Summary)
	assertJSON(t, `{"type": "object", "additionalProperties": false, "required": ["people"], "properties": {
		"people": {"type": "integer", "description": "How many cross."},
		"bicycle": {"type": "boolean", "default": false, "description": "Whether a bicycle comes along."},
		"ticket": {"type": "string", "enum": ["single", "return"], "default": "single", "description": "One way, or there and back."}}}`, o.Input)
	assertJSON(t, `{"type": "number", "description": "The price in euros."}`, o.Output)
	assert.Equal(t, 22, o.At.Line, "where the function begins, and not its comment")
	assert.Equal(t, 24, fare.End, "a brace of a comment or a text ends nothing")

	o = functions.Offer("ferry.mjs", ferry, s.Function("route"))
	assert.Equal(t, `the type of odd: "Map<string, number>" is not a type that is known here`, strings.SplitN(o.Fault, ";", 2)[0])
	o = functions.Offer("ferry.mjs", ferry, s.Function("bare"))
	assertJSON(t, `{"type": "object", "additionalProperties": false, "required": ["a"], "properties": {"a": {}, "b": {"type": "number", "default": 2}, "c": {"type": "string", "default": "x"}}}`, o.Input)
	assert.Contains(t, s.Function("late").Fault, "Complex")
	assert.NotEmpty(t, s.Function("rest").Fault)
	assert.NotPanics(t, func() { s.Function("nowhere") })
}

func TestATypeThatHoldsItself(t *testing.T) {
	text := strings.Replace(ferry, " * @param {Map<string, number>} options.odd - Odd.\n", "", 1)
	text = strings.Replace(text, "odd, ", "", 1)
	o := functions.Offer("ferry.mjs", text, functions.ReadScript(text).Function("route"))
	require.Equal(t, "", o.Fault)
	assert.Equal(t, map[string]any{"$ref": "#/$defs/Stop", "description": "Where."}, o.Input["properties"].(map[string]any)["stop"])
	stop := o.Input["$defs"].(map[string]any)["Stop"].(map[string]any)
	assert.Equal(t, map[string]any{"$ref": "#/$defs/Stop", "description": "The one after."}, stop["properties"].(map[string]any)["next"])
	assert.Equal(t, []any{"stop"}, o.Input["required"])
}

func TestTypesOfTypeScript(t *testing.T) {
	text := `
/** A berth. */
interface Berth {
  name: string // as it is painted
  /** In metres. */
  length_m?: number
  readonly pier: 'A' | 'B'
}
export type Many = Array<Berth> | null;

/** Moor a boat.
 * @param berth - Where.
 */
export async function moor(berth: Berth, nights: number = 1, tags?: string[], extra: Record<string, unknown> = {}, many?: Many): Promise<Berth[]> {
  return []
}
`
	f := functions.ReadScript(text).Function("moor")
	require.Equal(t, "", f.Fault)
	o := functions.Offer("moor.ts", text, f)
	in := o.Input["properties"].(map[string]any)
	assert.Equal(t, []any{"berth"}, o.Input["required"])
	assertJSON(t, `{"type": "number", "default": 1}`, in["nights"])
	assertJSON(t, `{"type": "array", "items": {"type": "string"}}`, in["tags"])
	assertJSON(t, `{"type": "array", "items": {"$ref": "#/$defs/Berth"}}`, f.Returns)
	assertJSON(t, `{"type": "object", "required": ["name", "pier"], "properties": {"name": {"type": "string", "description": "as it is painted"},
		"length_m": {"type": "number", "description": "In metres."}, "pier": {"type": "string", "enum": ["A", "B"]}}}`, f.Defs["Berth"])
}

func TestTypesWithBounds(t *testing.T) {
	text := "/**\n * @typedef {number} Metres Of length.\n * @exclusiveMinimum 0\n * @maximum 200\n */\n/** @typedef {string} Day\n * @format date */\n/**\n * @param {Metres} a - How long.\n * @param {Day[]} days\n */\nexport function f(a, days) {}\n"
	f := functions.ReadScript(text).Function("f")
	require.Equal(t, "", f.Fault)
	in := functions.Offer("f.mjs", text, f).Input
	assertJSON(t, `{"type": "object", "additionalProperties": false, "required": ["a", "days"], "properties": {
		"a": {"type": "number", "exclusiveMinimum": 0, "maximum": 200, "description": "How long."}, "days": {"type": "array", "items": {"type": "string", "format": "date"}}}}`, in)
}

func TestAScriptOfAnyTextIsReadWithoutHarm(t *testing.T) {
	for _, text := range []string{"", "export function f(", "/** @param {", "/** @param {{a: */ export function f(a) {}", "`${`${`", "export const f = ({", "/** @typedef {Object} A\n * @property {A} a */\n/** @param {A */ export function f(a){}", "/", "'", "/*"} {
		assert.NotPanics(t, func() { _ = functions.Offer("f.mjs", text, functions.ReadScript(text).Function("f")) }, text)
	}
}

func FuzzScripts(f *testing.F) {
	f.Add(ferry)
	f.Fuzz(func(t *testing.T, text string) {
		_ = functions.Offer("f.mjs", text, functions.ReadScript(text).Function("fare"))
	})
}

func assertJSON(t *testing.T, want string, have any) {
	t.Helper()
	raw, err := json.Marshal(have)
	require.NoError(t, err)
	assert.JSONEq(t, want, string(raw))
}
