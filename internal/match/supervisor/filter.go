//go:build linux && amd64

package supervisor

import (
	"maps"
	"slices"

	"golang.org/x/sys/unix"
)

// filter is the program that the kernel runs at each system call of a supervised process: it lets those pass that are
// allowed, and has the supervisor told of all others: of those that wait for time, read a clock, draw chance, make
// processes, or name ports, and of what nobody knows. With one thread at a time, also of waits for memory without a
// limit, so that one thread of a process runs at a time. Those that send to an address are asked of if the match is
// not alone in its network. See seccomp(2) and bpf(4).
func filter(w ways) []unix.SockFilter {
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
	list := []unix.SockFilter{load(archAt), is(unix.AUDIT_ARCH_X86_64, 1, 0), end(notify), load(numberAt)}
	// call is a block of its own for one system call, that ends in any case.
	call := func(number uint32, body ...unix.SockFilter) {
		list = append(append(list, is(number, 0, uint8(len(body)))), body...)
	}

	// Those that come most often first. Of futex the waits with a time-out and all that wakes.
	told := []uint32{futexWake, futexWakeBits, futexRequeue, futexCompareRequeue, futexWakeOp}
	if w.oneThread {
		told = append(told, futexWait, futexWaitBits)
	}
	futex := []unix.SockFilter{low(1), and(futexOperation)}
	for i, op := range told {
		futex = append(futex, is(op, uint8(len(told)-i-1+5), 0))
	}
	call(unix.SYS_FUTEX, append(futex, low(3), is(0, 0, 3), high(3), is(0, 0, 1), end(pass), end(notify))...)
	call(unix.SYS_SETSOCKOPT, low(1), is(unix.SOL_SOCKET, 1, 0), end(pass), low(2),
		is(unix.SO_RCVTIMEO, 4, 0), is(unix.SO_SNDTIMEO, 3, 0), is(unix.SO_RCVTIMEO_NEW, 2, 0), is(unix.SO_SNDTIMEO_NEW, 1, 0), end(pass), end(notify))
	for _, number := range slices.Sorted(maps.Keys(handlers)) {
		switch number {
		case unix.SYS_FUTEX, unix.SYS_SETSOCKOPT, unix.SYS_WRITE, unix.SYS_WRITEV:
		case unix.SYS_SENDTO, unix.SYS_SENDMSG, unix.SYS_SENDMMSG: // hardly ever to somebody who is not there, and very often
			if w.alone && !w.drawn {
				call(uint32(number), end(pass))
				break
			}
			fallthrough
		default:
			call(uint32(number), end(notify))
		}
	}
	if w.drawn {
		call(unix.SYS_WRITE, end(notify))
		call(unix.SYS_WRITEV, end(notify))
	}
	for _, number := range slices.Sorted(maps.Keys(refused)) {
		call(uint32(number), end(unix.SECCOMP_RET_ERRNO|uint32(refused[number])))
	}
	sorted := slices.Sorted(slices.Values(allowed))
	for i := 0; i < len(sorted); { // one comparison for each stretch of numbers
		first, next := sorted[i], sorted[i]+1
		for i++; i < len(sorted) && sorted[i] == next; i++ {
			next++
		}
		list = append(list, atLeast(uint32(first), 0, 2), atLeast(uint32(next), 1, 0), end(pass))
	}
	return append(list, end(notify))
}
