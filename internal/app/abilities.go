package app

import (
	"bytes"
	"context"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/model/chat"
)

// Bounds of the search for the longest context, in tokens.
const (
	leastContext = 4 << 10
	mostContext  = 1 << 20
)

// depth is a tool that a model is asked to call.
var depth = project.Contract{Name: "depth_at", Summary: "Tell how deep the water is at a berth, when somebody asks for its depth.",
	Parameters: json.RawMessage(`{"type":"object","required":["berth"],"properties":{"berth":{"type":"string","description":"Code of the berth, such as C4."}}}`)}

// length is what an answer has to fit.
var length = map[string]any{"type": "object", "required": []any{"length_m"}, "additionalProperties": false, "properties": map[string]any{"length_m": map[string]any{"type": "number"}}}

// Abilities asks a model a few questions, and finds out what it can do. Longest looks for the longest
// request that it takes, which is as costly as that is long.
func Abilities(ctx context.Context, models engine.Models, p *project.Project, m *project.Model, streams, longest bool) project.Can {
	can := project.Can{Streams: &streams}
	ask := func(models engine.Models, r deed.Request) (deed.Reply, bool) {
		within, cancel := context.WithTimeout(ctx, m.Timeout)
		defer cancel()
		r.Agent, r.Model = "test", m.Name
		if r.System == "" {
			r.System = "You answer at a harbour. Use your tools where you have some, and be brief."
		}
		reply, bad := models.Ask(within, p, r, func(string) {})
		return reply, bad == nil
	}
	says := func(text string) []ledger.Message { return []ledger.Message{{Role: ledger.User, Text: text}} }
	calls := func(r deed.Reply, ok bool) (n int) {
		for _, c := range r.Calls {
			if ok && c.Tool == depth.Name && json.Valid([]byte(c.Args)) {
				n++
			}
		}
		return n
	}
	one := calls(ask(models, deed.Request{Tools: []project.Contract{depth}, MaxTokens: 200, Messages: says("How deep is it at the berth C4?")})) > 0
	several := one && calls(ask(models, deed.Request{Tools: []project.Contract{depth}, MaxTokens: 300, Messages: says("How deep is it at the berth C4, and how deep at the berth D2? Ask for both at once.")})) > 1
	can.Calls, can.Several = &one, &several
	if m.Written { // that it writes its calls says nothing of whether it makes some
		can.Calls, can.Several = nil, nil
	}
	r, ok := ask(models, deed.Request{Offer: true, Answer: length, MaxTokens: 100, Messages: says("The Petrel is 12.4 m long. How long is she?")})
	fits := ok && fitsSchema(r.Text)
	can.Schema = &fits
	if sees := sawRed(ask, models, m); sees != nil {
		can.Pictures = sees
	}
	if longest {
		for n := leastContext; n <= mostContext; n *= 2 {
			if _, ok := ask(models, deed.Request{MaxTokens: 8, Messages: says(strings.Repeat("tide ", n-100) + "Say yes.")}); !ok {
				break
			}
			can.Context = n
		}
	}
	return can
}

func fitsSchema(text string) bool {
	var v any
	if json.Unmarshal([]byte(strings.TrimSpace(text)), &v) != nil {
		return false
	}
	s, err := schema.Compile(length)
	return err == nil && len(s.Check(v)) == 0
}

// sawRed shows a model a red picture; nil where its way to models shows none.
func sawRed(ask func(engine.Models, deed.Request) (deed.Reply, bool), models engine.Models, m *project.Model) *bool {
	set, _ := models.(model.Set)
	wire, ok := set[m.Speaks].(*chat.Wire)
	if !ok {
		return nil
	}
	img := image.NewRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		img.Set(i%64, i/64, color.RGBA{R: 255, A: 255})
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return nil
	}
	file := ledger.File{Path: "flag.png", Type: "image/png", Bytes: int64(b.Len()), Hash: ledger.HashOf(b.Bytes())}
	r, ok := ask(model.Set{m.Speaks: wire.Showing(picture{file.Hash: b.Bytes()})}, deed.Request{Pictures: true, MaxTokens: 100,
		Messages: []ledger.Message{{Role: ledger.User, Text: "What colour is the picture? Answer with one word.", Pictures: []ledger.File{file}}}})
	saw := ok && strings.Contains(strings.ToLower(r.Text), "red")
	return &saw
}

// picture is files that are in memory.
type picture map[ledger.Hash][]byte

// File gives one.
func (p picture) File(h ledger.Hash) ([]byte, error) { return p[h], nil }
