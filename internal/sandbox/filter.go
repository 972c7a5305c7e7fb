//go:build linux

package sandbox

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"
)

// archs are the names that the kernel has for the processors whose system calls
// the filter knows.
var archs = map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64}

// What the filter answers to a system call.
const (
	refuse  = unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM)
	deny    = unix.SECCOMP_RET_ERRNO | uint32(unix.EACCES) // as Landlock answers
	unknown = unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS) // what can be done without: programs turn to older calls
	without = unix.SECCOMP_RET_ERRNO | uint32(unix.EOPNOTSUPP)
	ask     = unix.SECCOMP_RET_USER_NOTIF // the guard answers
	allow   = unix.SECCOMP_RET_ALLOW
	kill    = unix.SECCOMP_RET_KILL_PROCESS
)

// rule is an answer to system calls, where all that is said of their arguments holds.
type rule struct {
	answer uint32
	calls  []uint32
	if_    []test
}

// test is of the lower half of an argument, or of its upper half.
type test struct {
	arg   uint32
	upper bool
	op    uint16 // BPF_JEQ or BPF_JSET
	not   bool
	value uint32
}

func is(arg, value uint32) test    { return test{arg: arg, op: unix.BPF_JEQ, value: value} }
func isNot(arg, value uint32) test { return test{arg: arg, op: unix.BPF_JEQ, value: value, not: true} }
func has(arg, bits uint32) test    { return test{arg: arg, op: unix.BPF_JSET, value: bits} }
func hasNo(arg, bits uint32) test {
	return test{arg: arg, op: unix.BPF_JSET, value: bits, not: true}
}

// From asm-generic/sockios.h: who gets the signals of a socket.
const (
	fioSetOwn   = 0x8901
	sioSetGroup = 0x8902
)

const namespaces = unix.CLONE_NEWNS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWUTS | unix.CLONE_NEWIPC | unix.CLONE_NEWUSER | unix.CLONE_NEWPID | unix.CLONE_NEWNET

// rules are the system calls with which a program could go around the other
// bounds, reach what is not its own, or leave something behind.
func rules(net network) []rule {
	rs := []rule{
		// no session of its own, in which it could hide from its groups, no namespace
		{refuse, []uint32{unix.SYS_SETSID, unix.SYS_UNSHARE, unix.SYS_SETNS}, nil},
		{refuse, []uint32{unix.SYS_CLONE}, []test{has(0, namespaces|unix.CLONE_PARENT)}}, // nor a child of the service's
		{unknown, []uint32{unix.SYS_CLONE3}, nil},                                        // its flags are out of the filter's sight
		start,
		{ask, []uint32{unix.SYS_SETPGID}, []test{{arg: 1, upper: true, op: unix.BPF_JEQ, value: ^uint32(0)}}},   // of a negative number
		{kill, []uint32{unix.SYS_SETPGID}, []test{{arg: 1, upper: true, op: unix.BPF_JSET, value: ^uint32(0)}}}, // a guess at the word
		{ask, []uint32{unix.SYS_SETPGID}, nil},

		// other processes, and the thread that starts the program, which has the same
		// bounds, so that Landlock does not part the two: no signal to them by any way,
		// no look into them, no change of their limits
		{allow, []uint32{unix.SYS_TGKILL}, []test{is(0, uint32(os.Getpid())), is(2, uint32(unix.SIGURG))}}, // which our runtime sends itself, also from that thread
		{ask, []uint32{unix.SYS_KILL, unix.SYS_TGKILL}, nil},
		{refuse, []uint32{unix.SYS_TKILL, unix.SYS_RT_SIGQUEUEINFO, unix.SYS_RT_TGSIGQUEUEINFO, unix.SYS_PIDFD_SEND_SIGNAL, unix.SYS_PIDFD_GETFD, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV,
			unix.SYS_PERF_EVENT_OPEN, unix.SYS_IOPRIO_SET}, nil},
		{refuse, []uint32{unix.SYS_FCNTL}, []test{is(1, unix.F_SETOWN)}},
		{refuse, []uint32{unix.SYS_FCNTL}, []test{is(1, unix.F_SETOWN_EX)}},
		{refuse, []uint32{unix.SYS_IOCTL}, []test{is(1, fioSetOwn)}},
		{refuse, []uint32{unix.SYS_IOCTL}, []test{is(1, sioSetGroup)}},
		// only what lets that thread hold the program until its limits are set
		{refuse, []uint32{unix.SYS_PTRACE}, []test{isNot(0, unix.PTRACE_TRACEME), isNot(0, unix.PTRACE_DETACH)}},
		{refuse, []uint32{unix.SYS_PRLIMIT64, unix.SYS_SCHED_SETAFFINITY, unix.SYS_SCHED_SETSCHEDULER, unix.SYS_SCHED_SETPARAM, unix.SYS_SCHED_SETATTR, unix.SYS_SETPRIORITY}, []test{isNot(0, 0)}},
		{refuse, []uint32{unix.SYS_SETPRIORITY}, []test{isNot(1, 0)}},

		{refuse, []uint32{unix.SYS_BPF, unix.SYS_KEYCTL, unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_FANOTIFY_INIT, unix.SYS_USERFAULTFD}, nil},

		// memory that is nobody's, or stays when the program is gone
		{unknown, []uint32{unix.SYS_SHMGET, unix.SYS_MSGGET, unix.SYS_SEMGET, unix.SYS_MQ_OPEN, unix.SYS_MQ_UNLINK, unix.SYS_MEMFD_CREATE, unix.SYS_MEMFD_SECRET}, nil},
		{unknown, []uint32{unix.SYS_IO_URING_SETUP}, nil}, // system calls that no filter sees

		// files: of what Landlock leaves free, changes are made by the guard, in the
		// program's own folders alone
		{without, []uint32{unix.SYS_SETXATTR, unix.SYS_LSETXATTR, unix.SYS_FSETXATTR, unix.SYS_REMOVEXATTR, unix.SYS_LREMOVEXATTR, unix.SYS_FREMOVEXATTR, unix.SYS_SETXATTRAT, unix.SYS_REMOVEXATTRAT, unix.SYS_FILE_SETATTR}, nil},
		{unknown, []uint32{unix.SYS_OPENAT2}, nil},
		{deny, []uint32{unix.SYS_OPENAT}, []test{hasNo(2, unix.O_ACCMODE), has(2, unix.O_TRUNC)}},
		{refuse, []uint32{unix.SYS_OPENAT}, []test{has(2, unix.O_CREAT), has(3, unix.S_ISUID|unix.S_ISGID)}},
		{refuse, []uint32{unix.SYS_MKNODAT}, []test{has(2, unix.S_ISUID|unix.S_ISGID)}},
	}
	rs = append(rs, sockets(net)...)
	if !layRights() { // what else root's rights are needed for
		rs = append(rs, rule{refuse, []uint32{unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_CHROOT, unix.SYS_OPEN_TREE, unix.SYS_MOVE_MOUNT, unix.SYS_FSOPEN, unix.SYS_REBOOT, unix.SYS_INIT_MODULE,
			unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_SETTIMEOFDAY, unix.SYS_CLOCK_SETTIME, unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_ACCT, unix.SYS_SETHOSTNAME,
			unix.SYS_SETDOMAINNAME, unix.SYS_QUOTACTL, unix.SYS_OPEN_BY_HANDLE_AT}, nil})
	}
	for nr := range changes {
		rs = append(rs, rule{ask, []uint32{nr}, nil})
	}
	if h, _ := control(); h == nil {
		rs = append(rs, forks()...)
	}
	return append(rs, older...)
}

// sockets are the rules about the network. Landlock knows of TCP alone, and not of all ways
// to connect. Local sockets are those of other programs, which are no files of this one's
// own; it may have a pair of them, of a kind that cannot be led elsewhere afterwards.
func sockets(net network) []rule {
	rs := []rule{{deny, []uint32{unix.SYS_SOCKETPAIR}, []test{has(1, unix.SOCK_DGRAM)}}}
	if net == none {
		return append(rs, rule{deny, []uint32{unix.SYS_SOCKET}, nil})
	}
	rs = append(rs,
		rule{ask, []uint32{unix.SYS_CONNECT}, nil},
		rule{without, []uint32{unix.SYS_SENDTO, unix.SYS_SENDMMSG}, []test{has(3, unix.MSG_FASTOPEN)}}, // connects too
		rule{without, []uint32{unix.SYS_SENDMSG}, []test{has(2, unix.MSG_FASTOPEN)}})
	if net == whole {
		return append(rs, rule{deny, []uint32{unix.SYS_SOCKET}, []test{isNot(0, unix.AF_INET), isNot(0, unix.AF_INET6), isNot(0, unix.AF_NETLINK)}})
	}
	const others = 0xf &^ unix.SOCK_STREAM // of the kinds of sockets
	for _, family := range []uint32{unix.AF_INET, unix.AF_INET6} {
		rs = append(rs, rule{ask, []uint32{unix.SYS_SOCKET}, []test{is(0, family), has(1, unix.SOCK_DGRAM), hasNo(1, 0xf&^unix.SOCK_DGRAM)}})
		for _, protocol := range []uint32{0, unix.IPPROTO_TCP} {
			rs = append(rs, rule{allow, []uint32{unix.SYS_SOCKET}, []test{is(0, family), has(1, unix.SOCK_STREAM), hasNo(1, others), is(2, protocol)}})
		}
	}
	return append(rs,
		rule{allow, []uint32{unix.SYS_SOCKET}, []test{is(0, unix.AF_NETLINK), is(2, unix.NETLINK_ROUTE)}}, // which addresses the machine has
		rule{deny, []uint32{unix.SYS_SOCKET}, nil},
		rule{deny, []uint32{unix.SYS_LISTEN}, nil})
}

func stmt(code uint16, k uint32) unix.SockFilter { return unix.SockFilter{Code: code, K: k} }

func load(offset uint32) unix.SockFilter {
	return stmt(unix.BPF_LD|unix.BPF_W|unix.BPF_ABS, offset)
}

func answer(a uint32) unix.SockFilter { return stmt(unix.BPF_RET|unix.BPF_K, a) }

func jump(op uint16, value uint32, yes, no int) unix.SockFilter {
	return unix.SockFilter{Code: unix.BPF_JMP | op | unix.BPF_K, Jt: uint8(yes), Jf: uint8(no), K: value}
}

// The offsets of the kernel's struct seccomp_data.
const (
	number = 0
	arch   = 4
	args   = 16
)

// assemble makes the filter's program of rules; of those of a call the first that
// holds answers. Calls are searched for by halves: the kernel runs the program for
// every call there is when it is set, which is at every start of a program.
func assemble(rs []rule) []unix.SockFilter {
	of := map[uint32][]rule{}
	for _, r := range rs {
		for _, nr := range r.calls {
			of[nr] = append(of[nr], r)
		}
	}
	p := []unix.SockFilter{load(arch), jump(unix.BPF_JEQ, archs[runtime.GOARCH], 1, 0), answer(kill), load(number)}
	if runtime.GOARCH == "amd64" { // a second set of numbers (x32) would pass by what follows
		p = append(p, jump(unix.BPF_JGE, 0x40000000, 0, 1), answer(unknown))
	}
	return append(p, search(slices.Sorted(maps.Keys(of)), of)...)
}

// search answers for some calls, which are sorted; all others are allowed.
func search(calls []uint32, of map[uint32][]rule) []unix.SockFilter {
	if len(calls) > 6 {
		half := len(calls) / 2
		low, high := search(calls[:half], of), search(calls[half:], of)
		p := []unix.SockFilter{jump(unix.BPF_JGE, calls[half], len(low), 0)}
		if len(low) > 255 { // as far as a jump of two ways reaches
			p = []unix.SockFilter{jump(unix.BPF_JGE, calls[half], 0, 1), stmt(unix.BPF_JMP|unix.BPF_JA, uint32(len(low)))}
		}
		return append(append(p, low...), high...)
	}
	var p []unix.SockFilter
	tail := []unix.SockFilter{answer(allow)}
	at := map[uint32]int{} // where in the tail an answer stands
	for n, nr := range calls {
		rs := of[nr]
		to, ok := at[rs[0].answer]
		if !ok || len(rs[0].if_) > 0 {
			to = len(tail)
			for _, r := range rs {
				tail = append(tail, r.code()...)
			}
			if len(rs[len(rs)-1].if_) > 0 {
				tail = append(tail, answer(allow))
			} else if len(rs) == 1 {
				at[rs[0].answer] = to
			}
		}
		p = append(p, jump(unix.BPF_JEQ, nr, len(calls)-n-1+to, 0))
	}
	return append(p, tail...)
}

// code answers where all tests of a rule hold, and goes on behind itself else.
func (r *rule) code() []unix.SockFilter {
	var p []unix.SockFilter
	for n, t := range r.if_ {
		offset := args + 8*t.arg
		if t.upper {
			offset += 4
		}
		yes, no := 0, 2*(len(r.if_)-n-1)+1
		if t.not {
			yes, no = no, yes
		}
		p = append(p, load(offset), jump(t.op, t.value, yes, no))
	}
	return append(p, answer(r.answer))
}

// programs are the filters, made when the first of a kind is needed.
var programs = map[network]func() []unix.SockFilter{none: assembled(none), named: assembled(named), whole: assembled(whole)}

func assembled(net network) func() []unix.SockFilter {
	return sync.OnceValue(func() []unix.SockFilter { return assemble(rules(net)) })
}

// placeholder stands in a program for the number of a start.
const placeholder = 0x5b5b5b5b

// forks are the rules about calls that start a process or a thread, where the guard counts
// them. That by which the program itself starts is let through, as in start.
func forks() []rule {
	word := test{arg: 0, upper: true, op: unix.BPF_JEQ, value: placeholder}
	return append([]rule{
		{allow, []uint32{unix.SYS_CLONE}, []test{word}},
		{ask, []uint32{unix.SYS_CLONE}, []test{{arg: 0, upper: true, op: unix.BPF_JEQ, value: ^uint32(0)}}},
		{kill, []uint32{unix.SYS_CLONE}, []test{{arg: 0, upper: true, op: unix.BPF_JSET, value: ^uint32(0)}}},
		{ask, []uint32{unix.SYS_CLONE}, nil},
	}, olderForks...)
}

// start lets one call of setpgid through without asking: that with which a program
// gets a group of its own before it begins. At that moment nobody can answer, since
// the whole runtime waits for the start. It is known by a number, another each time,
// in the half of the argument that the kernel does not look at. Who guesses another
// than 0 is ended.
var start = rule{allow, []uint32{unix.SYS_SETPGID}, []test{is(0, 0), is(1, 0), {arg: 1, upper: true, op: unix.BPF_JEQ, value: placeholder}}}

// filter refuses system calls to this thread and what it starts. It gives the
// descriptor by which the guard is asked, and the word with which a program starts, in
// the upper half of an argument.
func filter(net network) (listener, word int, err error) {
	code := slices.Clone(programs[net]())
	drawn := rand.Uint32() | 1 // never the 0 that a program gives
	for n := range code {
		if code[n].K == placeholder {
			code[n].K = drawn
		}
	}
	f := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	set := func(flags uintptr) (uintptr, unix.Errno) {
		fd, _, no := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_NEW_LISTENER|flags, uintptr(unsafe.Pointer(&f)))
		return fd, no
	}
	// a signal does not break off what the guard has begun; older kernels do not know of it
	fd, no := set(unix.SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV)
	if no == unix.EINVAL {
		fd, no = set(0)
	}
	if no != 0 {
		return -1, 0, fmt.Errorf("the sandbox cannot be entered: the filter of system calls: %w", no)
	}
	return int(fd), int(uint64(drawn) << 32), nil
}
