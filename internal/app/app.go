package app

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/google/renameio/v2"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/notice"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/store"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/own"
	"stonebaton.example/internal/understudy"
)

// Config says which project to run, and where its records are.
type Config struct {
	Dir    string            // the project's folder
	Data   string            // "" is .stonebaton in it
	Env    map[string]string // goes before the environment and .env
	Own    []own.Tool        // functions of the program itself
	Spare  int64             // bytes that have to be free where the records are for a new run to begin
	Trust  bool              // what appears while it runs may run outside the sandbox at once
	Access Access            // how requests reach the service
	Logger *slog.Logger
	Tell   func(source, line string) // how far the package of a tool server is installed; nil: nobody is told
}

// App is a project with all that runs it.
type App struct {
	Store    *store.Store
	Engine   *engine.Engine
	Projects *Projects
	Secrets  *secret.Store
	Hub      *live.Hub
	Tools    engine.Tools
	Workshop *Workshop
	Models   engine.Models
	People   *people.Book
	Access   Access
	Links    *people.Signer

	teller    *notice.Teller
	telling   sync.WaitGroup
	people    noted
	data      string                 // the folder of the records
	at        atomic.Pointer[string] // where it answers
	announced string                 // the file that says where it answers
	key       string                 // of this machine's requests
	word      string                 // the file that says where the key is
	reveal    func()                 // takes back what is private
	done      context.Context
	cancel    context.CancelFunc
}

// Open reads the project, opens its records and resumes the runs that were under way.
// A project with errors opens too: it starts no runs.
func Open(ctx context.Context, c Config) (*App, error) {
	if c.Logger == nil {
		c.Logger = slog.New(slog.DiscardHandler)
	}
	dir, err := filepath.Abs(c.Dir)
	if err != nil {
		return nil, err
	}
	c.Dir = dir
	if c.Data == "" {
		c.Data = filepath.Join(c.Dir, ".stonebaton")
	}
	st, err := store.Open(c.Data)
	if err != nil {
		return nil, err
	}
	env := Environment(c.Dir, c.Env)
	a := &App{data: c.Data, People: people.Open(c.Data), Access: c.Access, Store: st, Hub: &live.Hub{}, Secrets: secret.New(env)}
	if n, err := sandbox.Account(filepath.Join(c.Data, "children")); err != nil {
		c.Logger.Warn("failed to look for programs that an earlier service left running", "error", err)
	} else if n > 0 {
		c.Logger.Warn("ended programs that an earlier service left running", "groups", n)
	}
	st.Logger = c.Logger
	if st.Noticed != "" {
		c.Logger.Error("the records are not whole", "error", st.Noticed)
	}
	a.reveal = tools.Private(c.Data, filepath.Join(c.Dir, ".env"))
	work := filepath.Join(c.Data, "work")
	if err := errors.Join(os.RemoveAll(work), os.MkdirAll(work, 0o700)); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	allow, err := newTrust(ctx, st, c.Trust)
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	a.Workshop = NewWorkshop(WorkshopConfig{Dir: c.Dir, Work: work, Programs: filepath.Join(c.Data, "programs"), Databases: filepath.Join(c.Data, "databases"), Packages: filepath.Join(c.Data, "packages"), Secrets: a.Secrets, Records: st, Own: c.Own, Changed: func(string) { a.offered() },
		Tell: c.Tell, trust: allow})
	a.Projects = &Projects{dir: c.Dir, env: env, store: st, secrets: a.Secrets, shop: a.Workshop, trust: allow, log: c.Logger, versions: map[ledger.Hash]*project.Project{},
		changed: func() { a.Hub.Changed("project"); a.Engine.Resume() }}
	if _, err := a.Projects.Reload(ctx); err != nil {
		return nil, errors.Join(err, a.Workshop.Close(), st.Close())
	}
	allow.opened()
	a.Projects.report()
	a.Tools = a.Workshop.Set
	a.Models = model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(a.Secrets, st)}
	a.Engine = engine.New(engine.Config{Log: st, Models: a.Models, Tools: a.Tools, Projects: a.Projects, Blanker: a.Secrets, Live: a.Hub, Clock: engine.WallClock{}, Logger: c.Logger,
		Room: func() error { return st.Room(c.Spare) }})
	watching, cancel := context.WithCancel(context.Background())
	a.done, a.cancel = watching, cancel
	if err := a.Projects.watch(watching); err != nil {
		c.Logger.Warn("failed to watch the project; changed files are not read", "error", err)
	}
	if err := a.ChangePeople(ctx, people.File, "file", nil); err != nil {
		c.Logger.Warn("nobody is let in before the file of the people is right", "error", err)
	}
	if a.Links, err = people.NewSigner(c.Data); err != nil {
		a.Close()
		return nil, err
	}
	if a.key, err = openKey(c.Data); err != nil {
		a.Close()
		return nil, err
	}
	a.teller = &notice.Teller{Store: st, Projects: a.Projects, Tools: a.Tools, People: a.People, Signer: a.Links, Hub: a.Hub, Secrets: a.Secrets, Clock: engine.WallClock{}, Logger: c.Logger, URL: a.Reached}
	if err := a.Engine.Start(ctx); err != nil {
		a.Close()
		return nil, err
	}
	return a, nil
}

// offered reads the project again after a tool server said that what it offers
// has changed.
func (a *App) offered() {
	go func() {
		if changed, err := a.Projects.Reload(context.Background()); err == nil && changed {
			a.Projects.report()
			a.Projects.changed()
		}
	}()
}

// addressFile is where a service's records say at which address it answers.
const addressFile = "address"

// Announce notes in the records at which URL the service answers, for commands in the
// project's folder; the note goes when the app is closed. From then on people are told of
// tickets, since their links lead there.
func (a *App) Announce(url string) error {
	a.at.Store(&url)
	a.telling.Go(func() { a.teller.Run(a.done) })
	a.announced = filepath.Join(a.data, addressFile)
	return errors.Join(renameio.WriteFile(a.announced, []byte(url+"\n"), 0o600), a.leaveWord(url))
}

// Reached gives the URL under which people reach the service.
func (a *App) Reached() string {
	if at := a.at.Load(); a.Access.URL == "" && at != nil {
		return *at
	}
	return a.Access.URL
}

// Address gives the URL of the service that has its records in a folder; "" where none
// has said that it answers.
func Address(data string) string {
	raw, err := os.ReadFile(filepath.Join(data, addressFile))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(raw))
}

// Done is closed when the app is.
func (a *App) Done() <-chan struct{} { return a.done.Done() }

// Close ends everything where it stands; the next Open resumes from there.
func (a *App) Close() error {
	if a.announced != "" {
		_ = os.Remove(a.word)
		_ = os.Remove(a.announced) // what is left names an address where nobody answers
	}
	a.cancel()
	a.telling.Wait()
	a.Engine.Close()
	a.reveal()
	return errors.Join(a.Workshop.Close(), a.Store.Close())
}
