package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/right"
	"stonebaton.example/internal/people"
)

var personCommand = command{
	name: "person", args: "add|set|list|token|revoke [NAME]", most: 2, does: "say who may use the service, in the file of its records",
	example: "stonebaton person add mara -rights talk,view,build,approve,admin -is harbourmaster\nstonebaton person list\nstonebaton person token mara\nstonebaton person revoke mara",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		dir := fs.String("dir", ".", "the project's `folder`")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project by default")
		rights := fs.String("rights", "", "the `rights`, with commas: talk, view, build, approve, admin")
		is := fs.String("is", "", "the `approvers` that they are, with commas")
		address := fs.String("address", "", "the `address` to which notices go")
		through := fs.String("through", "", "the `applications` that may ask for them, with commas")
		key := fs.String("key", "", "of an application that says for whom it asks: the `file` of its public key, Ed25519 in PEM form")
		return func(_ context.Context, args []string) error {
			verbs := []string{"add", "set", "list", "token", "revoke"}
			if len(args) == 0 {
				return use("say what to do: %s", strings.Join(verbs, ", "))
			}
			where := *data
			if where == "" {
				if _, err := os.Stat(filepath.Join(*dir, project.Main)); err != nil {
					return fmt.Errorf("%s has no %s, so it is not a project. Name its folder with -dir, or that of the records with -data", *dir, project.Main)
				}
				where = filepath.Join(*dir, ".stonebaton")
			}
			book := people.Open(where)
			if args[0] == "list" {
				return k.listPeople(book)
			}
			if len(args) < 2 {
				return use("name the person")
			}
			name := args[1]
			given := map[string]bool{}
			k.flags.Visit(func(f *flag.Flag) { given[f.Name] = true })
			fill := func(p *people.Person) {
				if given["rights"] {
					p.Rights = nil
					for _, r := range split(*rights) {
						p.Rights = append(p.Rights, right.Right(r))
					}
				}
				if given["is"] {
					p.Is = split(*is)
				}
				if given["through"] {
					p.Through = split(*through)
				}
				if given["address"] {
					p.Address = *address
				}
			}
			switch args[0] {
			case "add":
				none, err := book.None()
				if err != nil {
					return err
				}
				p := people.Person{Name: name}
				if fill(&p); !given["rights"] {
					return use("say with -rights what %s may do: talk, view, build, approve, admin", name)
				}
				if *key != "" {
					raw, err := os.ReadFile(*key)
					if err != nil {
						return fmt.Errorf("the public key cannot be read: %w", err)
					}
					p.Key = string(raw)
				}
				token, err := book.Add(p, time.Now())
				if err != nil {
					return err
				}
				if none {
					k.note("From now on everybody has to say who they are, with a token.\n")
				}
				return k.printToken(name, token)
			case "set":
				return book.Set(name, fill)
			case "token":
				token, err := book.Renew(name)
				if err != nil {
					return err
				}
				return k.printToken(name, token)
			case "revoke":
				if err := book.Remove(name); err != nil {
					return err
				}
				if none, err := book.None(); err == nil && none {
					k.note("There is nobody left: on loopback nobody has to sign in any more; beyond it, nobody can.\n")
				}
				k.note("%s is out, also where they have signed in.\n", name)
				return nil
			}
			return use("there is no %q.%s", args[0], near.Hint(args[0], verbs))
		}
	},
}

func split(list string) []string {
	var out []string
	for _, s := range strings.Split(list, ",") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

func (k *call) printToken(name, token string) error {
	if k.json {
		return k.printJSON(map[string]string{"name": name, "token": token})
	}
	if token == "" {
		k.note("%s may say for whom it asks, in tokens that it signs with its key.\n", name)
		return nil
	}
	k.note("The token of %s, which is not kept and cannot be shown again:\n", name)
	k.print("%s\n", token)
	k.note("They sign in with it in the console, or with `stonebaton sign-in`.\n")
	return nil
}

func (k *call) listPeople(book *people.Book) error {
	list, err := book.List()
	if err != nil {
		return err
	}
	if k.json {
		type row struct {
			Name    string        `json:"name"`
			Rights  []right.Right `json:"rights"`
			Is      []string      `json:"is,omitempty"`
			Address string        `json:"address,omitempty"`
			Vouches bool          `json:"vouches,omitempty"`
			Through []string      `json:"through,omitempty"`
			Since   time.Time     `json:"since"`
		}
		out := []row{}
		for _, p := range list {
			out = append(out, row{p.Name, p.Rights, p.Is, p.Address, p.Key != "", p.Through, p.Since})
		}
		return k.printJSON(out)
	}
	if len(list) == 0 {
		k.print("There is nobody: on loopback nobody has to sign in, and beyond it the service does not start.\n")
		return nil
	}
	for _, p := range list {
		line := right.Words(p.Rights, ", ")
		if len(p.Is) > 0 {
			line += "; is " + strings.Join(p.Is, ", ")
		}
		if p.Key != "" {
			line += "; an application that says for whom it asks"
		}
		if len(p.Through) > 0 {
			line += "; also through " + strings.Join(p.Through, ", ")
		}
		if p.Address != "" {
			line += "; " + p.Address
		}
		k.print("%-12s %s\n", p.Name, line)
	}
	return nil
}
