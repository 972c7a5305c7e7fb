package deed

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// Invocation is one attempt at a tool call.
type Invocation struct {
	Project *project.Project
	Tool    *project.Tool
	Args    any
	Vars    expr.Vars
	Facts   map[string]any // the state, as JSON has it
	Key     string         // the same at every attempt
	Step    ledger.StepID  // of the run; "" on the bench
	Stub    bool
	Bench   bool // tried alone: more of the raw reply is kept
	Run     string
	Person  string
	// Made lists the files that came with earlier results of the session, the newest first; nil
	// is of none.
	Made func(context.Context) ([]ledger.File, error)
	// File gives a file that Made lists, by its content.
	File  func(ledger.Hash) ([]byte, error)
	Pause func(context.Context, time.Duration) error // waits; a drill's does not take the time
	Log   func(line string)                          // is told what a call says of itself while it goes; nil: nobody listens
}

// Logs gives a writer that tells each line of what is written to it as the call's.
func (i Invocation) Logs() io.Writer {
	if i.Log == nil {
		return io.Discard
	}
	return &lines{say: i.Log}
}

// maxLine bounds a line that is told.
const maxLine = 500

// FromCache is the method of the proof of a call that was served from results that were kept.
const FromCache = "CACHE"

type lines struct {
	say  func(string)
	rest []byte
}

func (l *lines) Write(p []byte) (int, error) {
	for _, b := range p {
		switch {
		case b == '\n':
			if line := strings.TrimSpace(strings.ToValidUTF8(string(l.rest), "�")); line != "" {
				l.say(line)
			}
			l.rest = l.rest[:0]
		case len(l.rest) < maxLine:
			l.rest = append(l.rest, b)
		}
	}
	return len(p), nil
}

// Failure is what a handler says of a call that brought no result.
type Failure struct {
	Outcome ledger.Outcome
	Class   Class
	Say     string
	Status  int // of an HTTP reply
	Body    any // of an HTTP reply, decoded
	Retry   bool
	After   time.Duration // the least wait that was asked for
	Sent    *ledger.Sent
}

// NotDone gives the failure of a call that is known to have done nothing.
func NotDone(class Class, format string, args ...any) *Failure {
	return &Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...)}
}

// Result is what a handler brought back.
type Result struct {
	Value any
	More  bool // there were more rows than the tool may take
	Sent  *ledger.Sent
	Sets  map[string]any // facts that the call sets itself; nil takes one away
	// Files came with it. They are kept by their content and named in Sent; what stands for one
	// in the value is up to the tool.
	Files []File
}

// File is a file that came with a result.
type File struct {
	Name, Type string
	Body       []byte
}

// Sentence ends what is said with a full stop, where it has no end of its own.
func Sentence(say string) string {
	if strings.HasSuffix(say, ".") || strings.HasSuffix(say, "?") || strings.HasSuffix(say, "!") {
		return say
	}
	return say + "."
}
