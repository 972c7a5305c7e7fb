package mcp

import (
	"context"
	"fmt"
	"mime"
	"path"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/tools"
)

// Keeper keeps files by their content.
type Keeper interface {
	KeepFile(ctx context.Context, body []byte) (hash string, err error)
}

// media is what a result holds beside its texts. It is kept as files, and never stands in what
// a model reads.
type media struct {
	files  []ledger.File
	bodies [][]byte
}

// endings of files by their media types; those of others is .bin.
var endings = map[string]string{"image/png": ".png", "image/jpeg": ".jpg", "image/gif": ".gif", "image/webp": ".webp", "audio/wav": ".wav", "audio/mpeg": ".mp3", "audio/ogg": ".ogg", "application/pdf": ".pdf",
	"text/plain": ".txt", "text/csv": ".csv", "application/json": ".json"}

// add takes a file up, and gives what stands in the result in its place. What a server says of
// its name and type is only taken as far as it is one.
func (m *media) add(kind, said, uri string, body []byte) map[string]any {
	typ, _, err := mime.ParseMediaType(said)
	if err != nil {
		typ = "application/octet-stream"
	}
	name := path.Base(uri)
	if uri == "" || name == "." || name == "/" || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\\' }) || len(name) > 80 {
		ending := endings[typ]
		if ending == "" {
			ending = ".bin"
		}
		name = fmt.Sprintf("%s-%d%s", kind, len(m.files)+1, ending)
	}
	m.files = append(m.files, ledger.File{Path: name, Bytes: int64(len(body)), Type: typ})
	m.bodies = append(m.bodies, body)
	return map[string]any{"kind": kind, "type": typ, "bytes": float64(len(body)), "file": name}
}

// keep keeps the files, for the proof of the call.
func (m *media) keep(ctx context.Context, k Keeper) ([]ledger.File, error) {
	for i, body := range m.bodies {
		hash, err := k.KeepFile(ctx, body)
		if err != nil {
			return nil, err
		}
		m.files[i].Hash = ledger.Hash(hash)
	}
	return m.files, nil
}

// forgetful keeps nothing, where nobody looks at files.
var forgetful Keeper = &tools.Memory{}
