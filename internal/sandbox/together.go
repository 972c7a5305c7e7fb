//go:build linux

package sandbox

import (
	"fmt"
	"sync"

	"golang.org/x/sys/unix"
)

// together is what all programs of this service may have, and those that the guard counts.
var together = struct {
	mu        sync.Mutex
	processes int
	memory    int64
	counted   map[*count]bool
	used      map[*watch]int64 // of memory, by those that no control group bounds
}{processes: 1000, memory: half(), counted: map[*count]bool{}, used: map[*watch]int64{}}

// half is half of the machine's memory.
func half() int64 {
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) != nil {
		return 4 << 30
	}
	return int64(uint64(info.Totalram)*uint64(info.Unit)) / 2
}

// Together bounds all programs of this service in the sandbox: the processes (each thread is
// one) and the bytes of memory that they have at a time. A number that is 0 stays as it is.
func Together(processes int, memory int64) error {
	together.mu.Lock()
	if processes > 0 {
		together.processes = processes
	}
	if memory > 0 {
		together.memory = memory
	}
	together.mu.Unlock()
	if h, _ := control(); h != nil {
		return h.limit()
	}
	return nil
}

// uses notes what a program uses of memory. It gives what all use and may use; where it is not
// this program that uses the most, all is 0.
func uses(w *watch, rss int64) (all, most int64) {
	together.mu.Lock()
	defer together.mu.Unlock()
	together.used[w] = rss
	for _, n := range together.used {
		if all += n; n > rss {
			return 0, together.memory
		}
	}
	return all, together.memory
}

// unused forgets a program that has ended.
func unused(w *watch) {
	together.mu.Lock()
	defer together.mu.Unlock()
	delete(together.used, w)
}

// Bounds says in a sentence what keeps programs to their bounds on processes and memory here.
func Bounds() string {
	together.mu.Lock()
	all := fmt.Sprintf("at most %d processes and %d MB for all programs together", together.processes, together.memory>>20)
	together.mu.Unlock()
	h, why := control()
	switch {
	case Missing() != "":
		return "No program runs in the sandbox: " + Missing() + "."
	case h == nil:
		return fmt.Sprintf("Programs are bounded by the sandbox's guard, which is asked before each process (%s), and by limits of memory for each process; what all use is looked at: %s.", why, all)
	case h.memory == "":
		return fmt.Sprintf("Programs are bounded by control groups (version %d) for processes, and by limits of memory for each process; what all use is looked at: %s.", h.version, all)
	}
	return fmt.Sprintf("Programs are bounded by control groups (version %d): %s.", h.version, all)
}

// ordinal writes a number as in "the 33rd process".
func ordinal(n int) string {
	end := "th"
	if n/10%10 != 1 {
		switch n % 10 {
		case 1:
			end = "st"
		case 2:
			end = "nd"
		case 3:
			end = "rd"
		}
	}
	return fmt.Sprint(n) + end
}

// article is the one that goes before an ordinal in digits.
func article(n int) string {
	if n == 8 || n == 11 || n == 18 || n/10 == 8 || n/100 == 8 || n/1000 == 8 || n/1000 == 11 || n/1000 == 18 {
		return "an"
	}
	return "a"
}

// tooMany tells a program's end at its bound on processes.
func tooMany(bound int) string {
	return fmt.Sprintf("it asked for %s %s process; %d are allowed (a thread is one, too)", article(bound+1), ordinal(bound+1), bound)
}

// tooManyTogether tells it at the bound of all programs.
func tooManyTogether() string {
	together.mu.Lock()
	defer together.mu.Unlock()
	return fmt.Sprintf("all programs of this service together had %d processes, which is as many as they may have", together.processes)
}
