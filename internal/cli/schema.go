package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/near"
	"stonebaton.example/core/scope"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools/script"
)

var schemaCommand = command{
	name: "schema", args: "KIND", most: 2, does: "print the JSON Schema of a kind of document, what a tool, a relay or an agent takes, the declarations of a script, or what expressions have", example: "stonebaton schema tool > tool.schema.json\nstonebaton schema script reckon_dues > reckon_dues.d.ts\nstonebaton schema input berth_letter\nstonebaton schema expressions",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		dir := fs.String("dir", "", "the project's `folder`; for input, the service's project by default")
		return func(ctx context.Context, args []string) error {
			kinds := strings.Join(app.Reader.Documents(), ", ")
			if len(args) == 0 {
				return use("of which kind? There is: %s, script TOOL, input NAME, and expressions", kinds)
			}
			if args[0] == "expressions" {
				return k.expressions()
			}
			if args[0] == "input" {
				return k.takes(ctx, *dir, args[1:])
			}
			if args[0] == "script" || len(args) == 2 {
				return k.declarations(ctx, cmp.Or(*dir, "."), args)
			}
			doc, ok := app.Reader.Schema(args[0])
			if !ok {
				return use("unknown kind %q.%s There is: %s", args[0], near.Hint(args[0], app.Reader.Documents()), kinds)
			}
			return k.printJSON(doc)
		}
	},
}

// expressions prints every name and function of expressions.
func (k *call) expressions() error {
	k.print("Names\n")
	for _, n := range scope.Names() {
		k.print("  %s\n      %s: %s\n", n.Name, n.Where, n.Is)
	}
	group := ""
	for _, f := range expr.Functions() {
		if f.Group != group {
			group = f.Group
			k.print("\n%s\n", strings.ToUpper(group[:1])+group[1:])
		}
		k.print("  %s\n      %s\n", f.Use, f.Does)
	}
	return nil
}

// takes prints the JSON Schema of what a tool, a relay, or an agent that is consulted takes.
func (k *call) takes(ctx context.Context, dir string, args []string) error {
	if len(args) != 1 {
		return use("of which tool, relay or agent?")
	}
	inputs, err := k.inputs(ctx, dir)
	if err != nil {
		return err
	}
	if doc, ok := inputs[args[0]]; ok {
		return k.printJSON(doc)
	}
	return fmt.Errorf("unknown tool, relay or agent %q.%s", args[0], near.Hint(args[0], slices.Sorted(maps.Keys(inputs))))
}

// inputs gives the schemas of what the tools, relays and agents of a folder, or of the
// service's project, take. A tool comes before an agent of its name.
func (k *call) inputs(ctx context.Context, dir string) (map[string]map[string]any, error) {
	out := map[string]map[string]any{}
	if !k.here(dir) {
		p, err := k.client().Project(ctx)
		if err != nil {
			return nil, err
		}
		tools, err := k.client().Tools(ctx)
		if err != nil {
			return nil, err
		}
		for _, a := range p.Agents {
			out[a.ID] = a.Takes
		}
		for _, r := range p.Relays {
			out[r.ID] = r.Input
		}
		for _, t := range tools {
			out[t.ID] = t.Input
		}
		return out, nil
	}
	p, shop, err := k.folder(ctx, cmp.Or(dir, "."))
	if err != nil {
		return nil, err
	}
	defer shop.Close()
	for n, a := range p.Agents {
		out[n] = a.Takes()
	}
	for n, r := range p.Relays {
		out[n] = r.Input.Doc()
	}
	for n, t := range p.Tools {
		out[n] = t.Input.Doc()
	}
	return out, nil
}

// declarations prints what an editor needs to know of a script.
func (k *call) declarations(ctx context.Context, dir string, args []string) error {
	if args[0] != "script" {
		return use("only script and input take a name")
	}
	if len(args) == 1 {
		k.block("", 0, script.Declarations(nil, nil))
		return nil
	}
	p, shop, err := k.folder(ctx, dir)
	if err != nil {
		return err
	}
	defer shop.Close()
	t := p.Tools[args[1]]
	if t == nil {
		return fmt.Errorf("unknown tool %q.%s", args[1], near.Hint(args[1], slices.Sorted(maps.Keys(p.Tools))))
	}
	k.block("", 0, script.Declarations(t, p.State.Doc()))
	return nil
}
