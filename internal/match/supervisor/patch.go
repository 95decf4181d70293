//go:build linux && amd64

package supervisor

import (
	"bytes"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// clockCode is what stands in for the functions of the vDSO; clock/clock.c says how it is made.
//
//go:embed clock/clock.bin
var clockCode []byte

// Where it finds itself in a program, and where in it each function begins.
const (
	pageAt    = 0x600000000000
	codeAt    = 0x600000001000
	pageSize  = 4096
	mostPages = 1024
)

var standIns = map[string]uint64{"__vdso_clock_gettime": 0, "__vdso_gettimeofday": 0x100, "__vdso_time": 0x200, "__vdso_getrandom": 0x300, "__vdso_getcpu": 0x400}

// clockPage is what programs read clocks from; see clock/clock.c.
type clockPage struct{ mono, wall, budget int64 }

// pages is a file in memory that supervised processes have in theirs: the code, and behind it
// a clock page for each process.
type pages struct {
	file   int
	memory []byte
}

func (p *pages) make() (err error) {
	if p.file, err = unix.MemfdCreate("zwheel-clock", unix.MFD_CLOEXEC); err != nil {
		return fmt.Errorf("memory for clocks: %w", err)
	}
	const size = pageSize * (mostPages + 1)
	if err := unix.Ftruncate(p.file, size); err != nil {
		return fmt.Errorf("memory for clocks: %w", err)
	}
	if p.memory, err = unix.Mmap(p.file, 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err != nil {
		return fmt.Errorf("memory for clocks: %w", err)
	}
	copy(p.memory, clockCode)
	return nil
}

func (p *pages) of(number int) *clockPage {
	return (*clockPage)(unsafe.Pointer(&p.memory[pageSize*(number+1)]))
}

func (p *pages) close() error {
	closeFd(p.file)
	return unix.Munmap(p.memory)
}

// becameProgram takes in that a process has become another program, stopped at its beginning.
func (s *Supervisor) becameProgram(pid int) {
	delete(s.executing, pid)
	delete(s.traced, pid)
	t := s.threadOf(pid)
	t.catches = false
	p := t.process
	for _, t := range p.threads { // its others are gone
		if t.tid != pid {
			s.ended(t)
		}
	}
	p.unlisted, p.active = true, true
	p.limits, p.lent = map[limit]time.Duration{}, map[uint64]*loan{}
	p.page = s.freshPage(p)
	if err := s.patch(p); err != nil {
		s.failure = fmt.Errorf("%s cannot be put on the virtual clock: %w; play it on the wall clock", p.name, err)
		_ = unix.Kill(pid, unix.SIGKILL) // it would run on real time
	}
	if s.numbers != nil && p.program != nil && !p.started && !s.numbers.hasBegun() {
		s.failure = fmt.Errorf("%s cannot be put on the virtual clock: whoever counts processes has gone", p.name)
	}
	p.started, p.passedFd = true, -1
	p.begun++
	s.happened('e', nil, uint64(p.number))
	_ = unix.PtraceDetach(pid) // if it is gone, so it is
}

// patch gives a program that is stopped at its beginning the clock page, and replaces the
// functions of its vDSO and the random bytes that the kernel has given it.
func (s *Supervisor) patch(p *proc) error {
	aux, err := os.ReadFile(fmt.Sprintf("/proc/%d/auxv", p.pid))
	if err != nil {
		return err
	}
	const (
		auxRandom = 25
		auxVdso   = 33
	)
	var vdso, seed uint64
	for i := 0; i+16 <= len(aux); i += 16 {
		switch binary.LittleEndian.Uint64(aux[i:]) {
		case auxVdso:
			vdso = binary.LittleEndian.Uint64(aux[i+8:])
		case auxRandom:
			seed = binary.LittleEndian.Uint64(aux[i+8:])
		}
	}
	if is64, err := is64bit(p.pid); err != nil || !is64 {
		return errors.Join(errors.New("it is no 64-bit program for this processor"), err)
	}
	if vdso == 0 {
		return errors.New("the kernel gave it no vDSO")
	}
	memory, err := os.OpenFile(fmt.Sprintf("/proc/%d/mem", p.pid), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer memory.Close()
	if s.vdso == nil {
		image := make([]byte, 2*pageSize)
		n, err := memory.ReadAt(image, int64(vdso))
		if n < pageSize {
			return fmt.Errorf("reading the vDSO: %w", err)
		}
		if s.vdso, err = symbols(image[:n]); err != nil {
			return fmt.Errorf("the vDSO: %w", err)
		}
	}
	clock, ok := s.vdso["__vdso_clock_gettime"]
	if !ok {
		return errors.New("the vDSO has no clock_gettime")
	}
	var before unix.PtraceRegs
	if err := unix.PtraceGetRegs(p.pid, &before); err != nil {
		return err
	}
	inject := func(nr uint32, args ...uint64) (int64, error) {
		return s.inject(p.pid, memory, vdso+clock, before, nr, args...)
	}
	for _, m := range []struct {
		at, protection, flags, offset uint64
	}{
		{pageAt, unix.PROT_READ | unix.PROT_WRITE, unix.MAP_SHARED | unix.MAP_FIXED_NOREPLACE, uint64(pageSize * (p.page + 1))},
		{codeAt, unix.PROT_READ | unix.PROT_EXEC, unix.MAP_PRIVATE | unix.MAP_FIXED_NOREPLACE, 0},
	} {
		at, err := inject(unix.SYS_MMAP, m.at, pageSize, m.protection, m.flags, uint64(p.passedFd), m.offset)
		if err == nil && uint64(at) != m.at {
			err = unix.Errno(-at)
		}
		if err != nil {
			return fmt.Errorf("mapping the clock: %w", err)
		}
	}
	if _, err := inject(unix.SYS_CLOSE, uint64(p.passedFd)); err != nil {
		return err
	}
	if err := p.layout.place(p.pid, memory, &before, inject); err != nil {
		return err
	}
	for name, offset := range standIns {
		at, ok := s.vdso[name]
		if !ok {
			continue
		}
		jump := []byte{0x48, 0xb8, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xe0} // mov rax, imm64; jmp rax
		binary.LittleEndian.PutUint64(jump[2:], codeAt+offset)
		if _, err := memory.WriteAt(jump, int64(vdso+at)); err != nil {
			return err
		}
	}
	if seed != 0 {
		var b [16]byte
		p.random.fill(b[:])
		if _, err := memory.WriteAt(b[:], int64(seed)); err != nil {
			return err
		}
	}
	return unix.PtraceSetRegs(p.pid, &before)
}

// inject has a program that is stopped make a system call. The call is written where it will
// be overwritten; its number is loaded by that code, because the return from execve sets the
// register.
func (s *Supervisor) inject(pid int, memory *os.File, at uint64, before unix.PtraceRegs, nr uint32, args ...uint64) (int64, error) {
	code := []byte{0xb8, 0, 0, 0, 0, 0x0f, 0x05, 0xcc} // mov eax, nr; syscall; int3
	binary.LittleEndian.PutUint32(code[1:], nr)
	if _, err := memory.WriteAt(code, int64(at)); err != nil {
		return 0, err
	}
	r := before
	r.Rip, r.Orig_rax, r.Rsp = at, ^uint64(0), before.Rsp-2048
	for i, to := range []*uint64{&r.Rdi, &r.Rsi, &r.Rdx, &r.R10, &r.R8, &r.R9} {
		if *to = 0; i < len(args) {
			*to = args[i]
		}
	}
	if err := unix.PtraceSetRegs(pid, &r); err != nil {
		return 0, err
	}
	for signal := 0; ; {
		if err := unix.PtraceCont(pid, 0); err != nil {
			return 0, err
		}
		var status unix.WaitStatus
		if _, err := wait4(pid, &status, 0); err != nil {
			return 0, err
		}
		if !status.Stopped() {
			return 0, errors.New("it ended at once")
		}
		signal = int(status.StopSignal())
		if signal == int(unix.SIGTRAP) {
			break
		}
		// A signal that was pending when it was started: a Go launcher's SIGURG means nothing to it,
		// others are for later.
		if signal != int(unix.SIGURG) {
			defer func() { _ = unix.Kill(pid, unix.Signal(signal)) }()
		}
	}
	if err := unix.PtraceGetRegs(pid, &r); err != nil {
		return 0, err
	}
	return int64(r.Rax), nil
}

func is64bit(pid int) (bool, error) {
	file, err := os.Open(fmt.Sprintf("/proc/%d/exe", pid))
	if err != nil {
		return false, err
	}
	defer file.Close()
	var head [20]byte
	if _, err := file.ReadAt(head[:], 0); err != nil {
		return false, err
	}
	const amd64 = 62
	return string(head[:4]) == "\x7fELF" && head[4] == 2 && binary.LittleEndian.Uint16(head[18:]) == amd64, nil
}

// symbols are the functions that an ELF image in memory exports, and where in it they are.
func symbols(image []byte) (found map[string]uint64, err error) {
	defer func() {
		if recover() != nil { // an index out of its range
			found, err = nil, errors.New("it is not laid out as expected")
		}
	}()
	le := binary.LittleEndian
	const (
		loaded, dynamic           = 1, 2
		hashTable, strings, table = 4, 5, 6
	)
	var dynamicAt, base uint64
	headers := le.Uint64(image[32:])
	for i := range uint64(le.Uint16(image[56:])) {
		switch h := image[headers+i*56:]; le.Uint32(h) {
		case loaded:
			base = le.Uint64(h[16:]) - le.Uint64(h[8:])
		case dynamic:
			dynamicAt = le.Uint64(h[8:])
		}
	}
	var namesAt, tableAt, hashAt uint64
	for d := dynamicAt; le.Uint64(image[d:]) != 0; d += 16 {
		value := le.Uint64(image[d+8:]) - base
		switch le.Uint64(image[d:]) {
		case hashTable:
			hashAt = value
		case strings:
			namesAt = value
		case table:
			tableAt = value
		}
	}
	count := uint32(32)
	if hashAt != 0 {
		count = le.Uint32(image[hashAt+4:])
	}
	found = map[string]uint64{}
	for i := range uint64(count) {
		symbol := image[tableAt+i*24:]
		if le.Uint16(symbol[6:]) == 0 { // it is defined elsewhere
			continue
		}
		name := image[namesAt+uint64(le.Uint32(symbol)):]
		found[string(name[:bytes.IndexByte(name, 0)])] = le.Uint64(symbol[8:]) - base
	}
	return found, nil
}
