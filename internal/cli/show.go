package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"time"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
)

var showCommand = command{
	name: "show", args: "RUN", most: 1, does: "show a run's steps, or everything about one of them", example: "stonebaton show k7f2m-1 -step 3",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		step := fs.String("step", "", "everything about the step with this `number` or id")
		file := fs.String("file", "", "print the file of this `name` that a program of the run made, the newest")
		changes := fs.Bool("changes", false, "what the run has changed in files and nobody has undone, as one difference")
		whole := fs.Bool("whole", false, "the run in full: what was sent, said, called and returned, in order")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which run? `stonebaton runs` lists them")
			}
			c := k.client()
			if *changes {
				out, err := c.Changes(ctx, args[0])
				if err != nil {
					return err
				}
				if len(out.Changes) == 0 {
					k.print("Run %s has changed nothing that is not undone.\n", args[0])
					return nil
				}
				k.print("%s\n\n%s", painted(visible(strings.TrimRight(out.Diff, "\n"))), sprint("all of it is undone with   stonebaton undo -run %s\n", args[0]))
				return nil
			}
			if *file != "" {
				return k.madeFile(ctx, args[0], *file)
			}
			if *step != "" {
				return k.showStep(ctx, args[0], *step)
			}
			r, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(r)
			}
			if *whole {
				return k.wholeRun(ctx, r)
			}
			p := newPrinter(k, false)
			p.person(r.Run.Person, r.Run.Text)
			k.print("\n")
			p.whole(r.Steps)
			for _, t := range r.Tickets {
				if t.Status == "open" {
					k.print("%s", k.ticketLines(t))
				}
			}
			p.answer(r.Run)
			for _, m := range r.Waiting {
				k.print("\nwaits in the inbox: %s\n", clip(m, 100))
			}
			k.print("\n%s   session %s\n", summary(r.Run), r.Run.Session)
			return nil
		}
	},
}

// showStep shows everything about one step.
func (k *call) showStep(ctx context.Context, run, step string) error {
	raw, err := k.client().Step(ctx, run, step)
	if err != nil {
		return err
	}
	if k.json {
		return k.printJSON(raw)
	}
	var d trace.Detail
	if err := json.Unmarshal(raw, &d); err != nil {
		return err
	}
	k.detail(run, &d)
	return nil
}

// wholeRun prints a run in full, in an order that can be read from top to bottom: for each
// turn what it was sent that the turn before had not been, then the result.
func (k *call) wholeRun(ctx context.Context, r api.Run) error {
	c := k.client()
	k.print("# Run %s: %s\n\n", r.Run.ID, r.Run.Status)
	k.print("%s, by %s, of the project's version that it began with; %s\n", r.Run.Opened.Format(time.RFC3339), r.Run.Person, summary(r.Run))
	part := func(name, text string) {
		if strings.TrimSpace(text) != "" {
			k.block(sprint("\n%s:\n\n    ", name), 4, text)
		}
	}
	part(r.Run.Person+" said", r.Run.Text)
	type sent struct { // by the newest turn of a thread
		messages      []ledger.Message
		system, tools string
	}
	threads := map[ledger.StepID]sent{}
	for _, s := range r.Steps {
		on := ""
		if s.Thread != "" {
			on = ", on the thread " + string(s.Thread)
		}
		k.print("\n## %d. %s: %s (%s%s%s)\n", s.N, s.Agent, s.Name, s.Status, took(s), on)
		raw, err := c.Step(ctx, r.Run.ID, string(s.ID))
		if err != nil {
			return err
		}
		var d trace.Detail
		if err := json.Unmarshal(raw, &d); err != nil {
			return err
		}
		if s.Kind == trace.Turn {
			req, err := c.Request(ctx, r.Run.ID, string(s.ID))
			if err != nil {
				return err
			}
			was := threads[s.Thread]
			if req.System != was.system {
				part("sent, system", req.System)
			}
			names := ""
			for _, t := range req.Tools {
				names += t.Name + "\n"
			}
			if names != was.tools {
				part("sent, tools", names)
			}
			same := 0
			for same < len(was.messages) && same < len(req.Messages) && reflect.DeepEqual(was.messages[same], req.Messages[same]) {
				same++
			}
			for _, m := range req.Messages[same:] {
				text := m.Text
				for _, call := range m.Calls {
					text += "\n" + call.Tool + " " + call.Args
				}
				part(strings.TrimSpace(fmt.Sprintf("sent, %s %s%s", m.Role, m.Agent, m.Tool)), strings.TrimSpace(text))
			}
			threads[s.Thread] = sent{req.Messages, req.System, names}
		}
		part("reasoning", d.Reasoning)
		part("said", d.Text)
		for _, call := range d.Calls {
			part("called "+call.Tool, call.Args)
		}
		part("arguments", string(d.In))
		part("arguments, changed by a person", string(d.Args))
		if w := s.Wait; w != nil {
			text := w.Ask + "\n" + w.Why
			for _, v := range w.Votes {
				text += "\n" + string(vote(v))
			}
			if w.Settled != nil {
				text += "\n" + settledBy(w)
				if w.Because != "" {
					text += ": " + w.Because
				}
			}
			part("a person was asked", text)
		}
		part("result", string(d.Out))
		if s.Kind != trace.Turn || d.Text == "" {
			part("the model read", d.Words)
		}
	}
	if r.Run.Problem != nil {
		part("ended", problemLine(r.Run))
	}
	if r.Run.Answer != "" {
		part("answer", r.Run.Answer)
	}
	return nil
}

// took tells how long a step took and who answered it.
func took(s *trace.Step) string {
	out := ", " + span(s.MS)
	if s.Model != "" {
		out += ", model " + s.Model
		if s.Answered != "" && s.Answered != s.Model {
			out += " as " + s.Answered
		}
	}
	if s.Undone != nil {
		out += ", undone since"
	}
	return out
}

// proof is what left and what came back, on one line.
func proof(p *ledger.Sent) string {
	line := strings.TrimSpace(p.Method + " " + p.URL)
	if p.Status > 0 {
		line += fmt.Sprintf(" → %d, %d bytes", p.Status, p.Bytes)
	}
	return line
}

// detail prints everything about a step.
func (k *call) detail(run string, d *trace.Detail) {
	s := d.Step
	k.print("%d  %s  %s  %s", s.N, s.Agent, s.Name, s.Status)
	if s.MS > 0 {
		k.print(" in %s", span(s.MS))
	}
	if s.Rung != "" {
		k.print(", rung %s", s.Rung)
	}
	if s.Stub {
		k.print(", by a stub")
	}
	if s.Model != "" {
		k.print(", model %s", s.Model)
		if s.Answered != "" && s.Answered != s.Model {
			k.print(" (it calls itself %s)", s.Answered)
		}
	}
	if s.Reads > 0 {
		k.print(", about %s read", count(s.Reads, "token"))
	}
	k.print("\nwhy   %s\n", s.Why)
	if s.Because != "" {
		k.print("says  %s\n", s.Because)
	}
	if s.Link != "" {
		k.print("link  %s\n", s.Link)
	}
	if s.Cost > 0 {
		k.print("cost  %s\n", price(s.Cost))
	}
	for _, r := range s.Repairs {
		k.print("fixed %s\n", r)
	}
	part := func(name string, v any) {
		switch x := v.(type) {
		case string:
			if x != "" {
				k.block(sprint("%-6s", name), 6, x)
			}
		case json.RawMessage:
			if len(x) > 0 {
				if val, err := value.Read(x); err == nil {
					if b, err := json.MarshalIndent(val, "", "  "); err == nil {
						k.block(sprint("%-6s", name), 6, string(harmless(b)))
					}
				}
			}
		}
	}
	if s.Asked != nil {
		part("in", d.In)
		part("asked", d.Question)
		if s.Asked.Outcome != "" {
			k.print("      %s%s\n", s.Asked.Outcome, below(s))
		}
		part("says", d.Answer)
		k.widen(d.Thread...)
		for _, x := range d.Thread {
			k.print("%5d  %s\n", x.N, k.line(x))
		}
	} else {
		part("in", d.In)
	}
	part("sent", d.Args)
	if s.Kind != trace.Consult {
		part("out", d.Out)
	}
	if n := strings.Count(d.Reasoning, "\n"); d.Reasoning != "" && n < 24 && len(d.Reasoning) < 3000 {
		k.block("by    ", 6, strings.TrimSpace(d.Reasoning))
	} else if d.Reasoning != "" {
		k.print("      it reasoned first; `stonebaton show %s -whole` shows it, and so does -json\n", run)
	}
	part("text", d.Text)
	for _, c := range d.Calls {
		k.print("call  %s %s\n", c.Tool, c.Args)
	}
	part("words", d.Words)
	part("note", d.Note)
	if d.Handle != "" {
		k.print("whole %s   (give it as an argument to have a tool read all of it)\n", d.Handle)
	}
	if p := d.Sent; p != nil {
		part("proof", proof(p))
		part("diff", strings.TrimSpace(p.Diff))
		if p.Undo != "" {
			if s.Undone != nil {
				k.print("undone %s\n", s.Undone.Local().Format("2 Jan 15:04"))
			} else {
				k.print("undo  stonebaton undo %s\n", p.Undo)
			}
		}
		for _, f := range p.Files {
			k.print("made  %s, %d bytes   stonebaton show %s -file %s\n", f.Path, f.Bytes, run, f.Path)
		}
		part("body", p.Body)
		part("reply", strings.TrimSpace(p.Reply))
		part("log", strings.TrimSpace(p.Log))
	}
	if w := s.Wait; w != nil {
		k.print("gate  %s\n      %s\n", w.Ask, w.Why)
		for _, v := range w.Votes {
			k.print("      %s\n", vote(v))
		}
		if w.Settled != nil {
			k.print("      %s after %s", settledBy(w), span(w.Settled.Sub(w.Raised).Milliseconds()))
			if w.Because != "" {
				k.print(": %s", w.Because)
			}
			k.print("\n")
		}
	}
	if before, err := json.Marshal(d.Before); err == nil {
		if after, err := json.Marshal(d.After); err == nil && string(before) != string(after) {
			k.print("state %s\n   →  %s\n", before, after)
		}
	}
	if s.Kind == trace.Turn {
		k.print("\nThe exact request:   stonebaton request %s -step %d\n", run, s.N)
	}
}

// madeFile prints a file that a program of a run made: what it is, byte by byte, where it goes
// to a file or another program, and made visible on a terminal.
func (k *call) madeFile(ctx context.Context, run, name string) error {
	c := k.client()
	r, err := c.Run(ctx, run)
	if err != nil {
		return err
	}
	var have []string
	for _, s := range slices.Backward(r.Steps) {
		if s.Kind != trace.Call || s.Status != "returned" {
			continue
		}
		raw, err := c.Step(ctx, run, string(s.ID))
		if err != nil {
			return err
		}
		var d trace.Detail
		if err := json.Unmarshal(raw, &d); err != nil {
			return err
		}
		if d.Sent == nil {
			continue
		}
		for _, f := range d.Sent.Files {
			if have = append(have, f.Path); f.Path != name {
				continue
			}
			body, err := c.File(ctx, run, string(f.Hash))
			if err != nil {
				return err
			}
			defer body.Close()
			if !k.tty {
				_, err = io.Copy(k.Out, body)
				return err
			}
			text, err := io.ReadAll(body)
			k.print("%s\n", painted(visible(strings.TrimRight(string(text), "\n"))))
			return err
		}
	}
	return fmt.Errorf("the programs of run %s made no file %q.%s", run, name, near.Hint(name, slices.Compact(slices.Sorted(slices.Values(have)))))
}
