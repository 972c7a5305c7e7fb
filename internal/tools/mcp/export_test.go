package mcp

import "time"

// Later sets the clock of the installations forward.
func (s *Servers) Later(d time.Duration) {
	s.packages.now = func() time.Time { return time.Now().Add(d) }
}
