//go:build linux && amd64

package supervisor

import (
	"maps"
	"slices"

	"golang.org/x/sys/unix"
)

// filter is the program that the kernel runs at each system call of a supervised process:
// it lets most pass, and has the supervisor told of those that wait for time, read a clock,
// draw chance, make processes, or name ports. With all, also of waits for memory without a limit,
// so that one thread of a process runs at a time. See seccomp(2) and bpf(4).
func filter(all bool) []unix.SockFilter {
	const (
		pass   = unix.SECCOMP_RET_ALLOW
		notify = unix.SECCOMP_RET_USER_NOTIF
	)
	load := func(at uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: at}
	}
	low := func(arg uint32) unix.SockFilter { return load(16 + 8*arg) }
	high := func(arg uint32) unix.SockFilter { return load(20 + 8*arg) }
	is := func(k uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, Jt: yes, Jf: no, K: k}
	}
	atLeast := func(k uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JGE | unix.BPF_K, Jt: yes, Jf: no, K: k}
	}
	and := func(k uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_ALU | unix.BPF_AND | unix.BPF_K, K: k}
	}
	end := func(k uint32) unix.SockFilter { return unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: k} }

	const archAt, numberAt = 4, 0
	list := []unix.SockFilter{load(archAt), is(unix.AUDIT_ARCH_X86_64, 1, 0), end(pass), load(numberAt)}
	// call is a block of its own for one system call, that ends in any case.
	call := func(number uint32, body ...unix.SockFilter) {
		list = append(append(list, is(number, 0, uint8(len(body)))), body...)
	}
	unlessZero := func(arg uint32) []unix.SockFilter { // a time-out of 0 does not wait
		return []unix.SockFilter{low(arg), is(0, 0, 1), end(pass), end(notify)}
	}

	// Those that come most often first. Of futex the waits with a time-out and all that wakes.
	if all {
		call(unix.SYS_FUTEX,
			low(1), and(127),
			is(futexWait, 8, 0), is(futexWaitBits, 7, 0), is(futexWake, 6, 0), is(futexWakeBits, 5, 0), is(futexRequeue, 4, 0), is(futexCompareRequeue, 3, 0), is(futexWakeOp, 2, 0),
			end(pass), end(pass), end(notify))
	} else {
		call(unix.SYS_FUTEX,
			low(1), and(127),
			is(futexWake, 9, 0), is(futexWakeBits, 8, 0), is(futexRequeue, 7, 0), is(futexCompareRequeue, 6, 0), is(futexWakeOp, 5, 0),
			low(3), is(0, 0, 3), high(3), is(0, 0, 1), end(pass), end(notify))
	}
	call(unix.SYS_EPOLL_WAIT, unlessZero(3)...)
	call(unix.SYS_EPOLL_PWAIT, unlessZero(3)...)
	call(unix.SYS_POLL, unlessZero(2)...)
	// Clocks of processor time (2, 3 and those of other processes and threads) stay real.
	call(unix.SYS_CLOCK_GETTIME, low(0), atLeast(12, 0, 1), end(pass), is(2, 1, 0), is(3, 0, 1), end(pass), end(notify))
	call(unix.SYS_SETSOCKOPT, low(1), is(unix.SOL_SOCKET, 1, 0), end(pass), low(2), is(unix.SO_RCVTIMEO, 2, 0), is(unix.SO_SNDTIMEO, 1, 0), end(pass), end(notify))
	for _, number := range slices.Sorted(maps.Keys(handlers)) {
		switch number {
		case unix.SYS_FUTEX, unix.SYS_EPOLL_WAIT, unix.SYS_EPOLL_PWAIT, unix.SYS_POLL, unix.SYS_CLOCK_GETTIME, unix.SYS_SETSOCKOPT:
		default:
			call(uint32(number), end(notify))
		}
	}
	for _, number := range slices.Sorted(maps.Keys(notVirtual)) {
		call(uint32(number), end(notify))
	}
	call(unix.SYS_IO_URING_SETUP, end(unix.SECCOMP_RET_ERRNO|uint32(unix.ENOSYS))) // whoever uses it can do without
	return append(list, end(pass))
}
