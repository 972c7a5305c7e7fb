package mcp

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/yosida95/uritemplate/v3"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools"
)

// beside lists what a server has beside tools: its resources, each as a tool that reads it,
// and its prompts, each as one that gives its messages.
func beside(ctx context.Context, session *mcp.ClientSession, add func(project.Offer)) {
	init := session.InitializeResult()
	if init == nil || init.Capabilities == nil {
		return
	}
	left := maxBeside
	one := func(o project.Offer) bool {
		left--
		add(o)
		return left > 0
	}
	if init.Capabilities.Resources != nil {
		for r, err := range session.Resources(ctx, nil) {
			if err != nil || !one(resource(r.URI, r.Name, r.Title, r.Description)) {
				break
			}
		}
		for r, err := range session.ResourceTemplates(ctx, nil) {
			if err != nil || !one(resource(r.URITemplate, r.Name, r.Title, r.Description)) {
				break
			}
		}
	}
	if init.Capabilities.Prompts != nil {
		for p, err := range session.Prompts(ctx, nil) {
			if err != nil || !one(prompt(p)) {
				break
			}
		}
	}
}

// words joins what a server says of something into what a model reads of it.
func words(lead string, said ...string) string {
	for _, s := range said {
		if s = strings.Join(strings.Fields(s), " "); s != "" {
			lead += ": " + strings.ToValidUTF8(s[:min(len(s), maxSummary)], "")
			break
		}
	}
	return strings.TrimSuffix(lead, ".") + "."
}

func resource(uri, name, title, description string) project.Offer {
	o := project.Offer{Name: project.TakenResource + uri, Tool: project.ToolName("read_" + name), Summary: words("Read "+tools.Clip(name, 80), description, title), Says: string(ledger.Read)}
	props, required := map[string]any{}, []any{}
	t, err := uritemplate.New(uri)
	if err != nil {
		o.Fault = "its address is not one: " + err.Error()
		return o
	}
	for _, v := range t.Varnames() {
		props[v] = map[string]any{"type": "string", "minLength": 1.0, "description": fmt.Sprintf("The part {%s} of its address, %s.", v, uri)}
		required = append(required, v)
	}
	o.Input = map[string]any{"type": "object", "additionalProperties": false, "properties": props}
	if len(required) > 0 {
		o.Input["required"] = required
	}
	return o
}

func prompt(p *mcp.Prompt) project.Offer {
	o := project.Offer{Name: project.TakenPrompt + p.Name, Tool: project.ToolName(p.Name), Summary: words("Get the instructions "+tools.Clip(p.Name, 80), p.Description, p.Title), Says: string(ledger.Read)}
	props, required := map[string]any{}, []any{}
	for _, a := range p.Arguments {
		doc := map[string]any{"type": "string"}
		if a.Description != "" {
			doc["description"] = tools.Clip(a.Description, maxSummary)
		}
		props[a.Name] = doc
		if a.Required {
			required = append(required, a.Name)
		}
	}
	o.Input = map[string]any{"type": "object", "additionalProperties": false, "properties": props}
	if len(required) > 0 {
		o.Input["required"] = required
	}
	return o
}

// ask calls a tool of a server, reads a resource of it, or gets a prompt, and gives what came
// as a tool's result.
func ask(ctx context.Context, session *mcp.ClientSession, remote *project.Remote, given any, token string) (*mcp.CallToolResult, error) {
	args, _ := given.(map[string]any)
	if uri, ok := strings.CutPrefix(remote.Name, project.TakenResource); ok {
		t, err := uritemplate.New(uri)
		if err != nil {
			return nil, err
		}
		values := uritemplate.Values{}
		for _, v := range t.Varnames() {
			s, _ := args[v].(string)
			values.Set(v, uritemplate.String(s))
		}
		if uri, err = t.Expand(values); err != nil {
			return nil, err
		}
		r, err := session.ReadResource(ctx, &mcp.ReadResourceParams{URI: uri})
		if err != nil {
			return nil, err
		}
		out := &mcp.CallToolResult{}
		for _, c := range r.Contents {
			switch {
			case len(c.Blob) > 0:
				out.Content = append(out.Content, &mcp.EmbeddedResource{Resource: c})
			default:
				out.Content = append(out.Content, &mcp.TextContent{Text: c.Text})
			}
		}
		return out, nil
	}
	if name, ok := strings.CutPrefix(remote.Name, project.TakenPrompt); ok {
		params := &mcp.GetPromptParams{Name: name, Arguments: map[string]string{}}
		for k, v := range args {
			params.Arguments[k], _ = v.(string)
		}
		r, err := session.GetPrompt(ctx, params)
		if err != nil {
			return nil, err
		}
		out := &mcp.CallToolResult{}
		alone := !slices.ContainsFunc(r.Messages, func(m *mcp.PromptMessage) bool { return m.Role != "user" })
		for _, m := range r.Messages {
			if t, ok := m.Content.(*mcp.TextContent); ok && !alone {
				out.Content = append(out.Content, &mcp.TextContent{Text: string(m.Role) + ": " + t.Text})
				continue
			}
			out.Content = append(out.Content, m.Content)
		}
		return out, nil
	}
	params := &mcp.CallToolParams{Name: remote.Name, Arguments: args}
	params.SetProgressToken(token)
	return session.CallTool(ctx, params)
}
