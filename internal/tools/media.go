package tools

import (
	"bytes"
	"context"
	"fmt"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
)

// Keeper keeps files by their content.
type Keeper interface {
	KeepFile(ctx context.Context, body []byte) (hash string, err error)
	// File gives one that is kept.
	File(hash ledger.Hash) ([]byte, error)
}

// forgetful keeps nothing, where nobody looks at files.
var forgetful Keeper = &Memory{}

// Media are the files that a result holds beside its texts. They never stand in what a model
// reads.
type Media struct{ Files []deed.File }

// endings of files by their media types; those of others is .bin.
var endings = map[string]string{"image/png": ".png", "image/jpeg": ".jpg", "image/gif": ".gif", "image/webp": ".webp", "audio/wav": ".wav", "audio/mpeg": ".mp3", "audio/ogg": ".ogg", "application/pdf": ".pdf",
	"text/plain": ".txt", "text/csv": ".csv", "application/json": ".json"}

// EndingOf gives the ending of a file's name by its bytes.
func EndingOf(body []byte) string { return ending(TypeOf("", body)) }

func ending(typ string) string {
	if e := endings[typ]; e != "" {
		return e
	}
	return ".bin"
}

// sniffed are the types that show in the bytes: a file that says it is of one of them is.
var sniffed = map[string]bool{"image/png": true, "image/jpeg": true, "image/gif": true, "image/webp": true, "application/pdf": true}

// TypeOf gives the media type of a file, as it is said, so far as the bytes do not tell
// otherwise.
func TypeOf(said string, body []byte) string {
	typ, _, err := mime.ParseMediaType(said)
	is, _, _ := mime.ParseMediaType(http.DetectContentType(body))
	switch {
	case sniffed[is]:
		return is
	case err != nil || sniffed[typ]:
		return "application/octet-stream"
	}
	return typ
}

// Add takes a file up, and gives what stands in the result in its place. What is said of its
// name and type is only taken as far as it is one; kind is what it is called where it has no
// name.
func (m *Media) Add(kind, said, name string, body []byte) map[string]any {
	typ := TypeOf(said, body)
	name = path.Base(name)
	if name == "." || name == "/" || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\\' }) || len(name) > 80 || m.has(name) {
		name = fmt.Sprintf("%s-%d%s", kind, len(m.Files)+1, ending(typ))
	}
	m.Files = append(m.Files, deed.File{Name: name, Type: typ, Body: bytes.Clone(body)})
	return map[string]any{"kind": kind, "type": typ, "bytes": float64(len(body)), "file": name}
}

func (m *Media) has(name string) bool {
	return slices.ContainsFunc(m.Files, func(f deed.File) bool { return f.Name == name })
}

// maxFiles bounds the bytes of the files of one result.
const maxFiles = 32 << 20

// keep keeps the files of a result, and names them in the proof of its call. What cannot be
// kept costs the file alone, and is said in the log of the call.
func keep(ctx context.Context, k Keeper, r *deed.Result) {
	if len(r.Files) == 0 {
		return
	}
	sent := ledger.Sent{}
	if r.Sent != nil {
		sent = *r.Sent
	}
	bytes := 0
	for _, f := range r.Files {
		if bytes += len(f.Body); bytes > maxFiles {
			sent.Log += fmt.Sprintf("%s was not kept: the files of a result may have %d MB\n", f.Name, maxFiles>>20)
			continue
		}
		hash, err := k.KeepFile(ctx, f.Body)
		if err != nil {
			sent.Log += fmt.Sprintf("%s could not be kept: %v\n", f.Name, err)
			continue
		}
		sent.Files = append(sent.Files, ledger.File{Path: f.Name, Hash: ledger.Hash(hash), Bytes: int64(len(f.Body)), Type: f.Type})
	}
	r.Sent, r.Files = &sent, nil
}
