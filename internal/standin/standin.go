// Package standin answers for a service that is described and not there: every
// operation of an OpenAPI document, with made-up values that fit what the document
// says comes back.
package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
)

type route struct {
	parts []string // "{name}" stands for any
	offer project.Offer
	made  any // that it answers with
}

// made gives a value that a schema describes; of one that cannot be read the plainest.
func made(shared *schema.Library, doc map[string]any) any {
	if doc == nil {
		return nil
	}
	s, err := shared.Compile(doc)
	if err != nil {
		return schema.Example(doc)
	}
	v, _ := s.Made()
	return v
}

// Handler answers the operations of a catalogue. What is not described is 404, a
// parameter that is missing 400; a write is answered and changes nothing.
func Handler(cat project.Catalogue) http.Handler {
	routes, shared := map[string][]route{}, schema.NewLibrary()
	for _, o := range cat.Tools {
		if o.Operation != nil {
			routes[o.Operation.Method] = append(routes[o.Operation.Method], route{strings.Split(o.Operation.Path, "/"), o, made(shared, o.Output)})
		}
	}
	for _, list := range routes { // plain parts go before those that stand for any
		slices.SortStableFunc(list, func(a, b route) int {
			return strings.Count(a.offer.Operation.Path, "{") - strings.Count(b.offer.Operation.Path, "{")
		})
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		for _, x := range routes[r.Method] {
			if x.fits(r.URL.EscapedPath()) {
				x.answer(w, r)
				return
			}
		}
		say(w, http.StatusNotFound, "the document describes no %s %s", r.Method, r.URL.Path)
	})
}

func say(w http.ResponseWriter, code int, format string, args ...any) {
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(map[string]string{"detail": fmt.Sprintf(format, args...)}) // who asked may be gone
}

func (x route) fits(path string) bool {
	parts := strings.Split(path, "/")
	if len(parts) != len(x.parts) {
		return false
	}
	for i, p := range x.parts {
		if got, err := url.PathUnescape(parts[i]); err != nil || (!strings.Contains(p, "{") && got != p) {
			return false
		}
	}
	return true
}

func (x route) answer(w http.ResponseWriter, r *http.Request) {
	need, _ := x.offer.Input["required"].([]any)
	for _, p := range x.offer.Operation.Params {
		there := r.URL.Query().Has(p.Name)
		if p.In == "header" {
			there = r.Header.Get(p.Name) != ""
		}
		if slices.Contains(need, any(p.Arg)) && !there && (p.In == "query" || p.In == "header") {
			say(w, http.StatusBadRequest, "%s is missing", p.Name)
			return
		}
	}
	if x.offer.Output == nil {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	_ = json.NewEncoder(w).Encode(x.made) // who asked may be gone
}
