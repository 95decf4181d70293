// Package atomicfile writes files that are there whole or not at all: a new one beside
// the old, put in its place by rename. What is no regular file, like a device or a
// named pipe, is written in place, and behind a symbolic link the file that it names.
//
// Known libraries for this either leave Windows out or write there in place.
package atomicfile

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Mode is what others may do with what is written, less the umask's part.
const mode = 0o644

// Write lets write make the contents of a file.
func Write(path string, write func(io.Writer) error) error {
	if to, err := filepath.EvalSymlinks(path); err == nil {
		path = to
	}
	info, err := os.Stat(path)
	switch {
	case err == nil && !info.Mode().IsRegular():
		return inPlace(path, write)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	mode := fs.FileMode(mode)
	if err == nil {
		mode = info.Mode().Perm()
	}
	f, err := create(path, mode)
	if err != nil {
		return err
	}
	// The new name must not be there before its contents are, also if the machine stops.
	if err := fill(f, write, f.Sync); err != nil {
		os.Remove(f.Name())
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		os.Remove(f.Name())
		return err
	}
	return nil
}

// Text writes a file that is known already.
func Text(path string, text []byte) error {
	return Write(path, func(w io.Writer) error { _, err := w.Write(text); return err })
}

// JSON writes a value as indented JSON.
func JSON(path string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return Text(path, append(text, '\n'))
}

// create makes a new file beside path. Unlike those of os.CreateTemp it has the
// permissions that the umask leaves.
func create(path string, mode fs.FileMode) (*os.File, error) {
	for {
		reserved, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*.tmp")
		if err != nil {
			return nil, err
		}
		name := reserved.Name()
		if err := errors.Join(reserved.Close(), os.Remove(name)); err != nil {
			return nil, err
		}
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if !errors.Is(err, fs.ErrExist) {
			return f, err
		}
	}
}

func inPlace(path string, write func(io.Writer) error) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	return fill(f, write, func() error { return nil })
}

// fill writes a file, syncs and closes it.
func fill(f *os.File, write func(io.Writer) error, sync func() error) error {
	buffered := bufio.NewWriter(f)
	return errors.Join(write(buffered), buffered.Flush(), sync(), f.Close())
}
