package tooltest

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Pack is a package of a registry: files of a module for node, or of a wheel for Python.
type Pack struct {
	Name, Version string
	Module        map[string]string // package.json gets name and version
	Bin           map[string]string // programs of the module, with their files
	Wheel         map[string]string
	Scripts       map[string]string // programs of the wheel, as module:function
}

// Registry is a stand-in for a registry of modules, and at /simple for a package index. Before,
// which may be nil, is called before each answer.
func Registry(t testing.TB, before func(path string), packs ...Pack) (url string) {
	t.Helper()
	files := map[string][]byte{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if before != nil {
			before(r.URL.Path)
		}
		body, ok := files[strings.TrimSuffix(r.URL.Path, "/")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		if strings.HasPrefix(r.URL.Path, "/simple/") {
			w.Header().Set("Content-Type", "text/html")
		}
		_, _ = w.Write(body)
	}))
	t.Cleanup(s.Close)
	for _, p := range packs {
		if p.Module != nil {
			tgz := module(t, p)
			sum := sha512.Sum512(tgz)
			files["/files/"+p.Name+".tgz"] = tgz
			about, err := json.Marshal(map[string]any{"name": p.Name, "dist-tags": map[string]any{"latest": p.Version}, "versions": map[string]any{p.Version: map[string]any{
				"name": p.Name, "version": p.Version, "bin": p.Bin, "hasInstallScript": true, "dist": map[string]any{"tarball": s.URL + "/files/" + p.Name + ".tgz", "integrity": "sha512-" + base64.StdEncoding.EncodeToString(sum[:])}}}})
			require.NoError(t, err)
			files["/"+p.Name] = about
		}
		if p.Wheel != nil {
			name := strings.ReplaceAll(p.Name, "-", "_") + "-" + p.Version + "-py3-none-any.whl"
			files["/files/"+name] = wheel(t, p)
			files["/simple/"+p.Name] = fmt.Appendf(nil, `<!DOCTYPE html><a href="/files/%s">%[1]s</a>`, name)
		}
	}
	return s.URL
}

func module(t testing.TB, p Pack) []byte {
	t.Helper()
	var out bytes.Buffer
	g := gzip.NewWriter(&out)
	a := tar.NewWriter(g)
	about, err := json.Marshal(map[string]any{"name": p.Name, "version": p.Version, "bin": p.Bin, "main": "index.js", "scripts": map[string]any{"install": "echo ran > ran.txt"}})
	require.NoError(t, err)
	all := maps.Clone(p.Module)
	all["package.json"] = string(about)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		require.NoError(t, a.WriteHeader(&tar.Header{Name: "package/" + name, Mode: 0o644, Size: int64(len(all[name])), Typeflag: tar.TypeReg}))
		_, err := a.Write([]byte(all[name]))
		require.NoError(t, err)
	}
	require.NoError(t, a.Close())
	require.NoError(t, g.Close())
	return out.Bytes()
}

func wheel(t testing.TB, p Pack) []byte {
	t.Helper()
	all := maps.Clone(p.Wheel)
	info := strings.ReplaceAll(p.Name, "-", "_") + "-" + p.Version + ".dist-info/"
	all[info+"METADATA"] = "Metadata-Version: 2.1\nName: " + p.Name + "\nVersion: " + p.Version + "\n"
	all[info+"WHEEL"] = "Wheel-Version: 1.0\nGenerator: harbour\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
	if len(p.Scripts) > 0 {
		text := "[console_scripts]\n"
		for _, name := range slices.Sorted(maps.Keys(p.Scripts)) {
			text += name + " = " + p.Scripts[name] + "\n"
		}
		all[info+"entry_points.txt"] = text
	}
	record := info + "RECORD,,\n"
	for _, name := range slices.Sorted(maps.Keys(all)) {
		record += name + ",,\n"
	}
	all[info+"RECORD"] = record
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(all[name]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}
