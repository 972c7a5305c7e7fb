package cli

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"golang.org/x/term"

	"stonebaton.example/api"
	"stonebaton.example/core/right"
)

// tokenFile is where commands keep the tokens of those who signed in, by the service's URL.
func tokenFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "stonebaton", "tokens.json"), nil
}

func readTokens() map[string]string {
	out := map[string]string{}
	file, err := tokenFile()
	if err != nil {
		return out
	}
	raw, err := os.ReadFile(file)
	if err == nil {
		_ = json.Unmarshal(raw, &out) // what cannot be read holds no token
	}
	return out
}

func keepToken(url, token string) error {
	file, err := tokenFile()
	if err != nil {
		return err
	}
	all := readTokens()
	if all[url] = token; token == "" {
		delete(all, url)
	}
	raw, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return renameio.WriteFile(file, raw, 0o600)
}

var signInCommand = command{
	name: "sign-in", most: 0, does: "say who you are, with your token, for the commands after it", example: "stonebaton sign-in\nSTONEBATON_TOKEN=mara.… stonebaton tickets",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		return func(ctx context.Context, _ []string) error {
			token, err := k.secret("Token: ")
			if err != nil {
				return err
			}
			if token == "" {
				return errors.New("no token was given; `stonebaton person token NAME`, on the machine of the service, gives a new one")
			}
			c := k.client()
			c.Token = token
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			if err := keepToken(c.URL(), token); err != nil {
				return err
			}
			k.print("You are %s at %s, with the rights %s.\n", me.Name, c.URL(), rightsOf(me))
			return nil
		}
	},
}

// secret reads a line that is not shown.
func (k *call) secret(prompt string) (string, error) {
	if f, ok := k.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		k.note("%s", prompt)
		raw, err := term.ReadPassword(int(f.Fd()))
		k.note("\n")
		return strings.TrimSpace(string(raw)), err
	}
	line, err := bufio.NewReader(k.In).ReadString('\n')
	if err != nil && line == "" {
		return "", nil
	}
	return strings.TrimSpace(line), nil
}

func rightsOf(me api.Me) string {
	s := right.Words(me.Rights, ", ")
	if len(me.Is) > 0 {
		s += ", as " + strings.Join(me.Is, ", ")
	}
	return s
}

var signOutCommand = command{
	name: "sign-out", most: 0, does: "forget your token, and with -everywhere let all your browsers out", example: "stonebaton sign-out -everywhere",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		everywhere := fs.Bool("everywhere", false, "in all browsers in which you signed in")
		return func(ctx context.Context, _ []string) error {
			c := k.client()
			if *everywhere {
				if err := c.SignOut(ctx, true); err != nil {
					return err
				}
			}
			if err := keepToken(c.URL(), ""); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			k.print("Nobody is signed in at %s from here.\n", c.URL())
			return nil
		}
	},
}

var recordCommand = command{
	name: "record", most: 0, does: "tell who did what, the newest first; nothing in it is ever changed", example: "stonebaton record\nstonebaton record -person mara -limit 20\nstonebaton record -csv > record.csv",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		person := fs.String("person", "", "only what this `person` did")
		asCSV := fs.Bool("csv", false, "print all of it as CSV, the oldest last")
		page := paging(fs, 100)
		return func(ctx context.Context, _ []string) error {
			q := page(url.Values{"person": {*person}})
			if *asCSV {
				return k.recordCSV(ctx, q)
			}
			out, err := k.client().Record(ctx, q)
			if err != nil {
				return err
			}
			if k.json {
				k.more(out.Next)
				return k.printJSON(out.Entries)
			}
			if len(out.Entries) == 0 {
				k.print("Nobody has done anything yet.\n")
			}
			for _, e := range out.Entries {
				line := fmt.Sprintf("%s  %-10s %-16s %s", e.At.Local().Format("2 Jan 15:04:05"), e.Person, e.Did, e.About)
				if e.Detail != "" {
					line += ": " + e.Detail
				}
				if e.Via != e.Person {
					line += " (" + e.Via + ")"
				}
				k.print("%s\n", line)
			}
			k.more(out.Next)
			return nil
		}
	},
}

// recordCSV prints every page.
func (k *call) recordCSV(ctx context.Context, q url.Values) error {
	w := csv.NewWriter(k.Out)
	if err := w.Write([]string{"n", "at", "person", "via", "did", "about", "detail"}); err != nil {
		return err
	}
	q.Set("limit", "1000")
	for {
		out, err := k.client().Record(ctx, q)
		if err != nil {
			return err
		}
		for _, e := range out.Entries {
			row := []string{fmt.Sprint(e.N), e.At.UTC().Format(time.RFC3339Nano), e.Person, e.Via, e.Did, e.About, e.Detail}
			for i := range row {
				row[i] = cell(row[i])
			}
			if err := w.Write(row); err != nil {
				return err
			}
		}
		if out.Next == "" {
			w.Flush()
			return w.Error()
		}
		q.Set("cursor", out.Next)
	}
}

// cell makes a text harmless for a spreadsheet, which takes some beginnings for a formula.
func cell(s string) string {
	s = shown(s)
	if s != "" && strings.ContainsRune("=+-@\t", rune(s[0])) {
		return "'" + s
	}
	return s
}

var shareCommand = command{
	name: "share", args: "SESSION", most: 1, does: "let others read a session of yours, and go on in it", example: "stonebaton share k7mf2 -with jonas",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		with := fs.String("with", "", "the `people`, with commas")
		without := fs.String("without", "", "`people` who may no more")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which session?")
			}
			if *with == "" && *without == "" {
				return use("say with whom: -with NAME")
			}
			s, err := k.client().Share(ctx, args[0], api.Share{With: split(*with), Without: split(*without)})
			if err != nil {
				return err
			}
			if len(s.Shared) == 0 {
				k.print("Session %s is %s's alone.\n", s.ID, s.Person)
				return nil
			}
			k.print("Session %s is %s's, shared with %s.\n", s.ID, s.Person, strings.Join(s.Shared, ", "))
			return nil
		}
	},
}
