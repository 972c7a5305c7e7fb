package loop

import (
	"time"

	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

// Unasked is Next without looking at whether anything can be done: a test holds that what
// it leaves out is nothing.
func Unasked(p *project.Project, s *run.State, at time.Time) []Action {
	var acts []Action
	for _, t := range s.Threads() {
		acts = append(acts, recordsOf(p, s, t, s.At())...)
	}
	return append(acts, grants(p, s, at)...)
}
