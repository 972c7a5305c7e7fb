package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"
	"go.yaml.in/yaml/v4"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
)

// KeepError says why a program cannot be kept as a tool.
type KeepError struct{ Say, Remedy string }

func (e *KeepError) Error() string { return e.Say }

// ran is what a call of a program was given, once it ran well.
type ran struct {
	Language, File, Code string
}

// programOf gives the program that a step of a run ran, and that ended well.
func programOf(events []ledger.Event, step string) (ran, error) {
	var p ran
	var args []byte
	for _, e := range events {
		if string(e.Step) != step {
			continue
		}
		switch d := e.Data.(type) {
		case *ledger.CallDecided:
			args = d.Args
		case *ledger.GateSettled:
			if len(d.Args) > 0 {
				args = d.Args
			}
		case *ledger.CallReturned:
			if d.Sent == nil || d.Sent.Method != "PROGRAM" {
				return p, &KeepError{fmt.Sprintf("the step %s ran no program that a model wrote", step), "`stonebaton show RUN` lists the steps."}
			}
			if d.Sent.Status != 0 {
				return p, &KeepError{fmt.Sprintf("the program of step %s ended with code %d", step, d.Sent.Status), "Keep one that ran well."}
			}
			m, err := value.ReadObject(args)
			if err != nil {
				return p, err
			}
			p.Language, _ = m["language"].(string)
			p.File, _ = m["file"].(string)
			p.Code, _ = m["code"].(string)
			return p, nil
		}
	}
	return p, &KeepError{fmt.Sprintf("the run has no step %q that ran a program", step), "`stonebaton show RUN` lists the steps."}
}

// document writes the tool that a kept program becomes, and the file beside it; "" is none. It
// runs in the sandbox with no network and no files but its own, so that it changes nothing.
func (p ran) document(in api.Keep, of string) (text []byte, file string, err error) {
	doc := []any{"tool", in.Name, "summary", in.Summary, "effect", "read"}
	if p.Language == "javascript" {
		doc = append(doc, "script", p.Code)
	} else {
		file = path.Join("tools", in.Name, p.File)
		doc = append(doc, "command", map[string]any{"run": []string{p.Language, path.Join(in.Name, p.File)}, "output": "text"})
	}
	n := &yaml.Node{Kind: yaml.MappingNode, HeadComment: "# " + of}
	for i := 0; i < len(doc); i += 2 {
		k, v := &yaml.Node{}, &yaml.Node{}
		if err := errors.Join(k.Encode(doc[i]), v.Encode(doc[i+1])); err != nil {
			return nil, "", err
		}
		n.Content = append(n.Content, k, v)
	}
	var b bytes.Buffer
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	err = errors.Join(enc.Encode(n), enc.Close())
	return b.Bytes(), file, err
}

// Keep makes a tool of the project of a program that a run ran. A person has asked for it:
// nothing that a model says becomes a file of the project otherwise. What is there already is
// not written over.
func (ps *Projects) Keep(ctx context.Context, events []ledger.Event, step string, in api.Keep, by string) (api.KeptTool, error) {
	p, err := programOf(events, step)
	if err != nil {
		return api.KeptTool{}, err
	}
	if strings.TrimSpace(in.Summary) == "" {
		return api.KeptTool{}, &KeepError{"the tool needs a summary", "Say in a sentence what it does and when it is wanted: models choose it by that."}
	}
	ps.editing.Lock()
	defer ps.editing.Unlock()
	now, err := ps.Current()
	if err != nil {
		return api.KeptTool{}, err
	}
	text, file, err := p.document(in, fmt.Sprintf("Kept from run %s, step %s, by %s.", events[0].Run, step, by))
	if err != nil {
		return api.KeptTool{}, err
	}
	out := api.KeptTool{File: path.Join("tools", in.Name+".yaml")}
	src, probs := Reader.Load(os.DirFS(ps.dir), ps.env)
	src.Catalogues = now.Catalogues
	for name, t := range ps.shop.files() {
		src.Files[name] = t
	}
	src.Files[out.File] = string(text)
	if file != "" {
		src.Files[file] = p.Code
	}
	_, more := compile(src)
	for _, x := range append(probs, more...) {
		if x.Grade == project.Error {
			return api.KeptTool{}, &EditRefusedError{x}
		}
	}
	if file != "" {
		out.Program, out.Line = file, p.Language+" "+file
		if err := ps.write(file, p.Code); err != nil {
			return api.KeptTool{}, err
		}
	}
	if err := ps.write(out.File, string(text)); err != nil {
		return api.KeptTool{}, err
	}
	return out, ps.reread(ctx)
}

// write writes a file of the project that is not there yet.
func (ps *Projects) write(name, text string) error {
	at := filepath.Join(ps.dir, filepath.FromSlash(name))
	if _, err := os.Lstat(at); err == nil {
		return &KeepError{fmt.Sprintf("there is a file %s already", name), "Give the tool another name."}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(at, []byte(text), 0o644)
}
