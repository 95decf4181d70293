// Package trust tells run folders that this user recorded on this machine from those of
// others. A run folder names the programs that it was played with, and playing it again
// starts them: what somebody else has put there must be seen first.
//
// The mark of a folder is an HMAC (RFC 2104, SHA-256) of its seal, with a key that is made
// once and kept in the user's folder for settings. Without the key nobody can forge it,
// and a folder that was changed has another.
package trust

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

const keySize = 32

// Mark is the mark of a text: a seal as it stands in a run folder. Without a place for the key there is none.
func Mark(text []byte) (string, error) {
	key, err := key(true)
	if err != nil {
		return "", err
	}
	return hex.EncodeToString(sum(key, text)), nil
}

// Known reports whether mark is that of a text.
func Known(text []byte, mark string) bool {
	given, err := hex.DecodeString(mark)
	if err != nil || len(given) == 0 {
		return false
	}
	key, err := key(false)
	return err == nil && hmac.Equal(given, sum(key, text))
}

func sum(key, text []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write(text)
	return h.Sum(nil)
}

// key reads the key, or makes it.
func key(make bool) ([]byte, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return nil, err
	}
	folder = filepath.Join(folder, "zwheel")
	path := filepath.Join(folder, "key")
	known, err := os.ReadFile(path)
	switch {
	case err == nil && len(known) == keySize:
		return known, nil
	case err == nil:
		return nil, errors.New(path + " is no key; remove it, and a new one is made")
	case !errors.Is(err, fs.ErrNotExist) || !make:
		return nil, err
	}
	var fresh [keySize]byte
	if _, err := rand.Read(fresh[:]); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	return begin(path, fresh[:])
}

// begin puts a new key in its place, whole, unless another run has put one there meanwhile: then it is that one.
func begin(path string, fresh []byte) ([]byte, error) {
	f, err := os.CreateTemp(filepath.Dir(path), "key-") // for its user alone
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(fresh)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	if err := os.Link(f.Name(), path); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	return os.ReadFile(path)
}
