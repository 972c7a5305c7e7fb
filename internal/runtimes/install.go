package runtimes

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"stonebaton.example/core/deed"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// Order says what is to be installed. Dir gets the packages themselves for python3, and a
// folder node_modules with them for node.
type Order struct {
	Interpreter string        // whole path
	Language    string        // python3 or node
	Registry    string        // address of a package index, or of a registry of modules; "" is that of the installer
	Packages    []string      // by name or as name@version
	Dir         string        // it has to be there
	Plan        bool          // say what would be installed, and install nothing
	Bare        bool          // outside the sandbox
	Within      time.Duration // the time that ctx leaves for it
	Log         io.Writer     // gets what the installer says while it runs; nil: nothing does
}

// Cache is the folder below an order's own that its installer keeps for itself. It may go afterwards.
const Cache = ".cache"

// diskMB bounds what an installation may write.
const diskMB = 1024

// maxOutput bounds what is kept of an installer's output.
const maxOutput = 1 << 20

// releases are what installers read of the system, to choose what fits it.
var releases = []string{"/etc/debian_version", "/etc/os-release", "/etc/lsb-release", "/etc/redhat-release"}

// network are the variables of the service that tell installers how to reach a registry, and
// defaults those that name one.
var (
	network  = []string{"http_proxy", "https_proxy", "no_proxy", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "SSL_CERT_FILE", "PIP_CERT", "NODE_EXTRA_CA_CERTS"}
	defaults = []string{"PIP_INDEX_URL", "npm_config_registry"}
)

// Install runs the package installer of a language, with the whole network, in the sandbox. No
// code of a package runs: pip takes wheels alone, and npm runs no scripts. It gives what the
// installer wrote on standard output: a report, as JSON, where only a plan was wanted.
func Install(ctx context.Context, o Order) ([]byte, *deed.Failure) {
	if m := sandbox.Missing(); m != "" && !o.Bare {
		return nil, deed.NotDone("config", "nothing was installed: %s", m)
	}
	silence := max(10*time.Second, o.Within/4) // npm counts a whole file
	args := []string{o.Interpreter}
	switch o.Language {
	case "python3":
		args = append(args, "-m", "pip", "install", "--disable-pip-version-check", "--no-cache-dir", "--no-input", "--progress-bar", "off", "--only-binary", ":all:", "--retries", "1", "--timeout", strconv.Itoa(int(silence.Seconds())),
			"--root-user-action", "ignore", "--ignore-installed", "--upgrade", "--target", o.Dir)
		if o.Registry != "" {
			args = append(args, "--index-url", o.Registry)
		}
		if o.Plan {
			args = append(args, "--quiet", "--dry-run", "--report", "-")
		}
	case "node":
		npm, err := filepath.EvalSymlinks(filepath.Join(filepath.Dir(o.Interpreter), "npm"))
		if err != nil {
			return nil, deed.NotDone("config", "there is no npm beside %s, with which libraries are installed", o.Interpreter)
		}
		args = append(args, npm, "install", "--json", "--loglevel", "http", "--ignore-scripts", "--no-audit", "--no-fund", "--no-update-notifier", "--fetch-retries", "1", "--fetch-timeout", strconv.FormatInt(silence.Milliseconds(), 10),
			"--cache", filepath.Join(o.Dir, Cache), "--prefix", o.Dir)
		if o.Registry != "" {
			args = append(args, "--registry", o.Registry)
		}
		if o.Plan {
			args = append(args, "--dry-run")
		}
	}
	args = append(args, "--")
	for _, name := range o.Packages {
		if at := strings.LastIndexByte(name, '@'); at > 0 && o.Language == "python3" {
			name = name[:at] + "==" + name[at+1:]
		}
		args = append(args, name)
	}
	env := []string{"PATH=" + os.Getenv("PATH"), "HOME=" + o.Dir, "TMPDIR=" + o.Dir, "LANG=C.UTF-8", "PIP_CONFIG_FILE=" + os.DevNull, "NO_COLOR=1"}
	for _, name := range slices.Concat(network, defaults) {
		if v := os.Getenv(name); v != "" {
			env = append(env, name+"="+v)
		}
	}
	var tell io.Writer
	if o.Language == "python3" && !o.Plan { // npm writes its report there
		tell = o.Log
	}
	d, err := sandbox.Run(ctx, sandbox.Spec{Args: args, Dir: o.Dir, Reads: slices.Concat([]string{o.Interpreter}, Reads(o.Interpreter), releases), Network: true, Bare: o.Bare, Output: maxOutput,
		Log: o.Log, Tell: tell, Memory: 1 << 30, Disk: diskMB << 20, Processes: 64, Env: env})
	what := strings.Join(o.Packages, ", ")
	switch {
	case err != nil:
		return nil, deed.NotDone("config", "the installer failed to start: %v", err)
	case d.Broke != "":
		return nil, deed.NotDone("bounds", "%s could not be installed: %s", what, d.Broke)
	case d.Late && ctx.Err() == context.Canceled:
		return nil, deed.NotDone("timeout", "%s was not installed: it was called off", what)
	case d.Late:
		return nil, deed.NotDone("timeout", "%s could not be installed within %s", what, o.Within)
	case d.Code != 0:
		return nil, deed.NotDone("refused", "%s could not be installed from %s: %s", what, cmp.Or(o.Registry, "the installer's own registry"), cmp.Or(WithoutCredentials(complaint(d.Stdout, d.Stderr)), fmt.Sprintf("it does not say why (exit code %d)", d.Code))+short(o.Dir))
	}
	return d.Stdout, nil
}

// unreached is what pip says of a registry that cannot be reached, among its warnings.
var unreached = regexp.MustCompile(`connection broken by '.*[:\]] (.+?)["']?\)?': /`)

// aside is what installers say beside what is wrong.
var aside = regexp.MustCompile(`^(WARNING|npm (http|warn|verbose)|A complete log)`)

// roomy is how much free space makes it unlikely that an installation failed for want of it.
const roomy = 64 << 20

// short says that little space is free; "" where there is enough.
func short(dir string) string {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return ""
	}
	if free := int64(st.Bavail) * int64(st.Bsize); free < roomy {
		return fmt.Sprintf("; only %d MB are free in %s", free>>20, dir)
	}
	return ""
}

var userinfo = regexp.MustCompile(`://[^/@\s]+@`)

// WithoutCredentials takes them out of the addresses in what an installer says: those of a
// registry may hold some where the environment names it.
func WithoutCredentials(text string) string { return userinfo.ReplaceAllString(text, "://") }

// complaint gives what an installer says is wrong: npm in its report, pip in lines.
func complaint(report, lines []byte) string {
	var said struct{ Error struct{ Summary string } }
	if json.Unmarshal(report[max(bytes.IndexByte(report, '{'), 0):], &said) == nil && said.Error.Summary != "" {
		return tools.Clip(said.Error.Summary, 500)
	}
	text := strings.ToValidUTF8(string(lines), "�")
	if m := unreached.FindStringSubmatch(text); m != nil {
		return "it cannot be reached: " + tools.Clip(m[1], 500)
	}
	var out []string
	for line := range strings.Lines(text) {
		line = strings.TrimPrefix(strings.TrimPrefix(strings.TrimSpace(line), "ERROR: "), "npm error ")
		if line != "" && !aside.MatchString(line) && !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	if len(out) > 0 && strings.HasPrefix(out[0], "Exception") { // of pip itself: the last line says which
		out = out[len(out)-1:]
	}
	return tools.Clip(strings.Join(out[:min(2, len(out))], "; "), 500) // what follows is advice
}
