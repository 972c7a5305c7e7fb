package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/understudy"
)

// endpoint is where the model of a new project is.
type endpoint struct{ url, model string }

// sound says what of it cannot be.
func (e endpoint) sound() error {
	if e.url == "" {
		if e.model != "" {
			return use("-model names a model at an endpoint: say -endpoint URL too")
		}
		return nil
	}
	if u, err := url.Parse(e.url); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return use("-endpoint takes the base of an endpoint, such as http://127.0.0.1:8080/v1, and not %q", e.url)
	}
	return nil
}

// theirs is the name of the model at the endpoint, in the project.
const theirs = "mine"

var (
	houseInLines = regexp.MustCompile(`(?m)^  house: \{speaks: understudy\}\n(?:model: house\n)?`)
	houseAlone   = regexp.MustCompile(`(?m)^models: \{house: \{speaks: understudy\}\}\n`)
)

// joined has the agents of a new project ask the model at an endpoint: it writes where that is, and
// the key that somebody types, and asks the model whether it answers.
func (k *call) joined(ctx context.Context, dir string, e endpoint) error {
	if e.url == "" {
		return nil
	}
	key, err := k.secret("Key for " + e.url + " (it is not shown; Enter where it takes none): ")
	if err != nil {
		return err
	}
	if strings.ContainsAny(key, "\n\"'\\$`") {
		return fmt.Errorf("the key has a quote, a backslash, a $ or a line's end in it; write it into %s by hand, as MODEL_KEY=…", filepath.Join(dir, ".env"))
	}
	env := "MODEL_URL=" + e.url + "\n"
	if key != "" {
		env += "MODEL_KEY=" + key + "\n"
	}
	if err := os.WriteFile(filepath.Join(dir, ".env"), []byte(env), 0o600); err != nil {
		return err
	}
	if err := e.written(dir, e.model, key != ""); err != nil {
		return err
	}
	k.print("\nIts agents ask the model at %s; its drills still run offline.\n", e.url)
	if e.model == "" {
		if err := k.theOnlyOne(ctx, dir, e, key != ""); err != nil {
			return err
		}
	}
	p, shop, err := k.folder(ctx, dir)
	if err != nil {
		return err
	}
	defer shop.Close()
	err = k.testModel(ctx, p, shop.Secrets, theirs, dir, howTested{})
	if err != nil {
		k.note("The files are written. Put right what is in %s, and ask again:   stonebaton models -test %s -dir %s\n", filepath.Join(dir, ".env"), theirs, dir)
	}
	return err
}

// written puts the model into the project's own file.
func (e endpoint) written(dir, name string, key bool) error {
	at := filepath.Join(dir, project.Main)
	raw, err := os.ReadFile(at)
	if err != nil {
		return err
	}
	line := `  ` + theirs + `: {speaks: chat-completions, url: "${MODEL_URL}"`
	if name != "" {
		quoted, err := json.Marshal(name)
		if err != nil {
			return err
		}
		line += ", name: " + string(quoted)
	}
	if key {
		line += `, key: "${secret:MODEL_KEY}"`
	}
	text, with := string(raw), "  house: {speaks: understudy}\n"+line+"}\nmodel: "+theirs+"\n"
	switch {
	case regexp.MustCompile(`(?m)^  ` + theirs + `: \{.*\n`).MatchString(text):
		text = regexp.MustCompile(`(?m)^  `+theirs+`: \{.*\n`).ReplaceAllLiteralString(text, line+"}\n")
	case houseAlone.MatchString(text):
		text = houseAlone.ReplaceAllLiteralString(text, "models:\n"+with)
	default:
		text = houseInLines.ReplaceAllLiteralString(text, with)
	}
	return os.WriteFile(at, []byte(text), 0o644)
}

// theOnlyOne asks an endpoint which models it has, and takes it where it is one.
func (k *call) theOnlyOne(ctx context.Context, dir string, e endpoint, key bool) error {
	p, shop, err := k.folder(ctx, dir)
	if err != nil {
		return err
	}
	defer shop.Close()
	list, err := app.ListModels(ctx, model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(shop.Secrets, nil)}, shop.Secrets, p, theirs)
	if err != nil {
		return err
	}
	if len(list) != 1 {
		for n, m := range list {
			list[n] = shown(m)
		}
		return &api.Problem{Detail: fmt.Sprintf("the endpoint has %d models, and -model names none: %s", len(list), strings.Join(list, ", ")),
			Remedy: "The files are written: put name: … beside url: in " + filepath.Join(dir, project.Main) + "."}
	}
	k.print("It has one model, %s.\n", shown(list[0]))
	return e.written(dir, list[0], key)
}
