package drill

import (
	"time"

	"stonebaton.example/core/project"
	"stonebaton.example/core/trace"
)

// Result is the result of a drill.
type Result struct {
	ID       string        `json:"id"`
	Status   string        `json:"status"` // passed, failed, or broken where it could not run
	MS       int64         `json:"ms"`
	At       time.Time     `json:"at"`
	Faults   []Fault       `json:"faults"`
	Error    string        `json:"error,omitempty"`
	Says     []Said        `json:"says"`
	Place    project.Place `json:"place"`
	Summary  string        `json:"summary,omitempty"`
	Messages []string      `json:"messages"`
}

// Said is one message of a drill and the run it led to.
type Said struct {
	Text   string        `json:"text"`
	Totals trace.Totals  `json:"totals"`
	Steps  []*trace.Step `json:"steps"`
}
