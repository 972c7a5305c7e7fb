package app

import (
	"context"
	"log/slog"
	"path/filepath"

	"stonebaton/core/ledger"
	"stonebaton/core/project"
	"stonebaton/engine"
	"stonebaton/live"
	"stonebaton/model"
	"stonebaton/model/chat"
	"stonebaton/secret"
	"stonebaton/store"
	"stonebaton/tools"
	"stonebaton/tools/http"
	"stonebaton/tools/script"
	"stonebaton/understudy"
)

// Config says which project to run, and where its records are.
type Config struct {
	Dir    string            // the project's folder
	Data   string            // "" is .stonebaton in it
	Env    map[string]string // goes before the environment and .env
	Logger *slog.Logger
}

// App is a project with all that runs it.
type App struct {
	Store    *store.Store
	Engine   *engine.Engine
	Projects *Projects
	Secrets  *secret.Store
	Hub      *live.Hub
	Tools    engine.Tools
	Models   engine.Models

	cancel context.CancelFunc
}

// Open reads the project, opens its records and goes on with the runs that
// were under way. A project with errors opens too: it starts no runs.
func Open(ctx context.Context, c Config) (*App, error) {
	if c.Logger == nil {
		c.Logger = slog.New(slog.DiscardHandler)
	}
	if c.Data == "" {
		c.Data = filepath.Join(c.Dir, ".stonebaton")
	}
	st, err := store.Open(c.Data)
	if err != nil {
		return nil, err
	}
	env := Environment(c.Dir, c.Env)
	a := &App{Store: st, Hub: &live.Hub{}, Secrets: secret.New(env)}
	a.Projects = &Projects{dir: c.Dir, env: env, store: st, secrets: a.Secrets, log: c.Logger, versions: map[ledger.Hash]*project.Project{},
		changed: func() { a.Hub.Changed("project") }}
	if _, err := a.Projects.Reload(ctx); err != nil {
		st.Close()
		return nil, err
	}
	a.Projects.report()
	a.Tools = Handlers(a.Secrets)
	a.Models = model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(a.Secrets)}
	a.Engine = engine.New(engine.Config{Log: st, Models: a.Models, Tools: a.Tools, Projects: a.Projects, Blanker: a.Secrets, Live: a.Hub, Clock: engine.WallClock{}, Logger: c.Logger})
	watching, cancel := context.WithCancel(context.Background())
	a.cancel = cancel
	if err := a.Projects.watch(watching); err != nil {
		c.Logger.Warn("changed files will not be picked up", "error", err)
	}
	if err := a.Engine.Start(ctx); err != nil {
		a.Close()
		return nil, err
	}
	return a, nil
}

// Handlers gives what carries tools out.
func Handlers(s *secret.Store) tools.Set {
	return tools.Set{"script": &script.Handler{}, "http": http.New(s)}
}

// Close ends everything where it stands; the next Open goes on from there.
func (a *App) Close() error {
	a.cancel()
	a.Engine.Close()
	return a.Store.Close()
}
