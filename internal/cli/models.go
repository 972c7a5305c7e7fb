package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/understudy"
)

var modelsCommand = command{
	name: "models", most: 0, does: "list the models, or ask some whether they answer", example: "stonebaton models -test house -test spare\nstonebaton models -test mine -keep",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		var tests []string
		fs.Func("test", "ask this `model` one question; repeatable", func(v string) error { tests = append(tests, v); return nil })
		list := fs.String("list", "", "list the models that the endpoint of this `model` has")
		var how howTested
		fs.BoolVar(&how.longest, "context", false, "with -test: look for the longest request that it takes too, which costs as much as that is long")
		fs.BoolVar(&how.keep, "keep", false, "with -test: write what it can do into the project's file, where check holds agents against it")
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
			if len(tests) > 0 {
				var end error
				for _, name := range tests {
					end = errors.Join(end, k.testModel(ctx, p, s, name, or(*dir, "."), how))
				}
				return end
			}
			if *list != "" {
				return k.modelOffers(ctx, p, s, *list)
			}
			var all []api.Model
			var err error
			if p != nil {
				all = app.Models(p)
			} else if all, err = k.client().Models(ctx); err != nil {
				return err
			}
			if k.json {
				return k.printJSON(all)
			}
			return k.modelTable(all)
		}
	},
}

// modelOffers lists what the endpoint of a model has.
func (k *call) modelOffers(ctx context.Context, p *project.Project, s *secret.Store, name string) error {
	var list []string
	if p != nil {
		var err error
		if list, err = app.ListModels(ctx, model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(s, nil)}, s, p, name); err != nil {
			return err
		}
	} else {
		out, err := k.client().ModelOffers(ctx, name)
		if err != nil {
			return err
		}
		list = out.Models
	}
	if k.json {
		return k.printJSON(list)
	}
	if len(list) == 0 {
		k.print("The endpoint of %s lists no models.\n", name)
	}
	for _, m := range list {
		k.print("%s\n", shown(m))
	}
	return nil
}

func (k *call) modelTable(list []api.Model) error {
	var rows [][]any
	for _, m := range list {
		rows = append(rows, []any{m.ID, m.Status, m.Speaks, m.Name, m.URL, m.Key, m.Fallback})
	}
	return k.table("model status speaks name url key fallback", rows)
}

// howTested is how a model is tested.
type howTested struct{ longest, keep bool }

func (k *call) testModel(ctx context.Context, p *project.Project, s *secret.Store, name, dir string, how howTested) error {
	var out api.ModelTest
	if p != nil {
		m := p.Models[name]
		if m == nil {
			var have []string
			for n := range p.Models {
				have = append(have, n)
			}
			return &api.Problem{Detail: fmt.Sprintf("unknown model %q.%s", name, near.Hint(name, have)), Remedy: "`stonebaton models` lists them."}
		}
		out = app.TestModel(ctx, model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(s, nil)}, s, p, m, how.longest)
		if how.keep && out.Can != nil {
			shop, env := k.workshop(dir)
			defer shop.Close()
			edits, err := shop.KeepCan(env, name, *out.Can)
			if err != nil {
				return err
			}
			out.Kept = &edits[0]
		}
	} else {
		var err error
		if out, err = k.client().TestModel(ctx, name, how.longest, how.keep); err != nil {
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
	k.able(out)
	return nil
}

// able tells what a model was found able to do.
func (k *call) able(out api.ModelTest) {
	if out.Can == nil {
		return
	}
	say := func(v *bool, what string) {
		switch {
		case v == nil:
		case *v:
			k.print("  yes   %s\n", what)
		default:
			k.print("  no    %s\n", what)
		}
	}
	say(out.Can.Calls, "calls")
	say(out.Can.Several, "several calls at once")
	say(out.Can.Schema, "an answer in a schema")
	say(out.Can.Pictures, "pictures")
	say(out.Can.Streams, "its words one by one")
	if out.Can.Context > 0 {
		k.print("  %s tokens at least in one request\n", spaced(out.Can.Context))
	}
	if out.Kept != nil {
		k.print("Kept in %s:%d: %s\n", out.Kept.File, out.Kept.Line, out.Kept.Text)
	}
}
