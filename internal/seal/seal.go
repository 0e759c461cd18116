// Package seal marks what this user made, so that it is known again: with a key that stands in
// the user's configuration folder, and that nobody else can read.
package seal

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"runcrowd/internal/folder"
)

// Key is a user's key.
type Key struct{ secret []byte }

// keyBytes is how long a key is.
const keyBytes = 32

// Path is where the user's key stands.
func Path() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "runcrowd", "key"), nil
}

// User gives the user's key; make: it is made if there is none. Without one, the key is nil.
func User(make bool) (*Key, error) {
	path, err := Path()
	if err != nil {
		return nil, err
	}
	k, err := read(path)
	if !errors.Is(err, os.ErrNotExist) || !make {
		if errors.Is(err, os.ErrNotExist) {
			err = nil
		}
		return k, err
	}
	var b [keyBytes]byte
	rand.Read(b[:])
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(dir, "key.*") // for its owner alone
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	_, err = fmt.Fprintln(f, hex.EncodeToString(b[:]))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	// Of two that make one at once, the first wins.
	if err := os.Link(f.Name(), path); err != nil && !errors.Is(err, os.ErrExist) {
		return nil, err
	}
	return read(path)
}

func read(path string) (*Key, error) {
	text, err := folder.ReadRegular(path)
	if err != nil {
		return nil, err
	}
	secret, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(secret) != keyBytes {
		return nil, fmt.Errorf("%s is no key; remove it, and a new one is made", path)
	}
	return &Key{secret}, nil
}

// Name tells keys apart, and tells nothing of them.
func (k *Key) Name() string {
	if k == nil {
		return ""
	}
	return k.sum("name")[:16]
}

// Seal is the seal of a text (HMAC, RFC 2104, with SHA-256; hexadecimal).
func (k *Key) Seal(text []byte) string {
	if k == nil {
		return ""
	}
	return k.sum("seal\n" + string(text))
}

// Sealed tells whether a text has this seal.
func (k *Key) Sealed(text []byte, seal string) bool {
	return k != nil && hmac.Equal([]byte(k.Seal(text)), []byte(seal))
}

func (k *Key) sum(text string) string {
	h := hmac.New(sha256.New, k.secret)
	h.Write([]byte(text))
	return hex.EncodeToString(h.Sum(nil))
}
