//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// decide runs the filter over a call, as the kernel would.
func decide(t *testing.T, all bool, arch uint32, nr int, args ...uint64) uint32 {
	t.Helper()
	var raw []bpf.RawInstruction
	for _, i := range filter(ways{oneThread: all, alone: true}) {
		raw = append(raw, bpf.RawInstruction{Op: i.Code, Jt: i.Jt, Jf: i.Jf, K: i.K})
	}
	list, ok := bpf.Disassemble(raw)
	require.True(t, ok)
	vm, err := bpf.NewVM(list)
	require.NoError(t, err)
	// struct seccomp_data, whose words the kernel loads as they are and this machine as of a packet: turned.
	data := make([]byte, 64)
	word := func(at int, v uint32) { binary.BigEndian.PutUint32(data[at:], v) }
	word(0, uint32(nr))
	word(4, arch)
	for i, a := range args {
		word(16+8*i, uint32(a))
		word(20+8*i, uint32(a>>32))
	}
	out, err := vm.Run(data)
	require.NoError(t, err)
	return uint32(out)
}

func TestTheFilterAsksOfWhatWaitsAndLetsTheRestPass(t *testing.T) {
	const pass, asks, private = uint32(unix.SECCOMP_RET_ALLOW), uint32(unix.SECCOMP_RET_USER_NOTIF), 128
	const missing = unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS)
	const far = 1 << 40 // an address whose lower half is 0
	for name, c := range map[string]struct {
		nr        int
		args      []uint64
		want, all uint32 // many threads, and one at a time
	}{
		"a read passes":                                     {unix.SYS_READ, []uint64{3, 4096, 10}, pass, pass},
		"a sleep asks":                                      {unix.SYS_NANOSLEEP, []uint64{4096}, asks, asks},
		"a wait for descriptors asks":                       {unix.SYS_EPOLL_WAIT, []uint64{5, 4096, 10, 250}, asks, asks},
		"one without an end asks":                           {unix.SYS_EPOLL_PWAIT, []uint64{5, 4096, 10, 1<<64 - 1}, asks, asks},
		"one that does not wait asks, to be counted":        {unix.SYS_EPOLL_WAIT, []uint64{5, 4096, 10, 0}, asks, asks},
		"poll that does not wait asks":                      {unix.SYS_POLL, []uint64{4096, 1, 0}, asks, asks},
		"poll that waits asks":                              {unix.SYS_POLL, []uint64{4096, 1, 5}, asks, asks},
		"a clock of the day asks":                           {unix.SYS_CLOCK_GETTIME, []uint64{unix.CLOCK_REALTIME, 4096}, asks, asks},
		"a clock of processor time asks":                    {unix.SYS_CLOCK_GETTIME, []uint64{unix.CLOCK_PROCESS_CPUTIME_ID, 4096}, asks, asks},
		"a clock of another's processor time asks":          {unix.SYS_CLOCK_GETTIME, []uint64{0xfffffff6, 4096}, asks, asks},
		"a lock that inherits priority, with a limit, asks": {unix.SYS_FUTEX, []uint64{4096, futexLock | private, 0, 8192}, asks, asks},
		"one without a limit passes":                        {unix.SYS_FUTEX, []uint64{4096, futexLock | private, 0, 0}, pass, pass},
		"opening a file asks":                               {unix.SYS_OPENAT, []uint64{0xffffff9c, 4096, 0}, asks, asks},
		"a limit of receiving of the newer kind asks":       {unix.SYS_SETSOCKOPT, []uint64{3, unix.SOL_SOCKET, unix.SO_RCVTIMEO_NEW, 4096, 16}, asks, asks},
		"the newer calls of futex are not there":            {unix.SYS_FUTEX_WAIT, []uint64{4096, 0}, missing, missing},
		"a call that nobody knows asks, to be named":        {unix.SYS_REBOOT, nil, asks, asks},
		"so does one beyond all that there are":             {999, nil, asks, asks},
		"and one in the way of x32":                         {0x40000000 | unix.SYS_READ, nil, asks, asks},
		"a lock with a limit asks":                          {unix.SYS_FUTEX, []uint64{4096, futexWait | private, 0, 8192}, asks, asks},
		"one whose limit lies high in memory asks":          {unix.SYS_FUTEX, []uint64{4096, futexWaitBits, 0, far}, asks, asks},
		"a lock without a limit asks where one may run":     {unix.SYS_FUTEX, []uint64{4096, futexWait | private, 0, 0}, pass, asks},
		"so does one with bits":                             {unix.SYS_FUTEX, []uint64{4096, futexWaitBits | private, 0, 0}, pass, asks},
		"waking asks":                                       {unix.SYS_FUTEX, []uint64{4096, futexWake | private, 1}, asks, asks},
		"waking by bits asks":                               {unix.SYS_FUTEX, []uint64{4096, futexWakeBits, 1}, asks, asks},
		"moving those that wait asks":                       {unix.SYS_FUTEX, []uint64{4096, futexRequeue, 1}, asks, asks},
		"so it does after a comparison":                     {unix.SYS_FUTEX, []uint64{4096, futexCompareRequeue, 1}, asks, asks},
		"waking with an operation asks":                     {unix.SYS_FUTEX, []uint64{4096, futexWakeOp | private, 1}, asks, asks},
		"a limit of receiving asks":                         {unix.SYS_SETSOCKOPT, []uint64{3, unix.SOL_SOCKET, unix.SO_RCVTIMEO, 4096, 16}, asks, asks},
		"a limit of sending asks":                           {unix.SYS_SETSOCKOPT, []uint64{3, unix.SOL_SOCKET, unix.SO_SNDTIMEO, 4096, 16}, asks, asks},
		"another option of a socket passes":                 {unix.SYS_SETSOCKOPT, []uint64{3, unix.SOL_SOCKET, unix.SO_REUSEADDR, 4096, 4}, pass, pass},
		"an option of a protocol with that number passes":   {unix.SYS_SETSOCKOPT, []uint64{3, unix.IPPROTO_TCP, unix.SO_RCVTIMEO, 4096, 4}, pass, pass},
		"random bytes ask":                                  {unix.SYS_GETRANDOM, []uint64{4096, 16, 0}, asks, asks},
		"becoming another program asks":                     {unix.SYS_EXECVE, []uint64{4096, 0, 0}, asks, asks},
		"what is not on the virtual clock asks, to be told": {unix.SYS_SEMTIMEDOP, []uint64{1, 4096, 1, 8192}, asks, asks},
		"the ring of the kernel is not there":               {unix.SYS_IO_URING_SETUP, []uint64{8, 4096}, missing, missing},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, decide(t, false, unix.AUDIT_ARCH_X86_64, c.nr, c.args...))
			assert.Equal(t, c.all, decide(t, true, unix.AUDIT_ARCH_X86_64, c.nr, c.args...))
		})
	}
	assert.Equal(t, asks, decide(t, true, unix.AUDIT_ARCH_I386, unix.SYS_READ), "calls of another processor have other numbers")
}

func TestEveryCallThatIsHandledIsAskedOf(t *testing.T) {
	const asks = uint32(unix.SECCOMP_RET_USER_NOTIF)
	for nr := range handlers {
		if nr == unix.SYS_WRITE || nr == unix.SYS_WRITEV || nr == unix.SYS_SENDTO || nr == unix.SYS_SENDMSG || nr == unix.SYS_SENDMMSG { // where a match is not alone, or the order is drawn
			continue
		}
		args := []uint64{0, 1, 20, 1}
		if nr == unix.SYS_FUTEX {
			args[1] = futexWake
		}
		assert.Equal(t, asks, decide(t, true, unix.AUDIT_ARCH_X86_64, nr, args...), "call %d", nr)
		assert.NotContains(t, notVirtual, nr)
		if nr != unix.SYS_WRITE && nr != unix.SYS_WRITEV {
			assert.NotContains(t, allowed, nr)
		}
		assert.NotContains(t, refused, nr)
	}
}
