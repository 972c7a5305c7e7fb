package program

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// installDiskMB bounds what the libraries of a session and a language take.
const installDiskMB = 1024

// releases are what installers read of the system, to choose what fits it.
var releases = []string{"/etc/debian_version", "/etc/os-release", "/etc/lsb-release", "/etc/redhat-release"}

// network are the variables of the service that tell installers how to reach a registry.
var network = []string{"http_proxy", "https_proxy", "no_proxy", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "SSL_CERT_FILE", "PIP_CERT", "NODE_EXTRA_CA_CERTS"}

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

// installer runs the package installer of the language in the sandbox. No code of a library
// runs: pip takes wheels alone, and npm runs no scripts.
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
	if m := sandbox.Missing(); m != "" {
		return fail("config", "nothing was installed: %s", m)
	}
	interpreter, dir := c.interpreter(c.spec, c.language), c.installed()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fail("config", "no folder could be made for libraries: %v", err)
	}
	args := []string{interpreter}
	switch c.language {
	case "python3":
		args = append(args, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-cache-dir", "--no-input", "--only-binary", ":all:", "--retries", "1", "--timeout", "10",
			"--root-user-action", "ignore", "--ignore-installed", "--upgrade", "--index-url", registry, "--target", dir)
		if plan {
			args = append(args, "--dry-run", "--report", "-")
		}
	case "node":
		npm, err := filepath.EvalSymlinks(filepath.Join(filepath.Dir(interpreter), "npm"))
		if err != nil {
			return fail("config", "there is no npm beside %s, with which libraries are installed", interpreter)
		}
		args = append(args, npm, "install", "--json", "--ignore-scripts", "--no-audit", "--no-fund", "--no-update-notifier", "--fetch-retries", "1", "--fetch-timeout", "10000",
			"--registry", registry, "--cache", filepath.Join(dir, ".cache"), "--prefix", dir)
		if plan {
			args = append(args, "--dry-run")
		}
	}
	args = append(args, "--")
	for _, w := range want {
		if at := strings.LastIndexByte(w, '@'); at > 0 && c.language == "python3" {
			w = w[:at] + "==" + w[at+1:]
		}
		args = append(args, w)
	}
	env := []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TMPDIR=" + dir, "LANG=C.UTF-8", "PIP_CONFIG_FILE=" + os.DevNull, "NO_COLOR=1"}
	for _, name := range network {
		if v := os.Getenv(name); v != "" {
			env = append(env, name+"="+v)
		}
	}
	d, err := sandbox.Run(ctx, sandbox.Spec{Args: args, Dir: dir, Reads: append([]string{interpreter}, releases...), Network: true, Output: maxOutput, Log: c.i.Logs(),
		Memory: 1 << 30, Disk: installDiskMB << 20, Processes: 64, Env: env})
	switch {
	case err != nil:
		return fail("config", "the installer failed to start: %v", err)
	case d.Broke != "":
		return fail("bounds", "%s could not be installed: %s", strings.Join(want, ", "), d.Broke)
	case d.Late:
		return fail("timeout", "%s could not be installed within %s", strings.Join(want, ", "), c.i.Tool.Timeout)
	case d.Code != 0:
		return fail("refused", "%s could not be installed from %s: %s", strings.Join(want, ", "), registry, complaint(cmp.Or(string(d.Stderr), string(d.Stdout))))
	}
	return d.Stdout, nil
}

// complaint gives the lines of an installer that say what is wrong.
func complaint(text string) string {
	var out []string
	for line := range strings.Lines(strings.ToValidUTF8(text, "�")) {
		line = strings.TrimSpace(line)
		line = strings.TrimPrefix(strings.TrimPrefix(line, "ERROR: "), "npm error ")
		if line != "" && !strings.HasPrefix(line, "WARNING") && !strings.HasPrefix(line, "npm warn") && !strings.HasPrefix(line, "A complete log") && !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	if len(out) > 0 && strings.HasPrefix(out[0], "Exception") { // of pip itself: the last line says which
		out = out[len(out)-1:]
	}
	return tools.Clip(strings.Join(out[:min(2, len(out))], "; "), 500) // what follows is advice
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
