package inspect

import (
	"bufio"
	"context"
	"errors"
	"slices"
	"strconv"
	"sync"
	"time"

	"zitherwheel/internal/trace"
)

// lines are the records of a trace from about from until until. What lies before is
// skipped by its time, without being understood.
type lines [][]byte

// gather reads the lines of several traces at once: unpacking them takes longest.
func gather(ctx context.Context, paths []string, stretch func(view int) (from, until time.Duration)) ([]lines, error) {
	all, failures := make([]lines, len(paths)), make([]error, len(paths))
	var readers sync.WaitGroup
	for i, path := range paths {
		readers.Go(func() {
			from, until := stretch(i)
			all[i], failures[i] = linesOf(ctx, path, from, until)
		})
	}
	readers.Wait()
	return all, errors.Join(failures...)
}

func linesOf(ctx context.Context, path string, from, until time.Duration) (list lines, err error) {
	file, err := trace.OpenFrom(path, from, timeOf)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, 1<<20)
	for steps := 0; ; steps++ {
		if steps%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		text, err := in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			begun := slices.Clone(text)
			text, err = in.ReadBytes('\n')
			text = append(begun, text...)
		}
		t, timed := timeOf(text)
		if timed && t > until {
			return list, nil
		}
		if len(text) > 0 && (!timed || t >= from) {
			list = append(list, slices.Clone(text))
		}
		if err != nil { // at the end, or where a file breaks off: what could be read was
			return list, nil
		}
	}
}

// each hands on the records that the lines hold.
func (l lines) each(names *trace.Names, take func(*trace.Record)) {
	reader := trace.NewReader(nil, names)
	var r trace.Record
	for _, text := range l {
		if ok, err := reader.Parse(text, &r); ok && err == nil {
			take(&r)
		}
	}
}

// timeOf reads the time that a line begins with.
func timeOf(line []byte) (time.Duration, bool) {
	const before = `{"t":`
	if len(line) < len(before) || string(line[:len(before)]) != before {
		return 0, false
	}
	rest := line[len(before):]
	end := 0
	for end < len(rest) && end < 32 && rest[end] != ',' && rest[end] != '}' {
		end++
	}
	seconds, err := strconv.ParseFloat(string(rest[:end]), 64)
	return time.Duration(seconds * float64(time.Second)), err == nil
}
