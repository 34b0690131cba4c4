// Package seal tells a record that this user has made from one that somebody else
// has made or changed: by a digest with a key that only this user has.
package seal

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Key is a user's key.
type Key struct{ secret []byte }

// Verdict is what a seal tells of a record.
type Verdict int

const (
	Unknown Verdict = iota // it has no seal of this key: anybody may have made it
	Genuine                // it is as this user made it
	Changed                // this user made it, and somebody has changed it
)

// size of a key in bytes: that of the digest (RFC 2104, section 3).
const size = sha256.Size

// Folder is where a user's key is: jugatum in the user's configuration folder.
func Folder() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "jugatum"), err
}

// Open reads the key in a folder, and makes both if they are not there. A key that
// others could read or have put there is an error.
func Open(folder string) (*Key, error) {
	path := filepath.Join(folder, "key")
	k, err := read(path)
	if !errors.Is(err, fs.ErrNotExist) {
		return k, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	secret := make([]byte, size)
	rand.Read(secret) // never fails, by its documentation
	// Under another name first: of two that make it at once, both get the same.
	f, err := os.CreateTemp(folder, "key-*") // with mode 0600
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(hex.EncodeToString(secret) + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	if err := os.Link(f.Name(), path); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	return read(path)
}

func read(path string) (*Key, error) {
	f, err := openPlain(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no regular file", path)
	}
	if err := private(path, st); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(f, 1024))
	if err != nil {
		return nil, err
	}
	secret, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(secret) != size {
		return nil, fmt.Errorf("%s does not hold a key (remove it for a new one)", path)
	}
	return &Key{secret}, nil
}

// name tells keys apart without telling anything of them.
func (k *Key) name() string {
	sum := sha256.Sum256(append([]byte("name of key "), k.secret...))
	return hex.EncodeToString(sum[:8])
}

// Seal is the seal of a record: the key's name and the digest (HMAC-SHA-256, RFC 2104).
func (k *Key) Seal(record []byte) string {
	h := hmac.New(sha256.New, k.secret)
	h.Write(record)
	return k.name() + ":" + hex.EncodeToString(h.Sum(nil))
}

// Check holds a record against its seal.
func (k *Key) Check(record []byte, seal string) Verdict {
	name, _, _ := strings.Cut(seal, ":")
	switch {
	case name != k.name():
		return Unknown
	case hmac.Equal([]byte(seal), []byte(k.Seal(record))):
		return Genuine
	}
	return Changed
}
