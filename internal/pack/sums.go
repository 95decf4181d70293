package pack

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Sums are the files of a folder with the sum of each, in order of their names. Written out they are lines as the
// program sha256sum has them.
type Sums []File

// File is one of them.
type File struct {
	Sum  string // SHA-256 of its content, in hex; and of what else it is known by, where it is no ordinary file
	Name string // with slashes
}

// mostRead is how much is read for sums, in bytes. Of files beyond that size and time stand for their content.
const mostRead = 2 << 30

// SumsOf are the files that Write would take. What cannot be packed is known by its kind, a link by where it leads.
func SumsOf(folder string, patterns []string) (list Sums, err error) {
	names, err := named(folder, patterns)
	if err != nil {
		return nil, err
	}
	left := int64(mostRead)
	for _, name := range names {
		sum, err := sumOf(filepath.Join(folder, filepath.FromSlash(name)), &left)
		if err != nil {
			return nil, err
		}
		list = append(list, File{sum, name})
	}
	return list, nil
}

func sumOf(at string, left *int64) (string, error) {
	sum := sha256.New()
	info, err := os.Lstat(at)
	if err != nil {
		return "", err
	}
	if info.Mode()&os.ModeSymlink != 0 {
		to, err := os.Readlink(at)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(sum, "a link to %s", to)
		if info, err = os.Stat(at); err != nil { // it leads nowhere
			return hex.EncodeToString(sum.Sum(nil)), nil
		}
	}
	if info.Mode()&0o111 != 0 {
		fmt.Fprint(sum, "a program")
	}
	switch *left -= info.Size(); {
	case !info.Mode().IsRegular():
		fmt.Fprintf(sum, "%v", info.Mode().Type())
	case *left < 0:
		fmt.Fprintf(sum, "%d bytes of %d", info.Size(), info.ModTime().UnixNano())
	default:
		content, _, err := FileSum(at)
		if err != nil {
			return "", err
		}
		fmt.Fprint(sum, content)
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// FileSum is the SHA-256 of a file's content, in hex, and how many bytes that is.
func FileSum(path string) (sum string, bytes int64, err error) {
	file, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer file.Close()
	hash := sha256.New()
	bytes, err = io.Copy(hash, file)
	return hex.EncodeToString(hash.Sum(nil)), bytes, err
}

// Sum is the sum of all of them: what the folder is known by.
func (s Sums) Sum() string {
	sum := sha256.Sum256(s.Text())
	return hex.EncodeToString(sum[:])
}

// Text writes them out.
func (s Sums) Text() []byte {
	var b bytes.Buffer
	for _, f := range s {
		fmt.Fprintf(&b, "%s  %s\n", f.Sum, strings.ReplaceAll(f.Name, "\n", "\\n"))
	}
	return b.Bytes()
}

// ParseSums reads what Text has written; lines that are none are left out.
func ParseSums(text []byte) (s Sums) {
	for line := range strings.Lines(string(text)) {
		if sum, name, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "  "); ok {
			s = append(s, File{sum, name})
		}
	}
	return s
}

// Changed names the files that are not the same in both.
func (s Sums) Changed(other Sums) (names []string) {
	for _, pair := range [][2]Sums{{s, other}, {other, s}} {
		for _, f := range pair[0] {
			if !slices.Contains(pair[1], f) && !slices.Contains(names, f.Name) {
				names = append(names, f.Name)
			}
		}
	}
	slices.Sort(names)
	return names
}
