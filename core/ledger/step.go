package ledger

import (
	"fmt"
	"strconv"
	"strings"
)

// StepID is where a step of a run stands: the elements from the run down to it, joined by
// ".". An element is tN for the N-th turn of a thread or cN for the N-th call of a turn. A
// call that opens a thread is the id of that thread, so t1.c2.t3 is the third turn on the
// thread that the second call of the first turn opened. Numbers count within the parent and
// are never used twice. "" is the main thread, and the run itself.
type StepID string

// LimitTimer is the step of the timer of a run's time limit: the run's, and of no thread.
const LimitTimer StepID = "limit"

// OutsideTurn is the step that stands for the turn of a run that is one call from outside:
// no model made it.
const OutsideTurn StepID = "t0"

// Turn gives the step of the n-th turn of a thread.
func (s StepID) Turn(n int) StepID { return s.under("t" + strconv.Itoa(n)) }

// Call gives the step of the n-th call of a turn.
func (s StepID) Call(n int) StepID { return s.under("c" + strconv.Itoa(n)) }

func (s StepID) under(element string) StepID {
	if s == "" {
		return StepID(element)
	}
	return s + "." + StepID(element)
}

// Parent gives the step that a step stands under: of a call its turn, of a turn the thread.
func (s StepID) Parent() StepID {
	if i := strings.LastIndexByte(string(s), '.'); i >= 0 {
		return s[:i]
	}
	return ""
}

// Thread gives the thread that a step lies on: "" is the main thread. A call that opens a
// thread lies on the one that it was made on.
func (s StepID) Thread() StepID {
	if s == LimitTimer {
		return ""
	}
	if i := strings.LastIndexByte(string(s), '.'); i >= 0 && s[i+1] == 'c' {
		s = s[:i]
	}
	return s.Parent()
}

// Depth gives how many threads a step lies under: 0 on the main thread.
func (s StepID) Depth() int {
	return strings.Count(string(s.Thread()), "t")
}

// Check says what is wrong with a step's form; nil if nothing is.
func (s StepID) Check() error {
	if s == "" || s == LimitTimer {
		return nil
	}
	turn := true // a turn is due, then a call, then a turn, …
	for rest := string(s); ; turn = !turn {
		element, more, found := strings.Cut(rest, ".")
		kind := byte('c')
		if turn {
			kind = 't'
		}
		n, err := strconv.Atoi(strings.TrimLeft(element, "tc"))
		if len(element) < 2 || element[0] != kind || err != nil || element[1:] != strconv.Itoa(n) || n < 0 {
			return fmt.Errorf("%q is not a step: %q stands where %cN is due", string(s), element, kind)
		}
		if !found {
			return nil
		}
		rest = more
	}
}

// MainThread is the name of the main thread in an event.
const MainThread = "main"

// ThreadName gives the name that an event of a step has for its thread.
func ThreadName(s StepID) string {
	if t := s.Thread(); t != "" {
		return string(t)
	}
	return MainThread
}
