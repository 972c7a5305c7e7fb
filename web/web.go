// Package web holds the built console, for the service to serve.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files; without a build there is no index.html.
func Files() fs.FS {
	f, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("dist is embedded: " + err.Error())
	}
	return f
}
