//go:build linux && amd64

package supervisor

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// What programs read of the machine besides its clocks: its random devices, how long it is up, how busy it is, how
// large it is. They find a small idle machine with one processor, the same everywhere; what is random there follows
// from the seed. What is still read of the real machine is kept in Report.Reads, so that it can be told what a
// program had just read where two plays of one match part.

const (
	machineMemory = 8 << 30
	machineHz     = 100
)

// mostReads is how many of them are kept; they are kept once for each program.
const mostReads = 400

// saw keeps what a program reads of the real machine.
func (s *Supervisor) saw(p *proc, what string) {
	if p.saw[what] || len(s.report.Reads) >= mostReads {
		return
	}
	p.saw[what] = true
	s.report.Reads = append(s.report.Reads, Read{s.now, p.name, what})
}

// madeUp are the files that are made up when a program opens them.
var madeUp = map[string]func(*call) []byte{
	"/proc/sys/kernel/random/uuid":    func(c *call) []byte { return uuid(&c.process.random) },
	"/proc/sys/kernel/random/boot_id": func(c *call) []byte { return uuid(&chance{c.options.Seed ^ 0x626f6f74}) },
	"/proc/uptime": func(c *call) []byte {
		up := monotonic(c.now).Seconds()
		return fmt.Appendf(nil, "%.2f %.2f\n", up, up)
	},
	"/proc/loadavg": func(*call) []byte { return []byte("0.00 0.00 0.00 1/1 1\n") },
	"/proc/stat": func(c *call) []byte {
		idle := int64(monotonic(c.now) / (time.Second / machineHz))
		return fmt.Appendf(nil, "cpu  0 0 0 %[1]d 0 0 0 0 0 0\ncpu0 0 0 0 %[1]d 0 0 0 0 0 0\nintr 0\nctxt 0\nbtime %[2]d\nprocesses 1\nprocs_running 1\nprocs_blocked 0\n", idle, c.wall()/time.Second)
	},
	"/proc/meminfo": func(*call) []byte {
		const kB = machineMemory >> 10
		return fmt.Appendf(nil, "MemTotal:       %d kB\nMemFree:        %d kB\nMemAvailable:   %d kB\nBuffers:        0 kB\nCached:         0 kB\nSwapTotal:      0 kB\nSwapFree:       0 kB\n", kB, kB/2, kB/2)
	},
	"/proc/cpuinfo":                    func(*call) []byte { return firstProcessor() },
	"/sys/devices/system/cpu/online":   func(*call) []byte { return []byte("0\n") },
	"/sys/devices/system/cpu/possible": func(*call) []byte { return []byte("0\n") },
	"/sys/devices/system/cpu/present":  func(*call) []byte { return []byte("0\n") },
}

// steadyFiles of /proc and /sys say the same each time, so nobody need be told that they were read.
var steadyFiles = []string{
	"/proc/sys/", "/proc/filesystems", "/proc/version", "/proc/mounts", "/proc/self/exe", "/proc/self/maps",
	"/proc/self/cmdline", "/proc/self/mountinfo", "/proc/self/cgroup", "/proc/self/auxv", "/proc/self/mounts",
	"/proc/self/comm", "/proc/self/task", "/proc/self/fd", "/proc/self/oom_score_adj", "/proc/cgroups",
	"/proc/self/coredump_filter", "/sys/kernel/mm/", "/sys/fs/cgroup", "/sys/devices/system/",
}

// open gives a program a file of the made-up machine, or lets it open what it asked for.
func (c *call) open() {
	at := c.args[1]
	if c.nr == unix.SYS_OPEN {
		at = c.args[0]
	}
	var start [5]byte
	if !peek(c.thread.tid, at, start[:]) || start[0] != '/' || start[1] != 'p' && start[1] != 'd' && start[1] != 's' {
		c.pass()
		return
	}
	path := peekText(c.thread.tid, at)
	switch {
	case path == "/dev/urandom" || path == "/dev/random":
		c.openRandom()
	case madeUp[path] != nil:
		c.hand(madeUp[path](c))
	default:
		if (strings.HasPrefix(path, "/proc/") || strings.HasPrefix(path, "/sys/")) && !slices.ContainsFunc(steadyFiles, func(s string) bool { return strings.HasPrefix(path, s) }) {
			c.saw(c.process, "read "+path)
		}
		c.pass()
	}
}

// peekText reads a text that ends with a zero byte, like a path, from a program's memory; "" if it cannot be read.
func peekText(pid int, at uint64) string {
	var text []byte
	for len(text) < unix.PathMax {
		part := make([]byte, min(256, pageSize-at%pageSize)) // the next page may not be there
		if !peek(pid, at, part) {
			return ""
		}
		if end := bytes.IndexByte(part, 0); end >= 0 {
			return string(append(text, part[:end]...))
		}
		text, at = append(text, part...), at+uint64(len(part))
	}
	return ""
}

// hand answers an open with a file of that content.
func (c *call) hand(content []byte) {
	fd, err := unix.MemfdCreate("zwheel", unix.MFD_CLOEXEC)
	if err != nil {
		c.fail(unix.EMFILE)
		return
	}
	defer closeFd(fd)
	if _, err := unix.Pwrite(fd, content, 0); err != nil {
		c.fail(unix.EIO)
		return
	}
	c.handFile(fd)
}

// handFile answers a call with a descriptor of its own for one of ours.
func (c *call) handFile(fd int) {
	flags := c.args[2]
	if c.nr == unix.SYS_OPEN {
		flags = c.args[1]
	} else if c.nr == unix.SYS_OPENAT2 {
		flags = unix.O_CLOEXEC // it stands in memory; hardly anybody hands such a file on
	}
	number, e := c.addFile(fd, uint32(flags)&unix.O_CLOEXEC)
	if e != 0 {
		c.fail(e)
		return
	}
	c.give(int64(number))
}

// randomFile is what a program reads random bytes from that opened a device: a pipe that is kept full.
type randomFile struct {
	chance
	fd     int
	unread []byte // what did not fit
}

func (c *call) openRandom() {
	var ends [2]int
	if err := unix.Pipe2(ends[:], unix.O_CLOEXEC); err != nil {
		c.fail(unix.EMFILE)
		return
	}
	defer closeFd(ends[0])
	var seed [8]byte
	c.process.random.fill(seed[:])
	f := &randomFile{chance: chance{binary.LittleEndian.Uint64(seed[:])}, fd: ends[1]}
	_ = unix.SetNonblock(f.fd, true) // a pipe can always
	f.fill()
	c.handFile(ends[0])
	c.randoms = append(c.randoms, f)
}

// fill reports whether there was room, and whether somebody still reads it.
func (f *randomFile) fill() (any, open bool) {
	for ; ; any = true {
		if len(f.unread) == 0 {
			f.unread = make([]byte, 4096)
			f.chance.fill(f.unread)
		}
		n := writeFrom(f.fd, f.unread)
		if n < 0 {
			return any, n == -int(unix.EAGAIN)
		}
		f.unread = f.unread[n:]
	}
}

// refill keeps all random devices full. It reports whether it was there for one: whoever waited for that goes on.
func (s *Supervisor) refill() (any bool) {
	s.randoms = slices.DeleteFunc(s.randoms, func(f *randomFile) bool {
		if any {
			return false
		}
		wrote, open := f.fill()
		any = wrote
		if !open {
			closeFd(f.fd)
		}
		return !open
	})
	return any
}

func uuid(from *chance) []byte {
	var b [16]byte
	from.fill(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80 // version 4, RFC 9562
	return fmt.Appendf(nil, "%x-%x-%x-%x-%x\n", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// firstProcessor is what the machine tells of its first processor, without how fast it runs at the moment.
func firstProcessor() []byte {
	text, _ := os.ReadFile("/proc/cpuinfo") // without it nothing is told
	first, _, _ := strings.Cut(string(text), "\n\n")
	var kept strings.Builder
	for line := range strings.Lines(first) {
		switch name, _, _ := strings.Cut(line, "\t"); name {
		case "cpu MHz", "siblings", "cpu cores", "core id":
		default:
			kept.WriteString(line)
		}
	}
	return []byte(kept.String() + "\n\n")
}

// information is sysinfo.
func (c *call) information() {
	var b [112]byte
	word := func(at int, v uint64) { binary.LittleEndian.PutUint64(b[at:], v) }
	word(0, uint64(monotonic(c.now)/time.Second))
	word(32, machineMemory)
	word(40, machineMemory/2)
	binary.LittleEndian.PutUint16(b[80:], 1) // processes
	binary.LittleEndian.PutUint32(b[104:], 1)
	c.put(c.args[0], b[:], 0)
}

// put writes an answer to a program's memory and gives what the call returns.
func (c *call) put(at uint64, b []byte, value int64) {
	if at != 0 && !poke(c.thread.tid, at, b) {
		c.fail(unix.EFAULT)
		return
	}
	c.give(value)
}

// Processor time. Computing takes none of the virtual time, so what it is measured by must not be real either: each
// look takes a microsecond, and a thread that waits by looking is held as one is that looks at the clock.

const lookTakes = time.Microsecond

// looked answers a look at the processor time of a process; write puts it where the program wants it.
func (c *call) looked(value int64, write func() bool) {
	c.process.computed += lookTakes
	if !c.glances() {
		if !write() {
			c.fail(unix.EFAULT)
			return
		}
		c.give(value)
		return
	}
	c.process.computed += spinStep
	h := c.held(c.spun())
	h.value, h.expire = value, func() { write() }
	c.keep(h)
}

// ticks is times(2): processor time, and how long the machine is up.
func (c *call) ticks() {
	const tick = time.Second / machineHz
	c.looked(int64(monotonic(c.now)/tick), func() bool {
		var b [32]byte
		binary.LittleEndian.PutUint64(b[:], uint64(c.process.computed/tick))
		return c.args[0] == 0 || poke(c.thread.tid, c.args[0], b[:])
	})
}

// usage is getrusage.
func (c *call) usage() {
	c.looked(0, func() bool {
		const memory = 64 << 10 // KiB; what it really uses is not the same each time
		b := make([]byte, 144)
		copy(b, span(c.process.computed, time.Microsecond))
		binary.LittleEndian.PutUint64(b[32:], memory)
		return poke(c.thread.tid, c.args[1], b)
	})
}
