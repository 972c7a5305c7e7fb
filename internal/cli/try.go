package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
)

var tryCommand = command{
	name: "try", args: "TOOL", most: 1, does: "call one tool alone and see the words a model would read", example: `stonebaton try find_vessel -args '{"name":"Marrow Light"}'`,
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
				out, err = app.Try(ctx, p, shop.Set, shop.Secrets, rest[0], engine.Local, in)
				add = func() (project.Edit, error) {
					return shop.AddStub(p, app.Environment(or(*dir, "."), nil), rest[0], app.DraftOf(out))
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
		if b, err := json.MarshalIndent(t.Result, "", "  "); err == nil {
			k.block("result   ", 9, string(harmless(b)))
		}
	}
	k.block("words    ", 9, t.Words)
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
		for _, f := range p.Files {
			k.print("file     %s, %s, %d bytes\n", f.Path, f.Type, f.Bytes)
		}
		if p.Diff != "" {
			k.block("diff     ", 9, strings.TrimSpace(p.Diff))
		}
		if p.Undo != "" && t.ID != 0 {
			k.print("undo     stonebaton undo %s\n", p.Undo)
		}
		if p.Log != "" {
			k.block("log      ", 9, strings.TrimSpace(p.Log))
		}
	}
}
