//go:build linux

package sandbox

import "golang.org/x/sys/unix"

// older are the calls that newer processors do without.
var older = []rule{
	{unknown, []uint32{unix.SYS_UTIME, unix.SYS_UTIMES, unix.SYS_FUTIMESAT}, nil},
	{deny, []uint32{unix.SYS_OPEN}, []test{hasNo(1, unix.O_ACCMODE), has(1, unix.O_TRUNC)}},
	{refuse, []uint32{unix.SYS_OPEN}, []test{has(1, unix.O_CREAT), has(2, unix.S_ISUID|unix.S_ISGID)}},
	{refuse, []uint32{unix.SYS_CREAT, unix.SYS_MKNOD}, []test{has(1, unix.S_ISUID|unix.S_ISGID)}},
}

// olderForks likewise, of those that start a process.
var olderForks = []rule{{ask, []uint32{unix.SYS_FORK, unix.SYS_VFORK}, nil}}

func init() {
	changes[unix.SYS_CHMOD] = change{what: mode, base: -1, path: 0, value: 1, flags: -1}
	changes[unix.SYS_CHOWN] = change{what: owner, base: -1, path: 0, value: 1, flags: -1}
	changes[unix.SYS_LCHOWN] = change{what: owner, base: -1, path: 0, value: 1, flags: -1, link: true}
}
