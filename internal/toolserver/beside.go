package toolserver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"stonebaton.example/core/chart"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/store"
)

// What there is to read: the newest runs, one of them with its steps, a file that came with
// a result of it, and the map of the project.
const (
	runsURI = "stonebaton://runs"
	runURI  = runsURI + "/{run}"
	fileURI = runURI + "/files/{hash}"
	mapURI  = "stonebaton://map"
)

// newest is how many runs are listed.
const newest = 50

// readable offers the resources.
func (t *Server) readable() {
	t.server.AddResource(&mcp.Resource{URI: runsURI, Name: "runs", MIMEType: "application/json", Description: fmt.Sprintf("The newest runs of the project, at most %d.", newest)}, t.read)
	t.server.AddResource(&mcp.Resource{URI: mapURI, Name: "map", MIMEType: "application/json", Description: "The agents, tools and relays of the project, and what leads where."}, t.read)
	t.server.AddResourceTemplate(&mcp.ResourceTemplate{URITemplate: runURI, Name: "run", MIMEType: "application/json", Description: "One run with its steps, by its id."}, t.read)
	t.server.AddResourceTemplate(&mcp.ResourceTemplate{URITemplate: fileURI, Name: "file", Description: "A file that came with a result of a run, by its content."}, t.read)
}

// read gives a resource. What is another's is not there.
func (t *Server) read(ctx context.Context, req *mcp.ReadResourceRequest) (*mcp.ReadResourceResult, error) {
	uri, person := req.Params.URI, ""
	if req.Extra != nil {
		person = req.Extra.Header.Get(Person)
	}
	gone := mcp.ResourceNotFoundError(uri)
	whole := func(v any) (*mcp.ReadResourceResult, error) {
		raw, err := json.MarshalIndent(v, "", "  ")
		if err != nil {
			return nil, err
		}
		return &mcp.ReadResourceResult{Contents: []*mcp.ResourceContents{{URI: uri, MIMEType: "application/json", Text: string(raw)}}}, nil
	}
	switch uri {
	case runsURI:
		list, err := t.app.Store.Runs(ctx, store.RunFilter{For: person, Limit: newest})
		if err != nil {
			return nil, err
		}
		return whole(list)
	case mapURI:
		p, err := t.app.Projects.Current()
		if err != nil {
			return nil, err
		}
		return whole(chart.Of(p))
	}
	rest, ok := strings.CutPrefix(uri, runsURI+"/")
	if !ok {
		return nil, gone
	}
	id, hash, file := strings.Cut(rest, "/files/")
	session, _, _ := strings.Cut(id, "-")
	if person != "" {
		if may, err := t.app.Store.MaySee(ctx, session, person); err != nil || !may {
			return nil, errors.Join(err, gone)
		}
	}
	events, err := engine.All(t.app.Store.Read(ctx, id, 0))
	if errors.Is(err, engine.ErrNoRun) {
		return nil, gone
	}
	if err != nil {
		return nil, err
	}
	if !file {
		tr, err := trace.Of(id, events)
		if err != nil {
			return nil, err
		}
		return whole(map[string]any{"run": tr.Totals(), "steps": tr.Steps})
	}
	for _, e := range events {
		if d, ok := e.Data.(*ledger.CallReturned); ok && d.Sent != nil {
			for _, f := range d.Sent.Files {
				if string(f.Hash) == hash {
					body, err := t.app.Store.File(f.Hash)
					return &mcp.ReadResourceResult{Contents: []*mcp.ResourceContents{{URI: uri, MIMEType: f.Type, Blob: body}}}, err
				}
			}
		}
	}
	return nil, gone
}

// prompts describes what a client's person can ask for with few words, by name: a relay or an
// agent of the project, with what it takes.
func prompts(p *project.Project) map[string]*mcp.Prompt {
	out := map[string]*mcp.Prompt{}
	add := func(name, summary string, doc map[string]any) {
		x := &mcp.Prompt{Name: name, Description: summary}
		props, _ := doc["properties"].(map[string]any)
		required, _ := doc["required"].([]any)
		for _, k := range slices.Sorted(maps.Keys(props)) {
			sub, _ := props[k].(map[string]any)
			said, _ := sub["description"].(string)
			x.Arguments = append(x.Arguments, &mcp.PromptArgument{Name: k, Description: said, Required: slices.Contains(required, any(k))})
		}
		out[name] = x
	}
	for n, a := range p.Agents {
		add(project.ConsultPrefix+n, a.Summary, a.Takes())
	}
	for n, r := range p.Relays {
		add(n, r.Summary, r.Input.Doc())
	}
	return out
}

// prompt says to a client's model which tool to call, with what its person gave.
func (t *Server) prompt(_ context.Context, req *mcp.GetPromptRequest) (*mcp.GetPromptResult, error) {
	given, err := json.Marshal(req.Params.Arguments)
	if err != nil {
		return nil, err
	}
	text := fmt.Sprintf("Call the tool %s with %s, in the types that its input describes, and tell what it answers. Where it needs more, ask first.", req.Params.Name, given)
	return &mcp.GetPromptResult{Messages: []*mcp.PromptMessage{{Role: "user", Content: &mcp.TextContent{Text: text}}}}, nil
}
