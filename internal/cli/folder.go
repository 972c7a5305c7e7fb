package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/secret"
)

// workshop gives what carries out the tools of a project folder.
func (k *call) workshop(dir string) (*app.Workshop, func(string) (string, bool)) {
	env := app.Environment(dir, nil)
	return app.NewWorkshop(app.WorkshopConfig{Dir: dir, Databases: filepath.Join(dir, project.Records, "databases"), Packages: filepath.Join(dir, project.Records, "packages"),
		Tell: k.installing, Secrets: secret.New(env), Own: k.own}), env
}

// installing tells how far the package of a tool server is installed.
func (k *call) installing(source, line string) { k.note("%s: %s\n", source, line) }

// folder reads a project, and reports its problems where it cannot be run. The
// workshop is to be closed.
func (k *call) folder(ctx context.Context, dir string) (*project.Project, *app.Workshop, error) {
	shop, env := k.workshop(dir)
	p, _, probs := shop.Read(ctx, env, nil)
	if p != nil {
		return p, shop, nil
	}
	for _, x := range probs {
		if x.Grade == project.Error {
			k.note("%s", problemText(x))
		}
	}
	shop.Close()
	return nil, nil, fmt.Errorf("the project in %s cannot be run as it is", dir)
}

// problemText tells of a problem, its remedy below it.
func problemText(x project.Problem) painted {
	s := sprint("%s: %s: %s\n", x.Place, x.Grade, x.Say)
	if x.Remedy != "" {
		s += sprint("    %s\n", x.Remedy)
	}
	return s
}

// here says whether a command on a tool or model works on a folder: where one
// is named, or where the current one is a project and no service is named.
func (k *call) here(dir string) bool {
	if dir != "" {
		return true
	}
	if k.named() {
		return false
	}
	_, err := os.Stat(project.Main)
	return err == nil
}

func or(s, def string) string {
	if s == "" {
		return def
	}
	return s
}
