//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// Where a program's memory lies is not left to the kernel's chance (its randomization is off) and is not the same for
// all either: engines make ids of addresses. Where the stack, the heap and what is mapped begin follows from the seed
// and the process, and from nothing else: neither from the length of its environment nor from the limits of the
// shell.

const (
	stackTop      = 0x7ffffffff000
	usualStack    = 8 << 20
	leastGap      = 128 << 20 // the kernel takes no smaller stack limit for the place where mappings begin, see mmap_base
	mostGapPages  = 1 << 18
	mostHeapPages = 1 << 13
	stackRoom     = 64 << 10 // for arguments and environment
	mostStackStep = 1 << 11  // of 16 bytes
)

// layout is where a process's memory begins.
type layout struct{ gap, heap, stack uint64 }

// drawLayout draws that of the program that a process becomes next. It is the same however often the process has to
// ask: a signal may break the call.
func (s *Supervisor) drawLayout(p *proc) layout {
	from := chance{s.options.Seed*0xd1342543de82ef95 + uint64(p.number+1)*0x9e3779b97f4a7c15 + uint64(p.begun)}
	var b [24]byte
	from.fill(b[:])
	word := func(i int) uint64 { return binary.LittleEndian.Uint64(b[8*i:]) }
	return layout{leastGap + word(0)%mostGapPages*pageSize, word(1) % mostHeapPages * pageSize, 16 * (word(2) % mostStackStep)}
}

// limitStack sets a process's stack limit, by which the kernel places mappings when it becomes another program. Where
// that is not allowed they lie where they lie for all.
func limitStack(pid int, size uint64) {
	var now unix.Rlimit
	if unix.Prlimit(pid, unix.RLIMIT_STACK, nil, &now) == nil {
		now.Cur = min(size, now.Max)
		_ = unix.Prlimit(pid, unix.RLIMIT_STACK, &now, nil)
	}
}

// place puts heap and stack of a program that is stopped at its beginning where they belong. It changes its registers
// to those with which it is to begin.
func (l layout) place(pid int, memory *os.File, registers *unix.PtraceRegs, inject func(nr uint32, args ...uint64) (int64, error)) error {
	limitStack(pid, usualStack)
	at, err := inject(unix.SYS_BRK, 0)
	if err == nil {
		_, err = inject(unix.SYS_BRK, uint64(at)+l.heap)
	}
	if err != nil {
		return fmt.Errorf("placing its heap: %w", err)
	}
	// What the kernel puts on the stack: the arguments' number, pointers to them, 0, pointers to the environment, 0,
	// and pairs of numbers that end with one of 0. All pointers are absolute.
	const most = 256 << 10
	start := registers.Rsp
	block := make([]byte, min(most, stackTop-start))
	n, _ := memory.ReadAt(block, int64(start)) // short at the end of the stack
	block = block[:n]
	word := func(i int) uint64 {
		if 8*i+8 > len(block) {
			return 0
		}
		return binary.LittleEndian.Uint64(block[8*i:])
	}
	i := int(word(0)) + 2
	for 8*i < len(block) && word(i) != 0 {
		i++
	}
	for i++; 8*i < len(block) && word(i) != 0; i += 2 {
	}
	size := uint64(8 * (i + 2))
	to := (stackTop - stackRoom - l.stack) &^ 15
	if size > uint64(len(block)) || to+size > start || start > stackTop { // it has got very much
		return nil
	}
	if _, err := memory.WriteAt(block[:size], int64(to)); err != nil {
		return fmt.Errorf("placing its stack: %w", err)
	}
	registers.Rsp = to
	return nil
}
