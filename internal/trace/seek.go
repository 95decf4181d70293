package trace

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"sort"
	"time"

	"github.com/klauspost/compress/zstd"
)

// OpenFrom opens a file of lines like Open, but may begin with a later line than the
// first: with one that is of a time before from, so that nothing of from or later is
// left out, if the times of lines do not decrease. Files that [Pack] wrote are
// unpacked from the frame on that this needs; all others from their beginning. timeOf
// reads the time of a line.
func OpenFrom(path string, from time.Duration, timeOf func(line []byte) (time.Duration, bool)) (io.ReadCloser, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	frames, size, err := framesOf(file)
	if err != nil || len(frames) < 2 {
		file.Close()
		return Open(path)
	}
	// The last frame that begins before from.
	first := sort.Search(len(frames)-1, func(i int) bool {
		t, ok := firstTime(io.NewSectionReader(file, frames[i+1], size-frames[i+1]), timeOf)
		return ok && t >= from
	})
	unzip, err := zstd.NewReader(io.NewSectionReader(file, frames[first], size-frames[first]), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30))
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return packedFile{unzip, file, unzip.Close}, nil
}

// firstTime is the time of the first line of a frame that has one.
func firstTime(frame io.Reader, timeOf func([]byte) (time.Duration, bool)) (time.Duration, bool) {
	unzip, err := zstd.NewReader(frame, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(1<<30))
	if err != nil {
		return 0, false
	}
	defer unzip.Close()
	lines := bufio.NewReaderSize(unzip, 64<<10)
	for range 100 {
		line, err := lines.ReadBytes('\n')
		if t, ok := timeOf(line); ok {
			return t, true
		}
		if err != nil {
			return 0, false
		}
	}
	return 0, false
}

// framesOf finds where the frames of a zstd file begin, by the sizes that their
// blocks begin with (RFC 8878, section 3.1.1), without unpacking any.
func framesOf(file *os.File) (starts []int64, size int64, err error) {
	info, err := file.Stat()
	if err != nil {
		return nil, 0, err
	}
	size = info.Size()
	buffer := make([]byte, zstd.HeaderMaxSize)
	for at := int64(0); at < size; {
		n, err := file.ReadAt(buffer, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, 0, err
		}
		var header zstd.Header
		if err := header.Decode(buffer[:n]); err != nil {
			return nil, 0, err
		}
		if header.Skippable {
			at += int64(header.HeaderSize) + int64(header.SkippableSize)
			continue
		}
		starts = append(starts, at)
		at += int64(header.HeaderSize)
		for last := false; !last; {
			var block [3]byte
			if _, err := file.ReadAt(block[:], at); err != nil {
				return nil, 0, err // it breaks off: it is read from the beginning
			}
			bits := uint32(block[0]) | uint32(block[1])<<8 | uint32(block[2])<<16
			last = bits&1 == 1
			at += 3
			if bits>>1&3 == 1 { // one byte, many times
				at++
			} else {
				at += int64(bits >> 3)
			}
		}
		if header.HasCheckSum {
			at += 4
		}
	}
	return starts, size, nil
}
