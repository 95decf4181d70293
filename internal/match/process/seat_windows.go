package process

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sys/windows"
)

// ownFolder has nothing to ask: temporary folders are each user's own.
func ownFolder(string) bool { return true }

// removeAll removes a folder with all that is in it, like os.RemoveAll, by calls that wine has too.
func removeAll(path string) error {
	var all []string
	err := filepath.WalkDir(path, func(at string, _ fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		all = append(all, at)
		return err
	})
	for _, at := range slices.Backward(all) {
		err = errors.Join(err, os.Remove(at))
	}
	return err
}

// lockFile opens a file that nobody else has open so. The system gives it back when this program ends.
func lockFile(path string) (*os.File, error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, 0, nil, windows.OPEN_ALWAYS, windows.FILE_ATTRIBUTE_NORMAL, 0)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(h), path), nil
}
