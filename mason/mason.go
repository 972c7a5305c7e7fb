package mason

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/google/jsonschema-go/jsonschema"
	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/cli"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/tools/own"
	"stonebaton.example/web"
)

// Function is a tool made of a Go function.
type Function struct{ tool own.Tool }

// Option says more about a tool.
type Option func(*document)

// document is what a tool document of a project says.
type document struct {
	fields  map[string]any
	accepts []string // comments of the form "# accept CODE: reason"
}

// Reads says that a call changes nothing.
func Reads() Option { return func(d *document) { d.fields["effect"] = "read" } }

// Irreversible says that what a call does cannot be undone.
func Irreversible() Option { return func(d *document) { d.fields["effect"] = "irreversible" } }

// Resend says how a call that may have happened can be sent again: "safe" or "key".
func Resend(how string) Option { return func(d *document) { d.fields["resend"] = how } }

// Timeout bounds one call.
func Timeout(limit time.Duration) Option {
	return func(d *document) { d.fields["timeout"] = strconv.FormatInt(limit.Milliseconds(), 10) + "ms" }
}

// Gate makes calls wait for a person, all of them or where an expression holds.
func Gate(when, ask string, by ...string) Option {
	return func(d *document) {
		g := map[string]any{}
		for k, v := range map[string]string{"when": when, "ask": ask} {
			if v != "" {
				g[k] = v
			}
		}
		if len(by) > 0 {
			g["by"] = by
		}
		d.fields["gate"] = g
	}
}

// Stub adds a canned answer for calls where an expression holds; "" is every call.
func Stub(when string, returns any) Option {
	return func(d *document) {
		s := map[string]any{"returns": returns}
		if when != "" {
			s["when"] = when
		}
		list, _ := d.fields["stubs"].([]any)
		d.fields["stubs"] = append(list, s)
	}
}

// Accept silences what check says of the tool under a code, for a reason. A code that
// there is not, or no reason, panics when the program starts.
func Accept(code, reason string) Option {
	if _, ok := project.Codes[code]; !ok || strings.TrimSpace(reason) == "" {
		panic(fmt.Sprintf("mason: Accept(%q, %q): it needs a reason, and one of the codes %s", code, reason, strings.Join(slices.Sorted(maps.Keys(project.Codes)), ", ")))
	}
	return func(d *document) {
		d.accepts = append(d.accepts, "# accept "+code+": "+strings.Join(strings.Fields(reason), " ")+"\n")
	}
}

// StubText adds a stub written as in a project's file, which can also fail or take its
// time, such as `{when: "args.n > 2", fails: "None is left.", after: 2s}`. The bench
// gives the text of a stub of what came back. What is no mapping panics when the
// program starts.
func StubText(text string) Option {
	var s map[string]any
	if err := yaml.Unmarshal([]byte(text), &s); err != nil || s == nil {
		panic(fmt.Sprintf("mason: the stub %s is not a mapping of YAML: %v", text, err))
	}
	return func(d *document) {
		list, _ := d.fields["stubs"].([]any)
		d.fields["stubs"] = append(list, s)
	}
}

// Says gives the words that the model reads of a result, such as
// "{{ result.count }} buoys.".
func Says(done string) Option {
	return func(d *document) { d.fields["says"] = map[string]any{"done": done} }
}

// ReasonFirst asks the model to say why before it calls.
func ReasonFirst() Option { return func(d *document) { d.fields["reason_first"] = true } }

// Attach adds a file to the result of the call that ctx belongs to: it is kept by its content,
// shown with the step, and a picture to models that take pictures. Typ is its media type, such as
// "image/png". What is given stands for the file in a result; it may be left out.
func Attach(ctx context.Context, name, typ string, body []byte) map[string]any {
	return own.Attach(ctx, name, typ, body)
}

// Refuse gives an error that says that nothing was done, in words for the model.
func Refuse(format string, args ...any) error { return &own.Refusal{Say: fmt.Sprintf(format, args...)} }

// Log writes a line into the log of the call that ctx belongs to; it is seen while
// the call goes, and kept with it.
func Log(ctx context.Context, format string, args ...any) { own.Log(ctx, fmt.Sprintf(format, args...)) }

// Tool makes a tool of a function. Its name and types are the program's own to get
// right: what cannot be a contract panics when the program starts.
func Tool[In, Out any](name, summary string, f func(context.Context, In) (Out, error), options ...Option) Function {
	in, err := schemaOf[In]()
	if err != nil {
		panic(fmt.Sprintf("mason: the tool %s: its input: %v", name, err))
	}
	if in["type"] != "object" {
		panic(fmt.Sprintf("mason: the tool %s: its input must be a struct", name))
	}
	doc := &document{fields: map[string]any{"tool": name, "summary": summary, "go": true, "input": in}}
	if out, err := schemaOf[Out](); err == nil && len(out) > 0 {
		doc.fields["output"] = out
	}
	for _, o := range options {
		o(doc)
	}
	raw, err := json.MarshalIndent(first(doc.fields), "", "  ")
	if err != nil {
		panic(fmt.Sprintf("mason: the tool %s: %v", name, err))
	}
	text := strings.Join(doc.accepts, "") + string(raw)
	return Function{own.Tool{Name: name, Document: text, Place: caller(), Call: func(ctx context.Context, args any) (any, error) {
		given, err := json.Marshal(args)
		if err != nil {
			return nil, err
		}
		var v In
		if err := json.Unmarshal(given, &v); err != nil {
			return nil, Refuse("the arguments do not fit: %v", err)
		}
		out, err := f(ctx, v)
		if err != nil {
			return nil, err
		}
		back, err := json.Marshal(out)
		if err != nil {
			return nil, err
		}
		return value.Read(back)
	}}}
}

// caller is where the program calls Tool.
func caller() project.Place {
	_, file, line, ok := runtime.Caller(2)
	if !ok {
		return project.Place{File: "the program"}
	}
	if dir, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(dir, file); err == nil && filepath.IsLocal(rel) {
			file = rel
		}
	}
	return project.Place{File: file, Line: line}
}

// ordered is a document whose first key is the one that says what it is.
type ordered struct {
	tool any
	rest map[string]any
}

func first(doc map[string]any) ordered {
	o := ordered{tool: doc["tool"], rest: doc}
	delete(doc, "tool")
	return o
}

// MarshalJSON writes the first key first.
func (o ordered) MarshalJSON() ([]byte, error) {
	name, err := json.Marshal(o.tool)
	if err != nil {
		return nil, err
	}
	rest, err := json.Marshal(o.rest)
	if err != nil {
		return nil, err
	}
	return []byte(`{"tool":` + string(name) + "," + strings.TrimPrefix(string(rest), "{")), nil
}

// schemaOf makes the JSON Schema of a type, with what its tags say.
func schemaOf[T any]() (map[string]any, error) {
	t := reflect.TypeFor[T]()
	if t.Kind() == reflect.Interface {
		return nil, nil
	}
	s, err := jsonschema.For[T](nil)
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var doc map[string]any
	if err := json.Unmarshal(raw, &doc); err != nil {
		return nil, err
	}
	return doc, tagged(doc, t)
}

// tagged puts what the tags of a struct say into its schema.
func tagged(doc map[string]any, t reflect.Type) error {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Slice, reflect.Array:
		plain(doc)
		if items, ok := doc["items"].(map[string]any); ok {
			return tagged(items, t.Elem())
		}
		return nil
	case reflect.Struct:
	default:
		return nil
	}
	props, _ := doc["properties"].(map[string]any)
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" {
			name = f.Name
		}
		sub, ok := props[name].(map[string]any)
		if !ok {
			continue
		}
		plain(sub)
		if err := tagged(sub, f.Type); err != nil {
			return err
		}
		if err := field(sub, f); err != nil {
			return fmt.Errorf("the field %s: %w", f.Name, err)
		}
		if f.Tag.Get("default") != "" { // what has a default can be left away
			req, _ := doc["required"].([]any)
			doc["required"] = slices.DeleteFunc(req, func(e any) bool { return e == any(name) })
		}
	}
	return nil
}

// plain takes "or null" away: a list or pointer that is not there is left away.
func plain(doc map[string]any) {
	if list, ok := doc["type"].([]any); ok {
		list = slices.DeleteFunc(list, func(e any) bool { return e == "null" })
		if len(list) == 1 {
			doc["type"] = list[0]
		}
	}
}

func field(doc map[string]any, f reflect.StructField) error {
	desc := f.Tag.Get("desc")
	if u := f.Tag.Get("unit"); u != "" {
		desc = strings.TrimSuffix(strings.TrimSpace(desc), ".") + ", in " + u + "."
	}
	if desc != "" {
		doc["description"] = strings.TrimPrefix(desc, ", ")
	}
	for _, k := range []string{"format", "pattern"} {
		if v := f.Tag.Get(k); v != "" {
			doc[k] = v
		}
	}
	for tag, k := range map[string]string{"min": "minimum", "max": "maximum"} {
		if v := f.Tag.Get(tag); v != "" {
			n, err := strconv.ParseFloat(v, 64)
			if err != nil {
				return fmt.Errorf("%s is not a number: %q", tag, v)
			}
			doc[k] = n
		}
	}
	if v := f.Tag.Get("enum"); v != "" {
		list := []any{}
		for _, e := range strings.Split(v, ",") {
			x, err := valueOf(doc, strings.TrimSpace(e))
			if err != nil {
				return err
			}
			list = append(list, x)
		}
		doc["enum"] = list
	}
	if v := f.Tag.Get("default"); v != "" {
		x, err := valueOf(doc, v)
		if err != nil {
			return err
		}
		doc["default"] = x
	}
	return nil
}

// valueOf reads a tag's value as the type of its field.
func valueOf(doc map[string]any, s string) (any, error) {
	if doc["type"] == "string" {
		return s, nil
	}
	var v any
	if err := json.Unmarshal([]byte(s), &v); err != nil {
		return nil, fmt.Errorf("%q is no %v", s, doc["type"])
	}
	return v, nil
}

// Main runs the program's command line with the functions as tools of every
// project that it opens, and ends the program.
func Main(functions ...Function) {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	if self, err := os.Executable(); err == nil && os.Getenv("STONEBATON") == "" {
		_ = os.Setenv("STONEBATON", self) // files name this program as ${STONEBATON}; the name and value can be set
	}
	code := Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr, functions...)
	stop()
	os.Exit(code)
}

// Run does the same on given streams, and gives the code to end with.
func Run(ctx context.Context, args []string, in io.Reader, out, errs io.Writer, functions ...Function) int {
	p := cli.Program{Serve: func(ctx context.Context, a *app.App, l net.Listener, log *slog.Logger) error {
		return service.New(a, web.Files(), log, cli.Version).Serve(ctx, l)
	}}
	for _, f := range functions {
		p.Own = append(p.Own, f.tool)
	}
	return cli.Run(ctx, args, cli.Streams{In: in, Out: out, Err: errs}, p)
}
