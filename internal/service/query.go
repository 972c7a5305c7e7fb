package service

import (
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/near"
	"stonebaton.example/core/right"
)

// param is a query parameter as openapi.yaml describes it.
type param struct {
	Name   string `yaml:"name"`
	In     string `yaml:"in"`
	Ref    string `yaml:"$ref"`
	Schema struct {
		Type    string   `yaml:"type"`
		Format  string   `yaml:"format"`
		Enum    []string `yaml:"enum"`
		Minimum *int64   `yaml:"minimum"`
		Maximum *int64   `yaml:"maximum"`
	} `yaml:"schema"`
}

// operation is a call as openapi.yaml describes it.
type operation struct {
	id      string
	params  []param // of its query
	rights  []right.Right
	open    bool // to everybody
	changes bool // so that the record has it
	keyed   bool // who is known by nothing but that they are on this machine has to show its key
}

// lets says whether a caller has one of the rights that the call needs; a call that names
// none is for everybody who is known. Who comes with a link may make the calls of links alone.
func (o operation) lets(w *caller) bool {
	if w.link != nil {
		return strings.HasPrefix(o.id, "link")
	}
	if w.keyless && o.keyed {
		return false
	}
	return len(o.rights) == 0 || slices.ContainsFunc(o.rights, w.Can)
}

// operations gives the calls: the document is what is served, and what requests are held
// against. Under x-rights it says who may make a call: everybody, known people where the list
// is empty, or those with one of the rights. Under x-key it says of a call that names no right
// that who did not show the key of the records may not make it.
func operations(document []byte) (map[string]operation, error) {
	var doc struct {
		Paths map[string]map[string]struct {
			ID         string `yaml:"operationId"`
			Parameters []param
			Rights     *[]right.Right `yaml:"x-rights"`
			Keyed      bool           `yaml:"x-key"`
		}
		Components struct{ Parameters map[string]param }
	}
	if err := yaml.Unmarshal(document, &doc); err != nil {
		return nil, fmt.Errorf("openapi.yaml: %w", err)
	}
	out := map[string]operation{}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			call := strings.ToUpper(method) + " " + path
			if op.Rights == nil {
				return nil, fmt.Errorf("openapi.yaml: %s does not say under x-rights who may make it", call)
			}
			o := operation{id: op.ID, params: []param{}, changes: method != "get", keyed: op.Keyed}
			for _, r := range *op.Rights {
				switch {
				case r == everybody:
					o.open = true
				case !r.Valid():
					return nil, fmt.Errorf("openapi.yaml: %s: there is no right %q", call, r)
				default:
					o.rights = append(o.rights, r)
				}
			}
			for _, p := range op.Parameters {
				if name, ok := strings.CutPrefix(p.Ref, "#/components/parameters/"); ok {
					p = doc.Components.Parameters[name]
				}
				if p.In == "query" {
					o.params = append(o.params, p)
				}
			}
			out[call] = o
		}
	}
	return out, nil
}

// everybody, under x-rights, lets also those make a call who are not known.
const everybody right.Right = "everybody"

// echoParam is a parameter of a path as Echo writes it.
var echoParam = regexp.MustCompile(`:(\w+)`)

const overMCP = "POST /mcp"

// called names the call that a request makes.
func called(c *echo.Context) string {
	if c.Path() == "/mcp" { // by any method
		return overMCP
	}
	return c.Request().Method + " " + echoParam.ReplaceAllString(c.Path(), "{$1}")
}

// strict refuses what the document does not describe in a request's query.
func strict(known map[string]operation) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			call := called(c)
			op, described := known[call]
			if !described {
				return next(c)
			}
			params := op.params
			var names []string
			for _, p := range params {
				names = append(names, p.Name)
			}
			given := c.QueryParams()
			for name, values := range given {
				at := slices.Index(names, name)
				if at < 0 {
					return problem(http.StatusBadRequest, takes(call, names), "%s takes no query parameter %q.%s", call, name, near.Hint(name, names))
				}
				for _, v := range values {
					if bad := params[at].check(v); bad != nil {
						return bad
					}
				}
			}
			return next(c)
		}
	}
}

func takes(call string, names []string) string {
	if len(names) == 0 {
		return "Omit it: " + call + " takes none."
	}
	return "It takes " + strings.Join(names, ", ") + "."
}

// check holds a value against the parameter's schema. An empty value is as none.
func (p param) check(v string) error {
	switch {
	case v == "":
		return nil
	case len(p.Schema.Enum) > 0:
		if !slices.Contains(p.Schema.Enum, v) {
			return problem(http.StatusBadRequest, "Use "+strings.Join(p.Schema.Enum, ", ")+".", "%s cannot be %q.%s", p.Name, v, near.Hint(v, p.Schema.Enum))
		}
	case p.Schema.Type == "integer":
		n, err := strconv.ParseInt(v, 10, 64)
		if err != nil {
			return problem(http.StatusBadRequest, "", "%s must be a whole number, not %q", p.Name, v)
		}
		if s := p.Schema; (s.Minimum != nil && n < *s.Minimum) || (s.Maximum != nil && n > *s.Maximum) {
			return problem(http.StatusBadRequest, "", "%s must be %s, not %d", p.Name, bounds(s.Minimum, s.Maximum), n)
		}
	case p.Schema.Format == "date-time":
		if _, err := time.Parse(time.RFC3339, v); err != nil {
			return problem(http.StatusBadRequest, "Write it as 2026-05-08T12:00:00Z.", "%s must be a date and time, not %q", p.Name, v)
		}
	}
	return nil
}

func bounds(least, most *int64) string {
	switch {
	case most == nil:
		return fmt.Sprintf("%d or more", *least)
	case least == nil:
		return fmt.Sprintf("%d or less", *most)
	}
	return fmt.Sprintf("from %d to %d", *least, *most)
}

// number reads a parameter that strict has checked; 0 where it is not given.
func number(c *echo.Context, name string) int64 {
	n, _ := strconv.ParseInt(c.QueryParam(name), 10, 64) // checked
	return n
}

// moment reads a date and time that strict has checked; zero where it is not given.
func moment(c *echo.Context, name string) time.Time {
	t, _ := time.Parse(time.RFC3339, c.QueryParam(name)) // checked
	return t
}

// page reads the cursor and the limit of a list.
func page(c *echo.Context, limit int) (cursor int64, most int, err error) {
	if q := c.QueryParam("cursor"); q != "" {
		if cursor, err = strconv.ParseInt(q, 10, 64); err != nil || cursor < 0 {
			return 0, 0, problem(http.StatusBadRequest, "Give the next of the page before, or omit it.", "there is no cursor %q", q)
		}
	}
	if n := number(c, "limit"); n > 0 {
		limit = int(n)
	}
	return cursor, limit, nil
}

// paged cuts a list that was read with one row more than its page, and gives the cursor
// of the next page; "" where this is the last.
func paged[T any](list []T, most int, cursor func(last T) int64) ([]T, string) {
	if len(list) <= most {
		return list, ""
	}
	return list[:most], strconv.FormatInt(cursor(list[most-1]), 10)
}
