//go:build unix

package process

import (
	"os"

	"golang.org/x/sys/unix"
)

// ownFolder reports whether a folder is one of this user's, and no link to one.
func ownFolder(folder string) bool {
	var s unix.Stat_t
	return unix.Lstat(folder, &s) == nil && s.Mode&unix.S_IFMT == unix.S_IFDIR && int(s.Uid) == os.Geteuid()
}

func removeAll(path string) error { return os.RemoveAll(path) }

// lockFile opens a file that nobody else has open so. The system gives it back when this program ends.
func lockFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
