// Package lines cuts what comes piece by piece into lines: streams, and files that somebody
// is still writing. It knows nothing of what the lines say.
package lines

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
)

// Max is the longest line that is kept whole, bytes.
const Max = 4 << 20

// Splitter cuts a stream into lines. The zero value is ready.
type Splitter struct {
	partial []byte
	skips   bool // the rest of a line that was too long
}

// Take hands on the lines that end in the next piece of the stream, without their ends. A
// line longer than Max is handed on once, cut. The text is only valid during the call.
func (s *Splitter) Take(data []byte, line func(text []byte, cut bool)) {
	for len(data) > 0 {
		i := bytes.IndexByte(data, '\n')
		part := data
		if i >= 0 {
			part = data[:i]
		}
		if !s.skips {
			s.partial = append(s.partial, part...)
		}
		if len(s.partial) > Max {
			line(s.partial[:Max:Max], true)
			s.partial, s.skips = nil, true
		}
		if i < 0 {
			return
		}
		if !s.skips {
			line(s.partial, false)
		}
		s.partial, s.skips = nil, false
		data = data[i+1:]
	}
}

// End hands on a last line that has no end.
func (s *Splitter) End(line func(text []byte, cut bool)) {
	if len(s.partial) > 0 {
		line(s.partial, false)
	}
	s.partial = nil
}

// Tail reads a file that grows, and that need not exist yet.
type Tail struct {
	path     string
	file     *os.File
	splitter Splitter
	buffer   []byte
}

// Follow returns the tail of a file, from its beginning.
func Follow(path string) *Tail { return &Tail{path: path} }

// Read hands on the lines that end in what has come since the last time, at most 256 kB of it,
// and returns how many bytes that were: with none there is nothing new as yet.
func (t *Tail) Read(line func(text []byte, cut bool)) (bytes int, err error) {
	if t.file == nil {
		file, err := os.Open(t.path)
		if errors.Is(err, fs.ErrNotExist) {
			return 0, nil
		}
		if err != nil {
			return 0, err
		}
		t.file, t.buffer = file, make([]byte, 256<<10)
	}
	n, err := t.file.Read(t.buffer)
	t.splitter.Take(t.buffer[:n], line)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// ReadAll is Read until nothing is left.
func (t *Tail) ReadAll(line func(text []byte, cut bool)) error {
	for {
		if n, err := t.Read(line); n == 0 || err != nil {
			return err
		}
	}
}

// End hands on a last line that has no end, and closes the file.
func (t *Tail) End(line func(text []byte, cut bool)) error {
	t.splitter.End(line)
	return t.Close()
}

// Close closes the file. A last line without an end is lost.
func (t *Tail) Close() error {
	if t.file == nil {
		return nil
	}
	return t.file.Close()
}
