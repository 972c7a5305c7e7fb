package service

import (
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
)

// console serves the console's files. A path that is not a file is one of its
// pages, which index.html draws.
func (s *Service) console(files fs.FS) {
	s.echo.GET("/*", func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		if name == "api" || strings.HasPrefix(name, "api/") {
			return problem(http.StatusNotFound, "GET /api/openapi.json lists what there is.", "there is no call GET /%s", name)
		}
		if name == "" || path.Ext(name) == "" {
			name = "index.html"
		}
		raw, err := fs.ReadFile(files, name)
		if errors.Is(err, fs.ErrNotExist) {
			if name == "index.html" {
				return problem(http.StatusNotFound, "Run `make build` and start it again.", "this program was built without its console")
			}
			return problem(http.StatusNotFound, "", "cannot find the file %s", name)
		}
		if err != nil {
			return err
		}
		h := c.Response().Header()
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable") // named by content
		} else {
			h.Set("Cache-Control", "no-cache")
		}
		kind := mime.TypeByExtension(path.Ext(name))
		if kind == "" {
			kind = "application/octet-stream"
		}
		return c.Blob(http.StatusOK, kind, raw)
	})
}
