package app

import (
	"context"
	"net/http"
	"os"
	"path/filepath"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/tools/code"
)

// InspectFunctions says what a file of functions would bring, as a source's inspection does.
// The file need be of no project: dir is its folder. Around names the project whose
// environment runs it; "" is none.
func InspectFunctions(ctx context.Context, secrets *secret.Store, dir, file, around string) (api.Inspected, error) {
	if project.Language(file) == "" {
		return api.Inspected{}, api.NewProblem(http.StatusUnprocessableEntity, "The names of files of functions end in "+near.List(project.Languages())+".", "%s is not a file of functions", file)
	}
	h := code.New(dir, "", secrets)
	defer h.Close()
	d := project.OneFile(file)
	if at := filepath.Join(around, ".venv", "bin", "python"); around != "" && project.Language(file) == "python" {
		if _, err := os.Stat(at); err == nil {
			d.Code.Runtime = at
		}
	}
	cat, err := h.Catalogue(ctx, d)
	if err != nil {
		return api.Inspected{}, api.NewProblem(http.StatusUnprocessableEntity, "", "%v", err)
	}
	return inspected(file, cat, d), nil
}

// InspectText is InspectFunctions of a file that is nowhere yet.
func InspectText(ctx context.Context, secrets *secret.Store, in api.FunctionFile, around string) (api.Inspected, error) {
	name := filepath.Base(in.File)
	dir, err := os.MkdirTemp("", "inspect-")
	if err != nil {
		return api.Inspected{}, err
	}
	defer os.RemoveAll(dir)
	if err := os.WriteFile(filepath.Join(dir, name), []byte(in.Text), 0o600); err != nil {
		return api.Inspected{}, api.NewProblem(http.StatusUnprocessableEntity, "", "%q cannot be the name of a file", in.File)
	}
	return InspectFunctions(ctx, secrets, dir, name, around)
}
