package program

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/internal/runtimes"
)

// installed gives the folder with the libraries that were installed for the language in this
// session. It stands beside the session's folder, where programs read it and do not write.
func (c *call) installed() string { return filepath.Join(c.dir+".libraries", c.language) }

// list gives the file that names what is in it, as it was asked for.
func (c *call) list() string { return c.installed() + ".json" }

func (c *call) had() []string {
	var had []string
	if raw, err := os.ReadFile(c.list()); err == nil {
		_ = json.Unmarshal(raw, &had) // what cannot be read is installed again
	}
	return had
}

// wanted gives the libraries that the call names and the session does not have.
func (c *call) wanted() []string {
	args, _ := c.i.Args.(map[string]any)
	list, _ := args["libraries"].([]any)
	had := c.had()
	var out []string
	for _, l := range list {
		if s, _ := l.(string); s != "" && !slices.Contains(had, s) && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// planned says what an installation would bring, without bringing it.
func (c *call) planned(ctx context.Context, want []string) (string, *deed.Failure) {
	out, bad := c.installer(ctx, want, true)
	if bad != nil {
		return "", bad
	}
	var report struct {
		Install []struct { // as pip has it
			Metadata struct{ Name, Version string }
		}
		Add []struct{ Name, Version string } // as npm has it
	}
	if err := json.Unmarshal(out[max(bytes.IndexByte(out, '{'), 0):], &report); err != nil { // npm writes lines before it
		bad := deed.NotDone("config", "what would be installed could not be read: %v", err)
		return "", bad
	}
	for _, i := range report.Install {
		report.Add = append(report.Add, struct{ Name, Version string }{i.Metadata.Name, i.Metadata.Version})
	}
	var b strings.Builder
	fmt.Fprintf(&b, "to be installed for this session, from %s:\n", c.spec.Installs[c.language])
	for _, a := range report.Add {
		fmt.Fprintf(&b, "+%s %s\n", a.Name, a.Version)
	}
	return b.String(), nil
}

// install installs what a call wants and the session does not have.
func (c *call) install(ctx context.Context) *deed.Failure {
	want := c.wanted()
	if len(want) == 0 {
		return nil
	}
	gate, _ := c.i.Vars["gate"].(map[string]any)
	if by, _ := gate["by"].(string); by == "" && !c.i.Bench { // at the bench a person runs it
		bad := deed.NotDone("refused", "libraries are installed only where somebody agreed to the very call, and this gate asked nobody. Run it without libraries")
		return bad
	}
	if _, bad := c.installer(ctx, want, false); bad != nil {
		return bad
	}
	raw, err := json.Marshal(append(c.had(), want...))
	if err == nil {
		err = os.WriteFile(c.list(), raw, 0o600)
	}
	if err != nil {
		bad := deed.NotDone("config", "what was installed could not be noted: %v", err)
		return bad
	}
	return nil
}

// installer installs libraries for the session, or plans it.
func (c *call) installer(ctx context.Context, want []string, plan bool) ([]byte, *deed.Failure) {
	fail := func(class deed.Class, format string, args ...any) ([]byte, *deed.Failure) {
		bad := deed.NotDone(class, format, args...)
		return nil, bad
	}
	registry := c.spec.Installs[c.language]
	if registry == "" {
		return fail("refused", "no libraries are installed for %s: the tool's file names no registry for it under installs", c.language)
	}
	if c.offline {
		return fail("config", "nothing is installed in a rehearsal, which is offline; give %s a stub", c.i.Tool.Name)
	}
	dir := c.installed()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fail("config", "no folder could be made for libraries: %v", err)
	}
	return runtimes.Install(ctx, runtimes.Order{Interpreter: c.interpreter(c.spec, c.language), Language: c.language, Registry: registry, Packages: want, Dir: dir, Plan: plan, Within: c.i.Tool.Timeout, Log: c.i.Logs()})
}

var lacking = map[string]*regexp.Regexp{
	"python3": regexp.MustCompile(`ModuleNotFoundError: No module named '([A-Za-z0-9_]+)`),
	"node":    regexp.MustCompile(`Cannot find (?:module|package) '((?:@[a-z0-9._-]+/)?[A-Za-z0-9_-]+)`),
}

// lacks gives the library that a program did not find; "" where it said nothing of one.
func lacks(language, errors string) string {
	if re := lacking[language]; re != nil {
		if m := re.FindStringSubmatch(errors); m != nil {
			return m[1]
		}
	}
	return ""
}
