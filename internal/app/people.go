package app

import (
	"context"
	"encoding/hex"
	"slices"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/right"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/rows"
)

// Access says how requests reach the service, and so whom it may take them to be from.
type Access struct {
	Beyond  bool   // they may come from elsewhere than this machine: everybody has to say who they are
	Local   bool   // who comes from this machine and does not say who they are is the local person, also where there are people
	Open    bool   // the local person need not show the key of the records to settle and to build
	Secure  bool   // over TLS, here or at the proxy
	Proxied bool   // through a proxy, which says where they come from
	URL     string // under which people reach it; "" is where it listens
}

// What the record says of people in the book, beside the calls of the API.
const (
	personAdded   = "person added"
	personChanged = "person changed"
	personGone    = "person revoked"
)

// noted keeps which people the record knows of.
type noted struct {
	mu    sync.Mutex
	known map[string]string // what the record says of each, by name
}

// Record keeps that somebody did something.
func (a *App) Record(ctx context.Context, e rows.Entry) error {
	e.At = rows.Moment{Time: time.Now()}
	e.About, e.Detail = a.Secrets.Text(e.About), a.Secrets.Text(e.Detail)
	return a.Store.Record(ctx, e)
}

// ChangePeople changes the book for somebody and records what was changed. A nil change
// records what was changed in the file by another program.
func (a *App) ChangePeople(ctx context.Context, by, via string, change func() error) error {
	a.people.mu.Lock()
	defer a.people.mu.Unlock()
	if change != nil {
		if err := change(); err != nil {
			return err
		}
	}
	list, err := a.People.List()
	if err != nil {
		return err
	}
	if a.people.known == nil {
		if a.people.known, err = a.Store.KnownPeople(ctx, []string{personAdded, personChanged}, personGone); err != nil {
			return err
		}
	}
	now := map[string]string{}
	for _, p := range list {
		now[p.Name] = described(p)
	}
	note := func(did, name, detail string) error {
		return a.Record(ctx, rows.Entry{Person: by, Via: via, Did: did, About: name, Detail: detail})
	}
	for name, is := range now {
		was, there := a.people.known[name]
		switch {
		case !there:
			err = note(personAdded, name, is)
		case was != is:
			err = note(personChanged, name, is)
		}
		if err != nil {
			return err
		}
		a.people.known[name] = is
	}
	for name := range a.people.known {
		if _, there := now[name]; there {
			continue
		}
		if err := note(personGone, name, ""); err != nil {
			return err
		}
		if err := a.Store.SignOutEverywhere(ctx, name); err != nil {
			return err
		}
		delete(a.people.known, name)
	}
	a.Hub.Changed("people")
	return nil
}

// described says what a person may do, and which token they have, so that a new one is seen.
func described(p people.Person) string {
	s := right.Words(slices.DeleteFunc(right.All(), func(r right.Right) bool { return !slices.Contains(p.Rights, r) }), ", ")
	if len(p.Is) > 0 {
		s += "; is " + strings.Join(p.Is, ", ")
	}
	if p.Address != "" {
		s += "; at " + p.Address
	}
	if p.Key != "" {
		return s + "; asks for others"
	}
	return s + "; token " + hex.EncodeToString([]byte(p.Hash))[:8]
}
