package http

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"mime"
	"mime/multipart"
	"net/textproto"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/near"
	"stonebaton.example/internal/tools"
)

// maxFile bounds a file that is sent.
const maxFile = 32 << 20

// files finds the files that the arguments of a call name: those that came with earlier
// results, and those of the project that its source may send.
func (h *Handler) files(ctx context.Context, i deed.Invocation) (map[string][]deed.File, error) {
	if i.Tool.Remote == nil || i.Tool.Remote.Operation == nil || len(i.Tool.Remote.Operation.Files) == 0 {
		return nil, nil
	}
	op := i.Tool.Remote.Operation
	args, _ := i.Args.(map[string]any)
	if body, ok := args[op.Arg].(map[string]any); ok {
		args = body // whose fields they are
	}
	out := map[string][]deed.File{}
	for _, arg := range op.Files {
		names, many := args[arg].([]any)
		if one, ok := args[arg]; ok && !many {
			names = []any{one}
		}
		for _, n := range names {
			f, err := h.file(ctx, i, n)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", arg, err)
			}
			out[arg] = append(out[arg], f)
		}
	}
	return out, nil
}

func (h *Handler) file(ctx context.Context, i deed.Invocation, named any) (deed.File, error) {
	name, ok := named.(string)
	if !ok { // a handle named a whole result, which stands here now
		body, err := json.Marshal(named)
		return deed.File{Name: "result.json", Type: "application/json", Body: body}, err
	}
	var have []string
	if i.Made != nil {
		list, err := i.Made(ctx)
		if err != nil {
			return deed.File{}, err
		}
		for _, f := range list {
			if f.Path == name && i.File != nil {
				body, err := i.File(f.Hash)
				return deed.File{Name: path.Base(f.Path), Type: f.Type, Body: body}, err
			}
			if !slices.Contains(have, f.Path) {
				have = append(have, f.Path)
			}
		}
	}
	f, found, err := h.ofProject(i.Tool.Remote.Source.Bounds.Reads, name)
	switch {
	case err != nil || found:
		return f, err
	case strings.ContainsAny(name, "\n\r") || len(name) > 300: // the text of a whole result
		return deed.File{Name: "result.txt", Type: "text/plain; charset=utf-8", Body: []byte(name)}, nil
	case len(have) == 0:
		return f, fmt.Errorf("there is no file %q, and none came with an earlier result", tools.Clip(name, 100))
	}
	return f, fmt.Errorf("there is no file %q.%s What came with earlier results: %s", tools.Clip(name, 100), near.Hint(name, have), near.List(have))
}

// ofProject gives a file of the project that a source may send.
func (h *Handler) ofProject(reads []string, name string) (f deed.File, found bool, err error) {
	if len(reads) == 0 || !fs.ValidPath(name) {
		return f, false, nil
	}
	root, err := os.OpenRoot(h.dir) // no link leads out of it
	if err != nil {
		return f, false, err
	}
	defer root.Close()
	inside := slices.ContainsFunc(reads, func(r string) bool {
		rel, err := filepath.Rel(r, name)
		return err == nil && filepath.IsLocal(rel)
	})
	hidden := slices.ContainsFunc(strings.Split(name, "/"), func(p string) bool { return strings.HasPrefix(p, ".") })
	info, err := root.Stat(name)
	if !inside || hidden || err != nil || !info.Mode().IsRegular() {
		return f, false, nil
	}
	if info.Size() > maxFile {
		return f, false, fmt.Errorf("%s has %d MB; %d can be sent", name, info.Size()>>20, maxFile>>20)
	}
	body, err := root.ReadFile(name)
	return deed.File{Name: path.Base(name), Type: cmp.Or(mime.TypeByExtension(path.Ext(name)), tools.TypeOf("", body)), Body: body}, true, err
}

// named gives a body its boundary, which is the same at every attempt, or the type of its file.
func (d *draft) named(i deed.Invocation) {
	if d.operation == nil {
		return
	}
	if files := d.files[d.operation.Arg]; len(files) > 0 && (d.kind == "*/*" || strings.HasSuffix(d.kind, "/*")) {
		d.kind = files[0].Type
	}
	if d.kind == "multipart/form-data" {
		sum := sha256.Sum256([]byte(i.Key))
		d.kind = mime.FormatMediaType(d.kind, map[string]string{"boundary": "part-" + hex.EncodeToString(sum[:16])})
	}
}

// content gives what is sent of a file, or what is shown in its place.
func (d *draft) content(f deed.File) []byte {
	if d.brief {
		return fmt.Appendf(nil, "(the file %s, %s, %d bytes)", f.Name, f.Type, len(f.Body))
	}
	return f.Body
}

// parts writes a body of multipart/form-data (RFC 7578): files as they are, texts as texts,
// and what has parts as JSON, unless the document says otherwise.
func (d *draft) parts(fields map[string]any, boundary string) ([]byte, error) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	if err := w.SetBoundary(boundary); err != nil {
		return nil, err
	}
	part := func(name, file, kind string, body []byte) error {
		how := multipart.FileContentDisposition(name, file)
		if file == "" {
			how, _, _ = strings.Cut(how, "; filename=")
		}
		head := textproto.MIMEHeader{"Content-Disposition": {how}}
		if kind != "" {
			head.Set("Content-Type", kind)
		}
		p, err := w.CreatePart(head)
		if err == nil {
			_, err = p.Write(body)
		}
		return err
	}
	names := slices.Sorted(maps.Keys(fields))
	for _, k := range names {
		said := d.operation.Fields[k].Content
		if files, ok := d.files[k]; ok {
			for _, f := range files {
				if err := part(k, f.Name, cmp.Or(said, f.Type), d.content(f)); err != nil {
					return nil, err
				}
			}
			continue
		}
		list, many := fields[k].([]any)
		if !many || strings.Contains(said, "json") {
			list = []any{fields[k]}
		}
		for _, v := range list {
			if err := field(part, k, said, v); err != nil {
				return nil, err
			}
		}
	}
	err := w.Close()
	return out.Bytes(), err
}

// field writes one value that is no file.
func field(part func(name, file, kind string, body []byte) error, name, said string, v any) error {
	_, object := v.(map[string]any)
	_, list := v.([]any)
	if object || list || strings.Contains(said, "json") {
		raw, err := json.Marshal(v)
		if err != nil {
			return err
		}
		return part(name, "", cmp.Or(said, "application/json"), raw)
	}
	return part(name, "", said, []byte(expr.Show(v)))
}
