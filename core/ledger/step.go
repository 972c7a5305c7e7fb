package ledger

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// StepID is where a step of a run stands: the elements from the run down to it, joined by
// ".". An element is tN for the N-th turn of a thread, cN for the N-th call of a turn,
// name:V for the V-th visit of a leg of a relay, iN for the N-th item or branch of a leg that
// has several, gN for the N-th guardrail of a turn, hN for the N-th hook on a thread, and r for the relay that a run begins with. A call that opens a thread or a
// relay is the id of that, and so is the leg or item that does: t1.c2.t3 is the third turn on
// the thread that the second call of the first turn opened, and r.write:2.t1 the first turn
// of what the leg write does when it is visited again. Numbers count within the parent and
// are never used twice. "" is the main thread, and the run itself.
type StepID string

// Root is the step of the relay that a run begins with.
const Root StepID = "r"

// LimitTimer is the step of the timer of a run's time limit: the run's, and of no thread.
const LimitTimer StepID = "limit"

// OutsideTurn is the step that stands for the turn of a run that is one call from outside:
// no model made it.
const OutsideTurn StepID = "t0"

// Turn gives the step of the n-th turn of a thread.
func (s StepID) Turn(n int) StepID { return s.under("t" + strconv.Itoa(n)) }

// Call gives the step of the n-th call of a turn.
func (s StepID) Call(n int) StepID { return s.under("c" + strconv.Itoa(n)) }

// Leg gives the step of a visit of a leg, from 1.
func (s StepID) Leg(name string, visit int) StepID { return s.under(name + ":" + strconv.Itoa(visit)) }

// Hook gives the step of the n-th hook on a thread, from 1.
func (s StepID) Hook(n int) StepID { return s.under("h" + strconv.Itoa(n)) }

// Guardrail gives the step of the n-th guardrail of a turn, from 1.
func (s StepID) Guardrail(n int) StepID { return s.under("g" + strconv.Itoa(n)) }

// LegName gives the name and the number of the visit of a leg's step; "" of any other.
func (s StepID) LegName() (name string, visit int) {
	name, n, ok := strings.Cut(s.last(), ":")
	if !ok {
		return "", 0
	}
	visit, _ = strconv.Atoi(n) // Check has seen it
	return name, visit
}

// Item gives the step of the n-th item or branch of a leg, from 1.
func (s StepID) Item(n int) StepID { return s.under("i" + strconv.Itoa(n)) }

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

// last gives the last element of a step.
func (s StepID) last() string { return string(s[strings.LastIndexByte(string(s), '.')+1:]) }

// Thread gives the thread or relay that a step lies on: "" is the main thread. What opens
// another lies on the one that it was opened from.
func (s StepID) Thread() StepID {
	switch last := s.last(); {
	case s == LimitTimer || s == Root || s == "":
		return ""
	case !strings.Contains(last, ":") && (last[0] == 'c' || last[0] == 'i' || last[0] == 'g'): // of a turn, or of a leg
		return s.Parent().Parent()
	}
	return s.Parent()
}

// ItemNumber gives the number of an item or branch; 0 of any other step.
func (s StepID) ItemNumber() int {
	last := s.last()
	if elementOf(last) != item {
		return 0
	}
	n, _ := strconv.Atoi(last[1:]) // elementOf has seen it
	return n
}

// element is a kind of element of a step.
type element int

const (
	start element = iota
	root
	turn
	call
	leg
	item
	guardrail
	hook
)

// follows says what each kind of element may follow.
var follows = map[element][]element{
	root: {start},
	turn: {start, call, leg, item, guardrail, hook},
	hook: {start, call, leg, item},
	call: {turn},
	leg:  {root, call, leg, item},
	item: {leg},

	guardrail: {turn},
}

// elementOf gives the kind of an element; start is none.
func elementOf(e string) element {
	if e == string(Root) {
		return root
	}
	name, n, isLeg := strings.Cut(e, ":")
	kind := leg
	if !isLeg {
		kind = map[byte]element{'t': turn, 'c': call, 'i': item, 'g': guardrail, 'h': hook}[(e + " ")[0]]
		n = strings.TrimLeft(e, "tcigh")
		name = e[:len(e)-len(n)]
		if len(name) != 1 {
			return start
		}
	}
	if v, err := strconv.Atoi(n); err != nil || v < 0 || n != strconv.Itoa(v) || (isLeg && !legName.MatchString(name)) {
		return start
	}
	return kind
}

var legName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Check says what is wrong with a step's form; nil if nothing is.
func (s StepID) Check() error {
	if s == "" || s == LimitTimer {
		return nil
	}
	before := start
	for _, e := range strings.Split(string(s), ".") {
		kind := elementOf(e)
		if !slices.Contains(follows[kind], before) {
			return fmt.Errorf("%q is not a step: %q cannot stand there", string(s), e)
		}
		before = kind
	}
	return nil
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
