package cli

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"stonebaton/api"
	"stonebaton/app"
	"stonebaton/core/ledger"
	"stonebaton/core/near"
	"stonebaton/core/project"
	"stonebaton/model"
	"stonebaton/model/chat"
	"stonebaton/secret"
	"stonebaton/service"
	"stonebaton/understudy"
)

//go:embed starter
var starter embed.FS

var newCommand = command{
	name: "new", args: "DIR", most: 1, does: "make a small project that runs at once", example: "stonebaton new workshop",
	set: func(k *call, _ *flag.FlagSet) func(context.Context, []string) error {
		return func(_ context.Context, args []string) error {
			if len(args) == 0 {
				return use("where? Name a folder that is not there yet")
			}
			dir := args[0]
			if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
				return fmt.Errorf("%s is not empty; nothing was written. Name a folder that is not there yet", dir)
			}
			files, err := fs.Sub(starter, "starter")
			if err != nil {
				return err
			}
			if err := copyOut(files, dir); err != nil {
				return err
			}
			if err := os.Rename(filepath.Join(dir, "gitignore"), filepath.Join(dir, ".gitignore")); err != nil {
				return err
			}
			k.print("Made %s: two agents, one tool with a gate, one drill.\n\n  stonebaton drill -dir %s     test it, offline\n  stonebaton serve %s          run it, with the console\n  stonebaton say \"I want to borrow the lathe for 3 days, please.\"\n", dir, dir, dir)
			return nil
		}
	},
}

// copyOut writes files into a folder; those that are there stay as they are.
func copyOut(files fs.FS, dir string) error {
	return fs.WalkDir(files, ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(p))
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		raw, err := fs.ReadFile(files, p)
		if err != nil {
			return err
		}
		f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return nil
		}
		if err != nil {
			return err
		}
		_, err = f.Write(raw)
		return errors.Join(err, f.Close())
	})
}

// workshop gives what carries out the tools of a project folder.
func (k *call) workshop(dir string) (*app.Workshop, func(string) (string, bool)) {
	env := app.Environment(dir, nil)
	return app.NewWorkshop(app.WorkshopConfig{Dir: dir, Secrets: secret.New(env), Own: k.own}), env
}

// folder reads a project, and reports its problems where it cannot be run. The
// workshop is to be closed.
func (k *call) folder(ctx context.Context, dir string) (*project.Project, *app.Workshop, error) {
	shop, env := k.workshop(dir)
	p, _, probs := shop.Read(ctx, env, nil)
	if p != nil {
		return p, shop, nil
	}
	for _, x := range probs {
		if x.Grade == project.Error {
			k.note("%s\n", problemText(x))
		}
	}
	shop.Close()
	return nil, nil, fmt.Errorf("the project in %s cannot be run as it is", dir)
}

func problemText(x project.Problem) string {
	s := fmt.Sprintf("%s: %s: %s", x.Place, x.Grade, x.Say)
	if x.Remedy != "" {
		s += "\n    " + x.Remedy
	}
	return s
}

var checkCommand = command{
	name: "check", args: "[DIR]", most: 1, does: "read a project and list its problems", example: "stonebaton check examples/harbour",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		return func(ctx context.Context, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
			}
			shop, env := k.workshop(dir)
			defer shop.Close()
			p, _, probs := shop.Read(ctx, env, nil)
			n := map[project.Grade]int{}
			for _, x := range probs {
				n[x.Grade]++
			}
			errs := n[project.Error]
			var end error
			if errs > 0 {
				end = exit(failed)
			}
			if k.json {
				type row struct {
					ID     string        `json:"id"`
					Status project.Grade `json:"status"`
					project.Problem
				}
				rows := []row{}
				for i, x := range probs {
					rows = append(rows, row{fmt.Sprint(i + 1), x.Grade, x})
				}
				return errors.Join(k.printJSON(rows), end)
			}
			for _, x := range probs {
				k.print("%s\n", problemText(x))
			}
			if p == nil {
				k.print("%s and %s. No run can start until the errors are mended.\n", count(errs, "error"), doubts(n))
				return end
			}
			say := "No problems"
			if len(probs) > 0 {
				say = doubts(n)
			}
			k.print("%s: %s with %s, %s, %s, %s. It begins with %s.\n", p.Name, say, count(len(p.Agents), "agent"), count(len(p.Tools), "tool"), count(len(p.Models), "model"), count(len(p.Drills), "drill"), p.Start)
			return nil
		}
	},
}

// doubts counts what keeps no run from starting.
func doubts(n map[project.Grade]int) string {
	if n[project.Hint] == 0 {
		return count(n[project.Warning], "warning")
	}
	return count(n[project.Warning], "warning") + " and " + count(n[project.Hint], "hint")
}

var drillCommand = command{
	name: "drill", args: "[NAME…]", most: -1, does: "run a project's drills, offline and side by side", example: "stonebaton drill -dir examples/harbour",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		dir := fs.String("dir", ".", "the project's `folder`")
		steps := fs.Bool("steps", false, "show the steps of every drill, not only of those that failed")
		return func(ctx context.Context, args []string) error {
			p, shop, err := k.folder(ctx, *dir)
			if err != nil {
				return err
			}
			defer shop.Close()
			if len(p.Drills) == 0 {
				return fmt.Errorf("the project has no drills; write one: `stonebaton schema drill` says how")
			}
			tell := func(r app.DrillResult) {
				if !k.json {
					k.drill(r, *steps)
				}
			}
			results, err := app.RunDrills(ctx, p, shop, args, tell)
			if err != nil {
				return err
			}
			bad := 0
			for _, r := range results {
				if r.Status != "passed" {
					bad++
				}
			}
			var end error
			if bad > 0 {
				end = exit(failed)
			}
			if k.json {
				return errors.Join(k.printJSON(results), end)
			}
			k.print("\n%d passed, %d failed\n", len(results)-bad, bad)
			return end
		}
	},
}

// drill prints a drill's result: what was expected against what happened.
func (k *call) drill(r app.DrillResult, steps bool) {
	mark := k.paint("32", "passed")
	if r.Status != "passed" {
		mark = k.paint("31", r.Status)
	}
	k.print("%s  %s   %s\n", mark, r.ID, span(r.MS))
	if r.Error != "" {
		k.print("        %s\n", r.Error)
	}
	for _, f := range r.Faults {
		at := ""
		if f.Step > 0 {
			at = fmt.Sprintf(" (step %d)", f.Step)
		}
		k.print("        %s: expected %s\n        %s  happened %s%s\n", f.What, f.Want, strings.Repeat(" ", len(f.What)), f.Got, at)
	}
	if r.Status == "passed" && !steps {
		return
	}
	for _, say := range r.Says {
		k.print("      > %s\n", say.Text)
		for _, s := range say.Steps {
			k.print("      %3d  %s\n", s.N, k.line(s))
		}
		if say.Totals.Answer != "" {
			k.print("           %s\n", strings.ReplaceAll(say.Totals.Answer, "\n", "\n           "))
		}
	}
	k.print("        %s:%d\n", r.Place.File, r.Place.Line)
}

// here says whether a command on a tool or model works on a folder: where one
// is named, or where the current one is a project and no service is named.
func (k *call) here(dir string) bool {
	if dir != "" {
		return true
	}
	if k.elsewhere() {
		return false
	}
	_, err := os.Stat(project.Main)
	return err == nil
}

func or(s, def string) string {
	if s == "" {
		return def
	}
	return s
}

var toolsCommand = command{
	name: "tools", args: "[TOOL]", most: 1, does: "list the tools, or show one's contract as models see it", example: "stonebaton tools find_berth",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		dir := fs.String("dir", "", "read this project `folder` in place of asking the service")
		return func(ctx context.Context, args []string) error {
			var list []api.Tool
			if k.here(*dir) {
				p, shop, err := k.folder(ctx, or(*dir, "."))
				if err != nil {
					return err
				}
				defer shop.Close()
				list = service.Tools(p, nil)
			} else {
				var err error
				if list, err = k.client().Tools(ctx); err != nil {
					return err
				}
			}
			if len(args) == 1 {
				var names []string
				for _, t := range list {
					names = append(names, t.ID)
					if t.ID == args[0] {
						if k.json {
							return k.printJSON(t)
						}
						k.tool(t)
						return nil
					}
				}
				return fmt.Errorf("there is no tool %q.%s", args[0], near.Hint(args[0], names))
			}
			if k.json {
				return k.printJSON(list)
			}
			if len(list) == 0 {
				k.print("The project has no tools.\n")
				return nil
			}
			w := tabwriter.NewWriter(k.Out, 0, 4, 3, ' ', 0)
			fmt.Fprintln(w, "tool\teffect\trung\tby\tstubs\tgate\tagents\tsummary")
			for _, t := range list {
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%d\t%s\t%s\t%s\n", t.ID, t.Effect, t.Rung, t.Handler, t.Stubs, or(t.Gate, "none"), or(strings.Join(t.Agents, ", "), "nobody"), clip(t.Summary, 60))
			}
			return w.Flush()
		}
	},
}

func (k *call) tool(t api.Tool) {
	k.print("%s\n%s\n\n", t.ID, t.Summary)
	k.print("effect   %s\nrung     %s\nby       %s, %s\n", t.Effect, t.Rung, strings.TrimSpace(t.Handler+" "+t.Runs), count(t.Stubs, "stub"))
	if t.Source != "" {
		k.print("source   %s\n", t.Source)
	}
	if t.Gate != "" {
		k.print("gate     %s: %s\n", t.Gate, or(strings.Join(t.By, ", "), "anybody"))
	}
	k.print("agents   %s\nfile     %s:%d\n", or(strings.Join(t.Agents, ", "), "nobody"), t.Place.File, t.Place.Line)
	show := func(name string, doc map[string]any) {
		if b, err := json.MarshalIndent(doc, "", "  "); err == nil && len(doc) > 0 {
			k.print("\n%s\n%s\n", name, b)
		}
	}
	show("input", t.Input)
	show("output", t.Output)
}

var tryCommand = command{
	name: "try", args: "TOOL", most: 1, does: "call one tool by itself and see the words a model would read", example: `stonebaton try find_vessel -args '{"name":"Marrow Light"}'`,
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		args := fs.String("args", "{}", "the arguments, as `JSON`")
		stub := fs.Bool("stub", false, "call the stub in place of the live tool")
		keep := fs.Bool("keep", false, "make a stub of what came back, in the tool's file")
		dir := fs.String("dir", "", "read this project `folder` in place of asking the service")
		state := fs.String("state", "{}", "the state it sees, as `JSON`")
		return func(ctx context.Context, rest []string) error {
			if len(rest) == 0 {
				return use("which tool? `stonebaton tools` lists them")
			}
			in := api.Try{Tools: ledger.ToolsLive}
			if *stub {
				in.Tools = ledger.ToolsStubs
			}
			if err := json.Unmarshal([]byte(*args), &in.Args); err != nil {
				return use("-args is not a JSON object: %v", err)
			}
			if err := json.Unmarshal([]byte(*state), &in.State); err != nil {
				return use("-state is not a JSON object: %v", err)
			}
			var out api.Tried
			var add func() (project.Edit, error)
			var err error
			if k.here(*dir) {
				p, shop, ferr := k.folder(ctx, or(*dir, "."))
				if ferr != nil {
					return ferr
				}
				defer shop.Close()
				out, err = service.Try(ctx, p, shop.Set, shop.Secrets, rest[0], in)
				add = func() (project.Edit, error) {
					return shop.AddStub(p, app.Environment(or(*dir, "."), nil), rest[0], service.DraftOf(out))
				}
			} else {
				out, err = k.client().Try(ctx, rest[0], in)
				add = func() (project.Edit, error) { return k.client().AddStub(ctx, rest[0], api.NewStub{Try: out.ID}) }
			}
			if err != nil {
				return err
			}
			var end error
			if out.Status != "returned" {
				end = exit(failed)
			}
			if k.json {
				err = k.printJSON(out)
			} else {
				k.tried(out)
			}
			if *keep && out.Status == "refused" {
				k.note("no stub was made: the call was refused before it was made\n")
			} else if *keep {
				edit, aerr := add()
				var by *project.EditError
				if errors.As(aerr, &by) {
					return fmt.Errorf("no stub was made: %w; put this in by hand: %s", aerr, by.Text)
				}
				if aerr != nil {
					return fmt.Errorf("no stub was made: %w", aerr)
				}
				k.note("a stub was made of it: %s:%d\n", edit.File, edit.Line)
			}
			return errors.Join(err, end)
		}
	},
}

func (k *call) tried(t api.Tried) {
	way := "live"
	if t.Tools == ledger.ToolsStubs {
		way = "stub"
	}
	k.print("%s %s in %s (%s), %s, about %s for the model\n", t.Tool, t.Status, span(t.MS), way, count(t.Bytes, "byte"), count(t.Tokens, "token"))
	for _, r := range t.Repairs {
		k.print("repaired %s\n", r)
	}
	if t.Error != "" {
		k.print("error    %s (%s, %s)\n", t.Error, t.Class, strings.ReplaceAll(string(t.Known), "_", " "))
	}
	if t.Result != nil {
		if b, err := json.MarshalIndent(t.Result, "         ", "  "); err == nil {
			k.print("result   %s\n", b)
		}
	}
	k.print("words    %s\n", strings.ReplaceAll(t.Words, "\n", "\n         "))
	if len(t.Sets) > 0 {
		if b, err := json.Marshal(t.Sets); err == nil {
			k.print("sets     %s\n", b)
		}
	}
	if t.Gate != "" {
		k.print("gate     %s\n", t.Gate)
	}
	if p := t.Sent; p != nil {
		k.print("proof    %s\n", proof(p))
		for _, h := range slices.Sorted(maps.Keys(p.Headers)) {
			k.print("         %s: %s\n", h, p.Headers[h])
		}
		if p.Diff != "" {
			k.print("diff     %s\n", strings.ReplaceAll(strings.TrimSpace(p.Diff), "\n", "\n         "))
		}
		if p.Undo != "" && t.ID != 0 {
			k.print("undo     stonebaton undo %s\n", p.Undo)
		}
		if p.Log != "" {
			k.print("log      %s\n", strings.ReplaceAll(strings.TrimSpace(p.Log), "\n", "\n         "))
		}
	}
}

var modelsCommand = command{
	name: "models", most: 0, does: "list the models, or ask one whether it answers", example: "stonebaton models -test house",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		test := fs.String("test", "", "ask this `model` one question")
		dir := fs.String("dir", "", "read this project `folder` in place of asking the service")
		return func(ctx context.Context, _ []string) error {
			var p *project.Project
			var s *secret.Store
			if k.here(*dir) {
				now, shop, err := k.folder(ctx, or(*dir, "."))
				if err != nil {
					return err
				}
				defer shop.Close()
				p, s = now, shop.Secrets
			}
			if *test != "" {
				return k.testModel(ctx, p, s, *test)
			}
			var list []api.Model
			var err error
			if p != nil {
				list = service.Models(p)
			} else if list, err = k.client().Models(ctx); err != nil {
				return err
			}
			if k.json {
				return k.printJSON(list)
			}
			w := tabwriter.NewWriter(k.Out, 0, 4, 3, ' ', 0)
			fmt.Fprintln(w, "model\tstatus\tspeaks\tname\turl\tkey\tfallback")
			for _, m := range list {
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", m.ID, m.Status, m.Speaks, m.Name, m.URL, m.Key, m.Fallback)
			}
			return w.Flush()
		}
	},
}

func (k *call) testModel(ctx context.Context, p *project.Project, s *secret.Store, name string) error {
	var out api.ModelTest
	if p != nil {
		m := p.Models[name]
		if m == nil {
			var have []string
			for n := range p.Models {
				have = append(have, n)
			}
			return fmt.Errorf("there is no model %q.%s", name, near.Hint(name, have))
		}
		out = service.TestModel(ctx, model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(s)}, s, p, m)
	} else {
		var err error
		if out, err = k.client().TestModel(ctx, name); err != nil {
			return err
		}
	}
	var end error
	if out.Status != "answers" {
		end = exit(failed)
	}
	if k.json {
		return errors.Join(k.printJSON(out), end)
	}
	if out.Error != nil {
		k.print("%s does not answer: %s\n", out.ID, out.Error.Say)
		if out.Error.Remedy != "" {
			k.print("%s\n", out.Error.Remedy)
		}
		return end
	}
	k.print("%s answers in %s, %d tokens in, %d out: %s\n", out.ID, span(out.MS), out.Tokens.In, out.Tokens.Out, clip(out.Answer, 200))
	return nil
}

var schemaCommand = command{
	name: "schema", args: "KIND", most: 2, does: "print the JSON Schema of a kind of document, or the declarations of a script, for editors", example: "stonebaton schema tool > tool.schema.json\nstonebaton schema script reckon_dues > reckon_dues.d.ts",
	set: func(k *call, _ *flag.FlagSet) func(context.Context, []string) error {
		return func(ctx context.Context, args []string) error {
			kinds := strings.Join(project.Kinds(), ", ")
			if len(args) == 0 {
				return use("of which kind? There is: %s, and script TOOL", kinds)
			}
			if args[0] == "script" || len(args) == 2 {
				return k.declarations(ctx, args)
			}
			doc, ok := project.KindSchema(args[0])
			if !ok {
				return use("there is no kind %q.%s There is: %s", args[0], near.Hint(args[0], project.Kinds()), kinds)
			}
			return k.printJSON(doc)
		}
	},
}

var versionCommand = command{
	name: "version", most: 0, does: "print the version",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		return func(context.Context, []string) error {
			if k.json {
				return k.printJSON(map[string]any{"version": Version, "ledger": ledger.Version})
			}
			k.print("stonebaton %s\n", Version)
			return nil
		}
	},
}
