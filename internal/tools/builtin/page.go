package builtin

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/tools/web"
)

// maxPage bounds one page.
const maxPage = 4 << 20

// page fetches a page of the web and gives it as text.
func (c call) page() (deed.Result, *deed.Failure) {
	from := c.spec.From
	hosts := map[string]bool{} // that the file names: they may have any address
	for _, f := range from {
		if u, err := url.Parse(f); err == nil {
			hosts[u.Host] = true
		}
	}
	allowed := func(address string) bool { return web.Within(address, from) }
	address := c.text("url")
	sent := &ledger.Sent{Method: "GET", URL: address}
	if !allowed(address) {
		return c.refuse("%s is not among the pages that may be read: those that begin with %s", clip(address, 200), strings.Join(from, ", "))
	}
	req, err := http.NewRequestWithContext(c.ctx, http.MethodGet, address, nil)
	if err != nil {
		return c.refuse("%v", err)
	}
	req.Header.Set("Accept", "text/html, text/plain")
	grant := web.Grant{Redirects: true, Allowed: allowed}
	if hosts[req.URL.Host] {
		grant.Host = req.URL.Host
	}
	resp, err := c.client.Do(req, grant)
	if err != nil {
		r, f := c.fail(ledger.NotDone, "unreachable", "the page cannot be read: %v", web.Brief(err))
		f.Sent = sent
		return r, f
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(resp.Body, maxPage+1))
	sent.Status, sent.Bytes, sent.Type = resp.StatusCode, int64(len(raw)), resp.Header.Get("Content-Type")
	fail := func(format string, args ...any) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: fmt.Sprintf(format, args...), Status: resp.StatusCode, Sent: sent}
	}
	switch {
	case err != nil:
		return fail("the page broke off after %d bytes", len(raw))
	case len(raw) > maxPage:
		return fail("the page is larger than %d MB", maxPage>>20)
	case resp.StatusCode >= 300:
		return fail("%s answered %d", req.URL.Host, resp.StatusCode)
	}
	kind := sent.Type
	if kind == "" {
		kind = http.DetectContentType(raw)
	}
	if kind, _, _ = mime.ParseMediaType(kind); !strings.HasPrefix(kind, "text/") && !strings.Contains(kind, "xml") && !strings.Contains(kind, "json") {
		return fail("%s is %s, which is not text", req.URL.Host+req.URL.Path, cmp.Or(kind, "of no known type"))
	}
	if r, err := charset.NewReader(bytes.NewReader(raw), sent.Type); err == nil {
		if read, err := io.ReadAll(r); err == nil {
			raw = read
		}
	}
	title, text := "", strings.ToValidUTF8(string(raw), "�")
	if strings.Contains(kind, "html") {
		title, text = textOf(text)
	}
	return deed.Result{Value: map[string]any{"url": address, "title": title, "text": text}, Sent: sent}, nil
}

// apart are the elements that begin a line of their own.
var apart = map[string]bool{"p": true, "div": true, "br": true, "li": true, "tr": true, "h1": true, "h2": true, "h3": true, "h4": true, "h5": true, "h6": true, "section": true, "article": true,
	"header": true, "footer": true, "table": true, "ul": true, "ol": true, "pre": true, "blockquote": true, "td": false}

// textOf gives what a person reads of a page.
func textOf(src string) (title, text string) {
	doc, err := html.Parse(strings.NewReader(src))
	if err != nil {
		return "", src
	}
	var b strings.Builder
	var walk func(n *html.Node)
	walk = func(n *html.Node) {
		if n.Type == html.ElementNode {
			switch n.Data {
			case "script", "style", "noscript", "template", "svg":
				return
			case "title":
				if n.FirstChild != nil {
					title = strings.TrimSpace(n.FirstChild.Data)
				}
				return
			case "li":
				b.WriteString("\n- ")
			case "td", "th":
				b.WriteString(" | ")
			default:
				if apart[n.Data] {
					b.WriteString("\n")
				}
			}
		}
		if n.Type == html.TextNode {
			b.WriteString(n.Data)
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
		if n.Type == html.ElementNode && apart[n.Data] {
			b.WriteString("\n")
		}
	}
	walk(doc)
	var lines []string
	for _, l := range strings.Split(b.String(), "\n") {
		if l = strings.Trim(strings.Join(strings.Fields(l), " "), "| "); l != "" {
			lines = append(lines, l)
		}
	}
	return title, strings.Join(lines, "\n")
}
