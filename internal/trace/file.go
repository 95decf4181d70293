package trace

import (
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"github.com/klauspost/compress/zstd"

	"zitherwheel/internal/atomicfile"
)

// Open opens a file of trace lines, plain, gzip or zstd. What it is shows in its
// first bytes, whatever its name.
func Open(path string) (io.ReadCloser, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	buffered := bufio.NewReaderSize(file, 64<<10)
	magic, _ := buffered.Peek(4) // a short file is plain; a broken one shows when it is read
	switch {
	case len(magic) >= 2 && magic[0] == 0x1f && magic[1] == 0x8b:
		unzip, err := gzip.NewReader(buffered)
		if err != nil {
			file.Close()
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return packedFile{unzip, file, func() {}}, nil
	case string(magic) == "\x28\xb5\x2f\xfd":
		unzip, err := zstd.NewReader(buffered, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30))
		if err != nil {
			file.Close()
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return packedFile{unzip, file, unzip.Close}, nil
	}
	return packedFile{buffered, file, func() {}}, nil
}

type packedFile struct {
	io.Reader
	file    *os.File
	release func()
}

func (p packedFile) Close() error {
	p.release()
	return p.file.Close()
}

// packers are reused, because each has megabytes of tables.
var packers = sync.Pool{New: func() any {
	// Fastest: smaller than the default level on trace lines, and a quarter of
	// the size of the plain text. One thread, so that the bytes are always the same.
	zip, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
	if err != nil {
		panic(err) // the options are constants
	}
	return zip
}}

// frameSize is how much plain text goes into a frame of a packed file, up to the end
// of its last line. Frames stand on their own, so that a reader may begin at any of
// them; see [OpenFrom].
const frameSize = 1 << 20

func packFrames(zip *zstd.Encoder, target io.Writer, source io.Reader) error {
	lines := bufio.NewReaderSize(source, frameSize)
	for {
		zip.Reset(target)
		_, err := io.CopyN(zip, lines, frameSize)
		if err == nil { // to the end of the line
			for more := true; more && err == nil; {
				var part []byte
				part, err = lines.ReadSlice('\n')
				more = errors.Is(err, bufio.ErrBufferFull)
				if more {
					err = nil
				}
				if _, failed := zip.Write(part); failed != nil {
					return failed
				}
			}
		}
		if failed := zip.Close(); failed != nil {
			return failed
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Pack replaces a finished plain file by one packed as zstd, named with .zst
// behind, and returns the new path. Until the packed file is complete and in
// place, the plain one stays.
func Pack(path string) (packed string, err error) {
	source, err := os.Open(path)
	if err != nil {
		return "", err
	}
	packed = path + ".zst"
	zip := packers.Get().(*zstd.Encoder)
	defer packers.Put(zip)
	err = atomicfile.Write(packed, func(target io.Writer) error { return packFrames(zip, target, source) })
	// Windows removes nothing that is open.
	if err = errors.Join(err, source.Close()); err != nil {
		return "", err
	}
	return packed, os.Remove(path)
}
