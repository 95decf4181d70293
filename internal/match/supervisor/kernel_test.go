//go:build linux && amd64

package supervisor

import (
	"errors"
	"math"
	"os"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"
)

func at(p unsafe.Pointer) uint64 { return uint64(uintptr(p)) }

func where[T any](p *T) uint64 { return at(unsafe.Pointer(p)) }

func TestTimesAreReadAndWrittenAsTheKernelHasThem(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(0, math.MaxInt64/8).Draw(t, "duration"))
		ns, us := span(d, time.Nanosecond), span(d, time.Microsecond)
		got, ok := peekSpan(os.Getpid(), at(unsafe.Pointer(&ns[0])), time.Nanosecond)
		assert.True(t, ok)
		assert.Equal(t, d, got)
		got, ok = peekSpan(os.Getpid(), at(unsafe.Pointer(&us[0])), time.Microsecond)
		assert.True(t, ok)
		assert.Equal(t, d.Truncate(time.Microsecond), got)
	})
	long := unix.Timespec{Sec: math.MaxInt64}
	got, ok := peekSpan(os.Getpid(), at(unsafe.Pointer(&long)), time.Nanosecond)
	assert.True(t, ok)
	assert.Equal(t, never/4, got, "as good as never")
	negative := unix.Timespec{Sec: -1}
	got, _ = peekSpan(os.Getpid(), at(unsafe.Pointer(&negative)), time.Nanosecond)
	assert.Zero(t, got)
}

func TestMemoryThatIsNotThereIsNotRead(t *testing.T) {
	var b [8]byte
	assert.False(t, peek(os.Getpid(), 8, b[:]))
	assert.False(t, poke(os.Getpid(), 8, b[:]))
	_, ok := peekSpan(os.Getpid(), 8, time.Nanosecond)
	assert.False(t, ok)
	value := uint64(1)
	assert.True(t, pokeWord(os.Getpid(), at(unsafe.Pointer(&value)), 1<<40+3))
	assert.Equal(t, uint64(1<<40+3), value)
}

func TestTheStateOfAThreadIsBehindItsName(t *testing.T) {
	for stat, want := range map[string]byte{
		"17 (node) S 1 17":            'S',
		"17 (a (strange) name) R 1":   'R',
		"17 (ends in a bracket)) T 1": 'T',
		"17 (cut":                     0,
		"17 (cut)":                    0,
		"":                            0,
	} {
		assert.Equal(t, want, stateOf([]byte(stat)), "%q", stat)
	}
}

func TestProcessorTimeGrowsWithUse(t *testing.T) {
	before := used(os.Getpid())
	assert.Positive(t, before)
	assert.Eventually(t, func() bool { return used(os.Getpid()) > before }, 10*time.Second, time.Microsecond)
	assert.Equal(t, int64(-1), used(1<<22+12345), "there is no such process")
	assert.Equal(t, int64(-1), usedByThread(1<<22+12345, 1))
}

func TestRandomBytesFollowFromTheirBeginning(t *testing.T) {
	draw := func(seed uint64, sizes ...int) (all []byte) {
		c := chance{seed}
		for _, n := range sizes {
			b := make([]byte, n)
			c.fill(b)
			all = append(all, b...)
		}
		return all
	}
	assert.Equal(t, draw(7, 16, 16), draw(7, 16, 16))
	assert.NotEqual(t, draw(7, 16), draw(8, 16))
	assert.NotEqual(t, draw(7, 16, 16)[:16], draw(7, 16, 16)[16:])
	counts := [256]int{}
	for _, b := range draw(1, 1<<16) {
		counts[b]++
	}
	for value, n := range counts {
		assert.InDelta(t, 256, n, 100, "byte %d", value)
	}
}

func TestWhatIsRefusedSaysWhatToDo(t *testing.T) {
	e := &RefusedError{"a program cannot be traced", unix.EPERM}
	assert.EqualError(t, e, "the virtual clock cannot be had for a build here: a program cannot be traced: operation not permitted; play it on the wall clock (clock: wall)")
	assert.True(t, errors.Is(e, unix.EPERM))
	n := &NeverQuietError{Program: "the server", Threads: []string{"its thread 1 runs", "its thread 3 waits for a disk or the like"}, For: 30 * time.Second}
	assert.EqualError(t, n, "the server has not waited for anything for 30s, so time on the virtual clock cannot move (its thread 1 runs; its thread 3 waits for a disk or the like); play it on the wall clock")
}

func TestTheClockPageHasItsCodeAndAPlaceForEveryProcess(t *testing.T) {
	var p pages
	assert.NoError(t, p.make())
	assert.Equal(t, clockCode, p.memory[:len(clockCode)])
	for _, offset := range standIns {
		assert.Less(t, offset, uint64(len(clockCode)))
	}
	p.of(0).mono, p.of(mostPages-1).budget = 5, 7
	assert.Equal(t, int64(5), p.of(0).mono)
	assert.Zero(t, p.of(1).mono)
	assert.NoError(t, p.close())
}

// Threads are known in the order in which they were made, also where their numbers begin again between them.
func TestThreadsAreInTheOrderOfTheirBirth(t *testing.T) {
	for _, c := range []struct {
		name       string
		pid        int
		tids, want []int
	}{
		{"upwards", 500, []int{503, 500, 501}, []int{500, 501, 503}},
		{"from the beginning again", 32766, []int{301, 302, 32766, 32767}, []int{32766, 32767, 301, 302}},
	} {
		t.Run(c.name, func(t *testing.T) {
			byBirth(c.pid, c.tids, 32768)
			assert.Equal(t, c.want, c.tids)
		})
	}
}
