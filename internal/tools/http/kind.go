package http

import (
	_ "embed"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that are one HTTP request.
var Kind = project.Kind{Name: "http", Schema: shape, Compile: compilePart}

// Request is what is sent of a call.
type Request struct {
	Method    string
	URL       *expr.Template
	Query     *expr.Mapping
	Headers   map[string]*expr.Template
	Auth      *project.Auth
	Body      *expr.Mapping
	Form      *expr.Mapping
	Reading   project.Reading
	Redirects bool
	Private   bool
}

func compilePart(p *project.Part) project.Work {
	var r struct {
		Method, URL, Bearer string
		Query, Form         map[string]any
		Headers             map[string]string
		Auth                *project.RawAuth
		Body, Pick          any
		FailsWhen           string `json:"fails_when"`
		WhenEmpty           string `json:"when_empty"`
		Redirects, Private  bool
	}
	p.Into(&r)
	h := &Request{Method: r.Method, Headers: map[string]*expr.Template{}, Redirects: r.Redirects, Private: r.Private}
	if h.Method == "" {
		h.Method = "GET"
		if r.Body != nil || r.Form != nil {
			h.Method = "POST"
		}
	}
	if r.Body != nil && r.Form != nil {
		p.Report(project.Error, "/form", "Keep one of them.", "a request has one body, but this one has body and form")
	}
	if p.Tool.Effect == ledger.Read && (h.Method == "PUT" || h.Method == "DELETE" || h.Method == "PATCH") {
		p.Report(project.Warning, "/method", "Say effect: write, or use GET.", "a read with %s: it would be sent again after a failure", h.Method)
	}
	h.URL = p.Template("/url", r.URL)
	if r.Query != nil {
		h.Query = p.Mapping("/query", r.Query)
	}
	for k, v := range r.Headers {
		h.Headers[k] = p.Template("/headers/"+k, v)
	}
	if r.Bearer != "" && r.Auth != nil {
		p.Report(project.Error, "/bearer", "Keep one of them.", "the request is signed twice: set either bearer: or auth:")
	}
	if r.Auth != nil {
		h.Auth = p.Auth("/auth", r.Auth)
	} else if r.Bearer != "" {
		h.Auth = &project.Auth{Bearer: p.Key("/bearer", r.Bearer)}
	}
	h.Body = p.Mapping("/body", r.Body)
	if r.Form != nil {
		h.Form = p.Mapping("/form", r.Form)
	}
	h.Reading = p.Reading(r.Pick, r.FailsWhen, r.WhenEmpty)
	return project.Work{Spec: h, Line: h.Method + " " + h.URL.String()}
}
