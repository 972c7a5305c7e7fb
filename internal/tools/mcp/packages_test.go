package mcp_test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/runtimes"
	"stonebaton.example/internal/tools/mcp"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

// shelf is a registry that counts what it is asked for, and the servers of a project beside it.
type shelf struct {
	t    *testing.T
	url  string
	dir  string // of the packages
	hold chan struct{}

	mu    sync.Mutex
	asked map[string]int
	told  []string
}

func stock(t *testing.T, packs ...tooltest.Pack) *shelf {
	t.Helper()
	s := &shelf{t: t, dir: t.TempDir(), asked: map[string]int{}}
	s.url = tooltest.Registry(t, func(path string) {
		s.mu.Lock()
		s.asked[path]++
		hold := s.hold
		s.mu.Unlock()
		if hold != nil {
			<-hold
		}
	}, packs...)
	return s
}

// held keeps the registry from answering until it is released.
func (s *shelf) held() (release func()) {
	hold := make(chan struct{})
	s.hold = hold
	release = sync.OnceFunc(func() { close(hold) })
	s.t.Cleanup(release)
	return release
}

func (s *shelf) requests() (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.asked {
		n += k
	}
	return n
}

func (s *shelf) lines() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(s.told, "\n")
}

func (s *shelf) servers() *mcp.Servers {
	servers := mcp.New(mcp.Config{Dir: s.t.TempDir(), Packages: s.dir, Client: web.New(&tooltest.Secrets{}), Tell: func(source, line string) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.told = append(s.told, source+": "+line)
	}})
	s.t.Cleanup(func() { servers.Close() })
	return servers
}

// source reads a source of the registry's package; more stands beside package:.
func (s *shelf) source(pack, more string) (*project.SourceDoc, project.Source) {
	s.t.Helper()
	registry := s.url
	if strings.HasPrefix(pack, "python3") {
		registry += "/simple"
	}
	src := project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": fmt.Sprintf("source: almanac\nmcp: {package: {%s, registry: %q}%s}\ntake: [sunrise, reach]\neffects: {sunrise: read, reach: read}\n", pack, registry, more)}, Env: map[string]string{}}
	list := app.Reader.Sources(src)
	require.Len(s.t, list, 1)
	return list[0], src
}

// compiled makes a project of a source and what it offers.
func compiled(t *testing.T, src project.Source, cat project.Catalogue) *project.Project {
	t.Helper()
	src.Catalogues = map[string]project.Catalogue{"almanac": cat}
	p, probs := app.Reader.Compile(src)
	require.NotNil(t, p, "%v", probs)
	return p
}

func installer(t *testing.T, language string) {
	t.Helper()
	line := map[string]string{"python3": " -m pip --version", "node": "/../npm --version"}[language]
	if out, err := exec.Command("sh", "-c", runtimes.Find(language)+line).CombinedOutput(); err != nil && language == "python3" {
		t.Skipf("no installer for %s here: %s", language, out)
	}
}

func TestAToolServerComesInAPackage(t *testing.T) {
	for _, language := range []string{"node", "python3"} {
		t.Run(language, func(t *testing.T) {
			installer(t, language)
			at := stock(t, tooltest.Almanac())
			servers := at.servers()
			doc, src := at.source(language+`: "quay-almanac@1.2.0"`, `, command: [quay-almanac, "--from", kelmere]`)
			cat, err := servers.Catalogue(t.Context(), doc)
			require.NoError(t, err, "%s", at.lines())
			assert.Equal(t, "quay-almanac 1.2.0 (Model Context Protocol 2025-06-18)", cat.From)
			require.Len(t, cat.Tools, 2)
			lines := strings.Split(at.lines(), "\n")
			assert.Equal(t, "almanac: installing quay-almanac@1.2.0 from "+doc.Package.Registry, lines[0])
			assert.Regexp(t, `^almanac: installed quay-almanac@1\.2\.0 in `, lines[len(lines)-1])

			p := compiled(t, src, cat)
			r, bad := tooltest.Call(t, servers, p, "sunrise", map[string]any{"day": "2026-05-08"})
			require.Nil(t, bad, "%+v", bad)
			assert.Equal(t, map[string]any{"day": "2026-05-08", "rises": "05:12", "args": []any{"--from", "kelmere"}}, r.Value)

			registry, err := url.Parse(at.url)
			require.NoError(t, err)
			port := map[string]any{"port": registry.Port()}
			r, bad = tooltest.Call(t, servers, p, "reach", port)
			require.Nil(t, bad, "%+v", bad)
			assert.Equal(t, false, r.Value.(map[string]any)["reached"], "the network was for installing: %v", r.Value)
			_ = filepath.WalkDir(at.dir, func(path string, _ os.DirEntry, _ error) error {
				assert.NotEqual(t, "ran.txt", filepath.Base(path), "no script of a package runs")
				assert.NotEqual(t, runtimes.Cache, filepath.Base(path), "what the installer keeps for itself goes")
				return nil
			})

			asked := at.requests()
			again := at.servers()
			doc, src = at.source(language+`: "quay-almanac@1.2.0"`, `, command: [tides], network: true`)
			cat, err = again.Catalogue(t.Context(), doc)
			require.NoError(t, err)
			assert.Equal(t, asked, at.requests(), "it is installed once for the project")
			r, bad = tooltest.Call(t, again, compiled(t, src, cat), "reach", port)
			require.Nil(t, bad, "%+v", bad)
			assert.Equal(t, true, r.Value.(map[string]any)["reached"], "the file grants the network")
		})
	}
}

func TestAnInstallationIsToldAndOutlastsWhoAsked(t *testing.T) {
	at := stock(t, tooltest.Almanac())
	release := at.held()
	servers := at.servers()
	doc, src := at.source(`node: "quay-almanac@1.2.0"`, "")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	assert.Nil(t, servers.Installing(doc))
	on, err := servers.Prepare(gone, doc)
	require.NoError(t, err)
	require.NotNil(t, on)
	assert.Equal(t, "quay-almanac@1.2.0", on.Package)
	assert.Regexp(t, `^the package quay-almanac@1\.2\.0 is still being installed, since \d\d:\d\d:\d\d$`, on.Say())
	require.NotNil(t, servers.Installing(doc))
	assert.Equal(t, on.Since, servers.Installing(doc).Since, "it goes on")

	p := compiled(t, src, project.Catalogue{Tools: []project.Offer{{Name: "sunrise", Tool: "sunrise", Summary: "Tells.", Input: map[string]any{"type": "object"}}, {Name: "reach", Tool: "reach", Summary: "Reaches.", Input: map[string]any{"type": "object"}}}})
	p.Tools["sunrise"].Timeout = time.Nanosecond
	_, bad := tooltest.Call(t, servers, p, "sunrise", nil)
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome, "a call meanwhile has done nothing, and may be made again")
	assert.True(t, bad.Retry)
	assert.Contains(t, bad.Say, "the tool server almanac: the package quay-almanac@1.2.0 is still being installed")

	release()
	on, err = servers.Prepare(t.Context(), doc)
	require.NoError(t, err)
	assert.Nil(t, on)
	assert.Nil(t, servers.Installing(doc))
}

func TestTwoThatOpenAProjectInstallOnce(t *testing.T) {
	at := stock(t, tooltest.Almanac())
	release := at.held()
	one, two := at.servers(), at.servers()
	doc, _ := at.source(`node: "quay-almanac@1.2.0"`, "")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	for _, s := range []*mcp.Servers{one, two} {
		on, err := s.Prepare(gone, doc)
		require.NoError(t, err)
		require.NotNil(t, on)
	}
	require.Eventually(t, func() bool {
		a, b := one.Installing(doc), two.Installing(doc)
		return a != nil && b != nil && (a.Line == "another program installs it") != (b.Line == "another program installs it")
	}, 20*time.Second, time.Millisecond, "the one that waits says for what")
	release()
	for _, s := range []*mcp.Servers{one, two} {
		on, err := s.Prepare(t.Context(), doc)
		require.NoError(t, err)
		require.Nil(t, on)
	}
	at.mu.Lock()
	defer at.mu.Unlock()
	assert.Equal(t, 1, at.asked["/files/quay-almanac.tgz"])
}

func TestAnInstallationThatFailsIsToldAndTriedAgain(t *testing.T) {
	at := stock(t, tooltest.Almanac())
	for pack, say := range map[string]string{
		`node: "quay-almanac@9.9.9"`:    "No matching version found for quay-almanac@9.9.9",
		`node: "nosuch@1.0.0"`:          "Not Found",
		`python3: "quay-almanac@9.9.9"`: "from versions: 1.2.0",
	} {
		language, _, _ := strings.Cut(pack, ":")
		t.Run(pack, func(t *testing.T) {
			installer(t, language)
			servers := at.servers()
			doc, _ := at.source(pack, "")
			_, err := servers.Catalogue(t.Context(), doc)
			require.ErrorContains(t, err, "the tool server almanac: "+doc.Package.Name+" could not be installed from "+doc.Package.Registry+": ")
			require.ErrorContains(t, err, say)
			asked := at.requests()
			_, err = servers.Catalogue(t.Context(), doc)
			require.ErrorContains(t, err, say)
			assert.Equal(t, asked, at.requests(), "who asks how far it is, again and again, learns of it")
			assert.Nil(t, servers.Installing(doc))
			servers.Later(time.Minute)
			_, err = servers.Catalogue(t.Context(), doc)
			require.ErrorContains(t, err, say)
			assert.Greater(t, at.requests(), asked)
			left, err := filepath.Glob(filepath.Join(at.dir, "almanac", "*"))
			require.NoError(t, err)
			assert.Equal(t, []string{filepath.Join(at.dir, "almanac", "lock")}, left, "nothing of it stays")
		})
	}
	servers := at.servers()
	nobody, _ := at.source(`node: "quay-almanac@1.2.0"`, "")
	nobody.Package.Registry = "http://127.0.0.1:1"
	_, err := servers.Catalogue(t.Context(), nobody)
	require.ErrorContains(t, err, "ECONNREFUSED")
	installer(t, "python3")
	nobody.Package.Language = "python3"
	_, err = servers.Catalogue(t.Context(), nobody)
	require.ErrorContains(t, err, "from http://127.0.0.1:1: it cannot be reached: Connection refused")
}

func TestWhatWasBrokenOffOrReplacedGoes(t *testing.T) {
	names := []string{"quay-almanac", "a-almanac", "b-almanac", "c-almanac"}
	var packs []tooltest.Pack
	for _, n := range names {
		p := tooltest.Almanac()
		p.Name = n
		packs = append(packs, p)
	}
	at := stock(t, packs...)
	folder := filepath.Join(at.dir, "almanac")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "new-123", "node_modules"), 0o700))
	release := at.held()
	killed := at.servers()
	doc, _ := at.source(`node: "quay-almanac@1.2.0"`, "")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	on, err := killed.Prepare(gone, doc)
	require.NoError(t, err)
	require.NotNil(t, on)
	require.NoError(t, killed.Close(), "it does not wait for the registry")
	_, err = killed.Prepare(t.Context(), doc)
	require.ErrorContains(t, err, "nothing is installed any more")
	release()

	servers := at.servers()
	use := func(pack string, later int) {
		servers.Later(time.Duration(later) * time.Hour)
		doc, _ := at.source(fmt.Sprintf("node: %q", pack+"@1.2.0"), ", command: [tides]")
		_, err := servers.Catalogue(t.Context(), doc)
		require.NoError(t, err)
	}
	have := func() (found []string) {
		for _, n := range names {
			if list, _ := filepath.Glob(filepath.Join(folder, "*", "node_modules", n)); len(list) == 1 {
				found = append(found, n)
			}
		}
		return found
	}
	use(names[0], 1)
	assert.NoDirExists(t, filepath.Join(folder, "new-123"))
	use(names[1], 2)
	use(names[2], 3)
	assert.Equal(t, names[:3], have(), "runs that began before still need theirs")
	use(names[0], 4)
	use(names[3], 5)
	assert.Equal(t, []string{names[0], names[2], names[3]}, have(), "the one that was not used for longest goes")
}

func TestProgramsOfAPackage(t *testing.T) {
	none, one, unlike := tooltest.Almanac(), tooltest.Almanac(), tooltest.Almanac()
	none.Name, none.Bin, none.Scripts = "no-almanac", nil, nil
	one.Name, one.Bin, one.Scripts = "one-almanac", map[string]string{"sun": "cli.js"}, map[string]string{"sun": "quay_almanac:main"}
	unlike.Name = "kelmere"
	at := stock(t, tooltest.Almanac(), none, one, unlike)
	servers := at.servers()
	for _, language := range []string{"node", "python3"} {
		t.Run(language, func(t *testing.T) {
			installer(t, language)
			ask := func(pack, more string) error {
				doc, _ := at.source(fmt.Sprintf("%s: %q", language, pack), more)
				_, err := servers.Catalogue(t.Context(), doc)
				return err
			}
			require.NoError(t, ask("quay-almanac@1.2.0", ""), "the program that is named as the package")
			require.NoError(t, ask("one-almanac@1.2.0", ""), "its only one")
			require.ErrorContains(t, ask("no-almanac@1.2.0", ""), "the package no-almanac@1.2.0 has no program to start")
			require.ErrorContains(t, ask("kelmere@1.2.0", ""), "the package kelmere@1.2.0 has the programs quay-almanac, tides; name one of them under command")
			require.ErrorContains(t, ask("kelmere@1.2.0", ", command: [tydes]"), `the package kelmere@1.2.0 has no program "tydes"; it has quay-almanac, tides. Did you mean`)
			require.ErrorContains(t, ask("kelmere@1.2.0", ", command: [../../../../bin/sh]"), "has no program")
		})
	}
}
