package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"stonebaton.example/core/near"
	"stonebaton.example/core/value"
)

// Error is an expression that does not compile. Col counts from 1 within the source.
type Error struct {
	Col    int
	Say    string
	Remedy string // how to write it; "" where nothing is known
}

func (e *Error) Error() string { return strings.TrimSpace(e.Say + " " + e.Remedy) }

// EvalError is an expression that failed to evaluate. It names the expression, the
// cause and the remedy.
type EvalError struct{ Src, Say, Remedy string }

func (e *EvalError) Error() string {
	s := e.Src + ": " + e.Say
	if e.Remedy != "" {
		s += ". " + strings.TrimSuffix(e.Remedy, ".")
	}
	return s
}

// listAll ends a remedy where nothing better is known.
const listAll = "`stonebaton schema expressions` lists what there is."

// foreign are words and operators of other languages, with what is written here. The
// first that fits the source is told.
var foreign = []struct {
	found  *regexp.Regexp
	remedy string
}{
	{regexp.MustCompile(`!==`), "Write != for \"is not equal to\"."},
	{regexp.MustCompile(`===`), "Write == for \"is equal to\"."},
	{regexp.MustCompile(`=>`), "A condition over a list is written list.filter(x, x > 1)."},
	{regexp.MustCompile(`(^|[^=!<>])=([^=]|$)`), "Write == for \"is equal to\"."},
	{regexp.MustCompile(`\?\?`), "Write state.?field.orValue(x) for a value that may not be there."},
	{regexp.MustCompile(`\?\.`), "Write a.?b.orValue(x) for a field that may not be there."},
	{regexp.MustCompile(`(?i)\band\b`), "Write && for \"and\"."},
	{regexp.MustCompile(`(?i)\bor\b`), "Write || for \"or\"."},
	{regexp.MustCompile(`(?i)^\s*not\b|[(&|]\s*not\b`), "Write ! for \"not\"."},
	{regexp.MustCompile("`"), "Write texts in single quotes: 'text'."},
	{regexp.MustCompile(`\bif\b.*\b(then|else)\b|\bif\b`), "Write condition ? a : b."},
	{regexp.MustCompile(`\.(includes|contains)\(`), "For a list write x in list; for a text s.contains(t)."},
	{regexp.MustCompile(`\.(length|len|count|size)\b`), "Write size(x)."},
	{regexp.MustCompile(`\b(len|length|count)\(`), "Write size(x)."},
	{regexp.MustCompile(`\.(toLowerCase|lower|lowerCase|toLower)\b`), "Write s.lowerAscii()."},
	{regexp.MustCompile(`\.(toUpperCase|upper|upperCase|toUpper)\b`), "Write s.upperAscii()."},
	{regexp.MustCompile(`\.(lowerAscii|upperAscii|trim|reverse)\b[^(]*$`), "It is a function: write s.lowerAscii()."},
	{regexp.MustCompile(`\.(strip)\(`), "Write s.trim()."},
	{regexp.MustCompile(`\.(some|any)\(`), "Write list.exists(x, condition)."},
	{regexp.MustCompile(`\.(every)\(`), "Write list.all(x, condition)."},
	{regexp.MustCompile(`\.toFixed\(`), "Write fixed(x, places)."},
	{regexp.MustCompile(`\b(Math|math)\.round\(`), "Write round(x, places)."},
	{regexp.MustCompile(`\b(str|String|toString)\(|\.toString\(`), "Write string(x)."},
	{regexp.MustCompile(`\b(float|Number|parseFloat)\(`), "Write double(x)."},
	{regexp.MustCompile(`\b(parseInt|Int)\(`), "Write int(x)."},
	{regexp.MustCompile(`\b(True|False|TRUE|FALSE)\b`), "Write true and false in small letters."},
	{regexp.MustCompile(`\b(None|nil|undefined|NULL|Null)\b`), "Write null; for a field that may not be there, has(a.b)."},
	{regexp.MustCompile(`\b(strftime|format_date|formatDate)\b`), "Write date(t, '%d %b %Y')."},
}

func foreignHint(src string) string {
	plain := texts.ReplaceAllString(src, "''")
	for _, f := range foreign {
		if f.found.MatchString(plain) {
			return f.remedy
		}
	}
	return ""
}

// texts are the texts in an expression, which hold no operators.
var texts = regexp.MustCompile(`'(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*"`)

var (
	undefinedField = regexp.MustCompile(`undefined field '([^']+)'`)
	undeclared     = regexp.MustCompile(`undeclared reference to '([^']+)'`)
	noOverload     = regexp.MustCompile(`found no matching overload for '([^']+)' applied to '(.*)'$`)
	noSelection    = regexp.MustCompile(`type '(.+)' does not support field selection`)
	wrongType      = regexp.MustCompile(`expected type '(.+)' but found '(.+)'`)
	reserved       = regexp.MustCompile(`reserved identifier: (.+)`)
	stray          = regexp.MustCompile(`(?s)(?:extraneous input|mismatched input|no viable alternative at input|token recognition error at:|missing '.+' at) '(.*?)'(?: expecting .*)?$`)
	missingToken   = regexp.MustCompile(`missing '(.+)' at`)
	receiver       = regexp.MustCompile(`^(.+)\.\((.*)\)$`)
	conversion     = regexp.MustCompile(`type conversion error from '(.+)' to '(.+)'`)
)

// compile parses and checks a source, and puts what is wrong into a sentence.
func (s *Scope) compile(src string) (*cel.Ast, *Error) {
	ast, iss := s.env.Compile(src)
	if iss == nil || iss.Err() == nil {
		return ast, nil
	}
	first := iss.Errors()[0]
	e := &Error{Col: max(1, first.Location.Column()+1)}
	e.Say, e.Remedy = s.explain(src, first.Message)
	return nil, e
}

func (s *Scope) explain(src, msg string) (say, remedy string) {
	hint := foreignHint(src)
	switch {
	case strings.TrimSpace(src) == "":
		return "the expression is empty.", "Write what is to be evaluated, such as args.length_m > 40.0."
	case strings.HasPrefix(msg, "Syntax error:"):
		return syntax(strings.TrimSpace(strings.TrimPrefix(msg, "Syntax error:")), hint)
	}
	if m := reserved.FindStringSubmatch(msg); m != nil {
		return fmt.Sprintf("%q is not a name here.", m[1]), orElse(hint, listAll)
	}
	if m := undefinedField.FindStringSubmatch(msg); m != nil {
		var names []string
		if p, ok := s.env.CELTypeProvider().(*provider); ok {
			for _, o := range p.objects {
				names = append(names, sorted(o.fields)...)
			}
		}
		return fmt.Sprintf("there is no field %q here.%s", m[1], near.Hint(m[1], unique(names))), hint
	}
	if m := undeclared.FindStringSubmatch(msg); m != nil {
		return s.unknown(src, m[1], hint)
	}
	if m := noOverload.FindStringSubmatch(msg); m != nil {
		return overload(m[1], m[2], hint)
	}
	if m := noSelection.FindStringSubmatch(msg); m != nil {
		return fmt.Sprintf("%s has no fields.", value.Article(typeName(m[1]))), hint
	}
	if m := wrongType.FindStringSubmatch(msg); m != nil {
		return fmt.Sprintf("%s is needed here, not %s.", value.Article(typeName(m[1])), value.Article(typeName(m[2]))), orElse(hint, comparing(m[1]))
	}
	if m := conversion.FindStringSubmatch(msg); m != nil {
		return fmt.Sprintf("this %s is not %s.", typeName(m[1]), value.Article(typeName(m[2]))), converting(m[2])
	}
	if strings.Contains(msg, "timestamp") {
		return "this text is not a moment.", converting("timestamp")
	}
	if strings.Contains(msg, "regexp") {
		return "the pattern is not a regular expression.", "Patterns are those of RE2; check its brackets."
	}
	if strings.Contains(msg, "formatting") {
		return "the format does not fit the values.", "%s takes anything, %d a whole number, %.2f a number."
	}
	return "the expression is not valid here.", orElse(hint, listAll)
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// syntax words what the parser stumbled over.
func syntax(msg, hint string) (say, remedy string) {
	say = "this is not an expression."
	if m := missingToken.FindStringSubmatch(msg); m != nil {
		return fmt.Sprintf("this is not an expression: a %s is missing.", m[1]), hint
	}
	if m := stray.FindStringSubmatch(msg); m != nil {
		switch token := strings.TrimSpace(m[1]); {
		case token == "<EOF>":
			return "this is not an expression: it ends too early.", orElse(hint, "Close every bracket and quote, and write something after the last operator.")
		case strings.HasPrefix(token, "'") || strings.HasPrefix(token, `"`):
			return "this is not an expression: a quote is not closed.", hint
		default:
			say = fmt.Sprintf("this is not an expression: %q does not belong here.", token)
		}
	}
	return say, hint
}

// unknown words a name that nothing has.
func (s *Scope) unknown(src, name, hint string) (say, remedy string) {
	plain := texts.ReplaceAllString(src, "''")
	if regexp.MustCompile(regexp.QuoteMeta(name) + `\s*\(`).MatchString(plain) {
		meant := ""
		if hint == "" {
			meant = near.Hint(name, s.functionNames())
		}
		return fmt.Sprintf("there is no function %q.%s", name, meant), orElse(hint, listAll)
	}
	names := sorted(s.docs)
	meant := near.Hint(name, names)
	if meant != "" {
		hint = ""
	}
	return fmt.Sprintf("%q is not known here.%s", name, meant), strings.TrimSpace(hint + " In scope: " + strings.Join(names, ", ") + ".")
}

// functionNames lists what can be called.
func (s *Scope) functionNames() []string {
	var out []string
	for n := range s.env.Functions() {
		if n[0] != '_' && n[0] != '@' && n[0] != '!' && n[0] != '-' && !strings.HasPrefix(n, "optional") {
			out = append(out, n)
		}
	}
	out = append(out, "has", "all", "exists", "exists_one", "filter", "map")
	slices.Sort(out)
	return out
}

// overload words a function or operator that does not take what it was given.
func overload(name, applied, hint string) (say, remedy string) {
	op := strings.Trim(name, "_@")
	var kinds []string
	on := ""
	if m := receiver.FindStringSubmatch(applied); m != nil {
		on, applied = m[1], "("+m[2]+")"
	}
	for _, t := range splitTypes(strings.TrimSuffix(strings.TrimPrefix(applied, "("), ")")) {
		kinds = append(kinds, value.Article(typeName(t)))
	}
	both := strings.Join(kinds, " and ")
	mixed := strings.Contains(applied, "double") && strings.Contains(applied, "int")
	switch {
	case name == "orValue":
		inner := strings.TrimSuffix(strings.TrimPrefix(on, "optional_type("), ")")
		return fmt.Sprintf("orValue gives %s instead of %s.", both, value.Article(typeName(inner))), "Write ." + map[string]string{"double": "orValue(0.0)", "int": "orValue(0)", "string": "orValue('')", "bool": "orValue(false)"}[inner] + ", of the field's own type."
	case strings.Contains(applied, "optional_type") && on == "":
		return fmt.Sprintf("%q takes a value, but this may not be there.", op), "Add .orValue(x) behind the field."
	case name == "_?_:_":
		return "the part before ? must be true or false.", "Compare it, such as x > 0 ? a : b; a and b are of one type."
	case on != "":
		return fmt.Sprintf("%q of %s does not take %s.", op, value.Article(typeName(on)), orElse(both, "nothing")), orElse(hint, listAll)
	case mixed:
		return fmt.Sprintf("%q does not work on %s.", op, both), "Write whole numbers with a point (2.0) beside a number, or convert with double()."
	case name == "@in":
		return fmt.Sprintf("\"in\" looks in a list or record, not in %s.", kinds[len(kinds)-1]), "For a text write s.contains(t)."
	case strings.Contains(applied, "string") && strings.Contains(applied, "timestamp"):
		return fmt.Sprintf("%q does not work on %s.", op, both), "Write timestamp('2026-05-04T09:00:00Z') for a moment."
	case strings.Contains(applied, "string") && (name == "_+_"):
		return fmt.Sprintf("%q does not work on %s.", op, both), "Convert with string(x)."
	case len(kinds) == 0:
		return fmt.Sprintf("%q needs a value.", op), listAll
	}
	return fmt.Sprintf("%q does not work on %s.", op, both), orElse(hint, "Compare and reckon with values of one type, or convert with int(), double() or string().")
}

// splitTypes parts a list of types at its outer commas.
func splitTypes(s string) []string {
	var out []string
	depth, from := 0, 0
	for i, r := range s {
		switch r {
		case '(':
			depth++
		case ')':
			depth--
		case ',':
			if depth == 0 {
				out, from = append(out, strings.TrimSpace(s[from:i])), i+1
			}
		}
	}
	if strings.TrimSpace(s[from:]) != "" {
		out = append(out, strings.TrimSpace(s[from:]))
	}
	return out
}

// typeName gives what people call a type of CEL: the names of JSON Schema.
func typeName(t string) string {
	switch {
	case t == "int" || t == "uint":
		return "integer"
	case t == "double":
		return "number"
	case t == "string":
		return "text"
	case t == "bool":
		return "truth value"
	case strings.Contains(strings.ToLower(t), "timestamp"):
		return "moment"
	case strings.Contains(strings.ToLower(t), "duration"):
		return "duration"
	case strings.HasPrefix(t, "list"):
		return "list"
	case strings.HasPrefix(t, "map") || strings.HasPrefix(t, "of."):
		return "record"
	case strings.HasPrefix(t, "optional_type"):
		return "value that may not be there"
	case t == "null_type" || t == "null":
		return "null"
	case t == "dyn":
		return "value of any type"
	}
	return t
}

func comparing(want string) string {
	if want == "bool" {
		return "Compare it, such as x > 0 or x == 'a'."
	}
	return ""
}

func converting(to string) string {
	switch {
	case strings.Contains(strings.ToLower(to), "timestamp"):
		return "Write a moment as '2026-05-04T09:00:00Z'."
	case strings.Contains(strings.ToLower(to), "duration"):
		return "Write a duration as '90s', '30m' or '2h30m'."
	case to == "int", to == "uint":
		return "A whole number is written '42'."
	case to == "double":
		return "A number is written '4.2'."
	case to == "bool":
		return "A truth value is written 'true' or 'false'."
	}
	return ""
}

// failed words an error of evaluation.
func failed(src string, err error) error {
	msg := err.Error()
	e := &EvalError{Src: src}
	after := func(lead string) string { _, rest, _ := strings.Cut(msg, lead); return strings.TrimSpace(rest) }
	switch {
	case strings.Contains(msg, "no such key"):
		key := strings.Trim(after("no such key:"), `"`)
		e.Say = fmt.Sprintf("there is no %q", key)
		e.Remedy = fmt.Sprintf("Write .?%s.orValue(…) where it may not be there, or give it a default: in its schema", key)
	case strings.Contains(msg, "no such attribute"):
		e.Say, e.Remedy = "a name in it has no value here", "Test it with has() first"
	case strings.Contains(msg, "index out of bounds"):
		e.Say, e.Remedy = "the list has no entry "+after("index out of bounds:"), "Entries count from 0; test size(list) first"
	case strings.Contains(msg, "division by zero"), strings.Contains(msg, "modulus by zero"):
		e.Say, e.Remedy = "it divides by zero", "Test the divisor first: b != 0 ? a / b : 0"
	case strings.Contains(msg, "overflow"):
		e.Say, e.Remedy = "the number is too large for an integer", "Convert with double() first"
	case strings.Contains(msg, "no such overload"):
		e.Say, e.Remedy = "a value in it is of a type that the operator or function does not take", "Convert with string(), int() or double(), or describe the value in a schema"
	case strings.Contains(msg, "cost limit"):
		e.Say, e.Remedy = "it takes too much work (cost limit)", "Use smaller lists, or a script"
	case conversion.MatchString(msg):
		m := conversion.FindStringSubmatch(msg)
		e.Say, e.Remedy = fmt.Sprintf("a %s in it is not %s", typeName(m[1]), value.Article(typeName(m[2]))), converting(m[2])
	case strings.Contains(msg, "RFC 3339"), strings.Contains(msg, "parsing time"):
		e.Say, e.Remedy = "a text in it is not a moment", converting("timestamp")
	case strings.Contains(msg, "regexp"):
		e.Say, e.Remedy = "its pattern is not a regular expression", "Patterns are those of RE2"
	case strings.Contains(msg, "formatting"):
		e.Say, e.Remedy = "its format does not fit the values", "%s takes anything, %d a whole number, %.2f a number"
	case strings.Contains(msg, "is not a day such as"), strings.Contains(msg, "takes 0 to 15 places"), strings.Contains(msg, "takes a number"):
		e.Say = msg // said by a function of ours
	default:
		e.Say, e.Remedy = "it failed to evaluate", "`stonebaton schema expressions` lists what there is"
	}
	return e
}

// IsEvalError says whether an error is one of evaluating an expression.
func IsEvalError(err error) bool {
	var e *EvalError
	return errors.As(err, &e)
}
