// Package pack puts the files of a folder into one archive that is known by its content, and takes them
// out of it again where nothing they are named can lead out of the folder that they are for.
//
// An archive is a tar of regular files and folders in order of their names, compressed with zstd, without
// times or owners: the same files are the same bytes. It knows nothing of what the files are for.
package pack

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// ErrUnsafe is the error of an archive that has something in it that must not be taken out: a name that
// leads elsewhere, a link, or more than is allowed.
var ErrUnsafe = errors.New("the archive is refused")

// Content is what an archive is known by.
type Content struct {
	Sum   string `json:"sum"`   // SHA-256 of the archive, in hex
	Bytes int64  `json:"bytes"` // of the archive
	Files int    `json:"files"`
}

// foreign reports whether a folder holds no part of a build: what version control keeps, or what this program has
// left behind. That is known by its files, whatever it is called; and a folder that is called like those in which
// this program keeps such folders, and has one, is one of them, with what lies beside them.
func foreign(at string) bool {
	switch filepath.Base(at) {
	case ".git":
		return true
	case "runs", "hunts", "sweeps":
		entries, err := os.ReadDir(at)
		return err == nil && slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.IsDir() && leftBehind(filepath.Join(at, e.Name())) })
	}
	return leftBehind(at)
}

// leftBehind reports whether this program has made a folder.
func leftBehind(at string) bool {
	has := func(names ...string) bool {
		return !slices.ContainsFunc(names, func(name string) bool {
			info, err := os.Lstat(filepath.Join(at, name))
			return err != nil || !info.Mode().IsRegular()
		})
	}
	return has("about.json", "plan.yaml") || has("matches.jsonl", "plan.yaml") || has("sweep.csv", "sweep.html")
}

// Write writes the files of a folder as an archive. Only names that one of the patterns fits are taken, or a folder
// above which does; without patterns all are, but for what version control keeps and run folders. Links are followed
// where they lead to a file within the folder.
func Write(w io.Writer, folder string, patterns []string) (c Content, err error) {
	names, err := named(folder, patterns)
	if err != nil {
		return c, err
	}
	sum := sha256.New()
	counted := &counter{to: io.MultiWriter(w, sum)}
	packed, err := zstd.NewWriter(counted, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return c, err
	}
	out := tar.NewWriter(packed)
	for _, name := range names {
		if err := add(out, folder, name); err != nil {
			return c, err
		}
	}
	if err := errors.Join(out.Close(), packed.Close()); err != nil {
		return c, err
	}
	return Content{hex.EncodeToString(sum.Sum(nil)), counted.n, len(names)}, nil
}

// named are the files that are packed, in order.
func named(folder string, patterns []string) (names []string, err error) {
	fitted := map[string]bool{}
	err = filepath.WalkDir(folder, func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, at)
		if err != nil {
			return err
		}
		name = filepath.ToSlash(name)
		switch {
		case name == ".":
			return nil
		case d.IsDir() && len(patterns) == 0 && foreign(at):
			return fs.SkipDir
		case d.IsDir():
			return nil
		}
		if fits(name, patterns, fitted) {
			names = append(names, name)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, p := range patterns {
		if !fitted[p] {
			return nil, fmt.Errorf("files: nothing in %s is named %s", folder, p)
		}
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("%s: there are no files in it", folder)
	}
	slices.Sort(names)
	return names, nil
}

// fits reports whether one of the patterns fits a name or a folder above it, and notes which.
func fits(name string, patterns []string, fitted map[string]bool) (any bool) {
	if len(patterns) == 0 {
		return true
	}
	for _, p := range patterns {
		for part := name; part != "."; part = path.Dir(part) {
			if ok, err := path.Match(p, part); ok && err == nil {
				fitted[p], any = true, true
			}
		}
	}
	return any
}

func add(out *tar.Writer, folder, name string) error {
	file, info, err := open(folder, name)
	if err != nil {
		return err
	}
	defer file.Close()
	mode := int64(0o644)
	if info.Mode()&0o111 != 0 {
		mode = 0o755
	}
	if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: info.Size(), Mode: mode, Format: tar.FormatPAX}); err != nil {
		return err
	}
	_, err = io.Copy(out, file)
	return err
}

// open opens a file of a build, which is a regular one within its folder.
func open(folder, name string) (*os.File, fs.FileInfo, error) {
	at := filepath.Join(folder, filepath.FromSlash(name))
	if real, err := filepath.EvalSymlinks(at); err != nil {
		return nil, nil, err
	} else if root, err := filepath.EvalSymlinks(folder); err != nil {
		return nil, nil, err
	} else if inside, err := filepath.Rel(root, real); err != nil || !filepath.IsLocal(inside) {
		return nil, nil, fmt.Errorf("%s is a link that leads out of %s; a build has its files in its folder", name, folder)
	}
	if info, err := os.Stat(at); err == nil && !info.Mode().IsRegular() { // opened, a pipe would wait
		return nil, nil, fmt.Errorf("%s is no regular file; say under build: files: what belongs to the build", at)
	}
	file, err := os.Open(at)
	if err != nil {
		return nil, nil, err
	}
	info, err := file.Stat()
	if err != nil {
		return nil, nil, errors.Join(err, file.Close())
	}
	return file, info, nil
}

type counter struct {
	to io.Writer
	n  int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.n += int64(n)
	return n, err
}

// Bounds are how much may be taken out of an archive.
type Bounds struct {
	Bytes int64
	Files int
}

// Usual are bounds that hardly any build exceeds.
var Usual = Bounds{Bytes: 8 << 30, Files: 200_000}

// Extract takes the files of an archive out into a folder, which it makes. Of an archive that has anything unsafe
// in it nothing may be used: the folder is then to be removed.
func Extract(r io.Reader, folder string, most Bounds) error {
	packed, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return err
	}
	defer packed.Close()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(folder) // what leads out of it, also by a link, is an error
	if err != nil {
		return err
	}
	defer root.Close()
	in := tar.NewReader(packed)
	for files, left := 0, most.Bytes; ; files++ {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrUnsafe, err)
		}
		name := path.Clean(h.Name)
		switch {
		case h.Typeflag != tar.TypeReg:
			return fmt.Errorf("%w: %q is no regular file", ErrUnsafe, h.Name)
		case !filepath.IsLocal(name) || strings.Contains(name, `\`) || name != h.Name:
			return fmt.Errorf("%w: the name %q leads elsewhere", ErrUnsafe, h.Name)
		case files >= most.Files || h.Size > left || h.Size < 0:
			return fmt.Errorf("%w: it has more in it than %d files and %d bytes", ErrUnsafe, most.Files, most.Bytes)
		}
		left -= h.Size
		if err := take(root, name, h, in); err != nil {
			return err
		}
	}
}

func take(root *os.Root, name string, h *tar.Header, in io.Reader) error {
	if parent := path.Dir(name); parent != "." {
		if err := root.MkdirAll(filepath.FromSlash(parent), 0o755); err != nil {
			return fmt.Errorf("%w: %w", ErrUnsafe, err)
		}
	}
	mode := fs.FileMode(0o644)
	if h.Mode&0o111 != 0 {
		mode = 0o755
	}
	file, err := root.OpenFile(filepath.FromSlash(name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnsafe, err)
	}
	_, err = io.CopyN(file, in, h.Size)
	return errors.Join(err, file.Close())
}
