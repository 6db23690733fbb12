// Package seal keeps secrets so that who reads where they are kept, a backup or a dump of the records, does not read them: sealed with a
// key that lies in a file of its own (XChaCha20-Poly1305, RFC 8439 with the longer nonce).
package seal

import (
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"

	"vessik/internal/ownfile"
)

// Key seals and opens secrets. It is safe for concurrent use.
type Key struct {
	aead cipher.AEAD
	raw  []byte
}

// ErrNoKey says that the file of a key is not there.
var ErrNoKey = errors.New("the key of the secrets is not there")

// Read reads a key's file; ErrNoKey where there is none.
func Read(file string) (Key, error) {
	raw, err := ownfile.Read(file)
	if errors.Is(err, fs.ErrNotExist) {
		return Key{}, fmt.Errorf("%s: %w; put it back from a backup, nothing else opens them", file, ErrNoKey)
	}
	if err != nil {
		return Key{}, fmt.Errorf("read the key of the secrets: %w", err)
	}
	aead, err := chacha20poly1305.NewX(raw)
	if err != nil {
		return Key{}, fmt.Errorf("%s is no key of %d bytes; put it back from a backup", file, chacha20poly1305.KeySize)
	}
	return Key{aead, raw}, nil
}

// ReadOrMake is Read that makes a new key where there is none.
func ReadOrMake(file string) (Key, error) {
	key, err := Read(file)
	if !errors.Is(err, ErrNoKey) {
		return key, err
	}
	raw := make([]byte, chacha20poly1305.KeySize)
	rand.Read(raw)
	if err := ownfile.Write(file, raw, 0o600); err != nil {
		return Key{}, fmt.Errorf("write the key of the secrets: %w", err)
	}
	return Read(file)
}

// Derive is a password of 128 bits that the key has for a name, always the same (HKDF, RFC 5869).
func (k Key) Derive(name string) (string, error) {
	secret, err := hkdf.Key(sha256.New, k.raw, nil, name, 16)
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret)), err
}

// Seal seals a secret under a name, without which it is not opened: none can be put in the place of another.
func (k Key) Seal(name string, secret []byte) []byte {
	nonce := make([]byte, k.aead.NonceSize())
	rand.Read(nonce)
	return k.aead.Seal(nonce, nonce, secret, []byte(name))
}

// Open opens what was sealed under a name.
func (k Key) Open(name string, sealed []byte) ([]byte, error) {
	if len(sealed) < k.aead.NonceSize() {
		return nil, fmt.Errorf("the secret %q is cut short", name)
	}
	nonce, text := sealed[:k.aead.NonceSize()], sealed[k.aead.NonceSize():]
	secret, err := k.aead.Open(nil, nonce, text, []byte(name))
	if err != nil {
		return nil, fmt.Errorf("the secret %q was sealed with another key, or changed", name)
	}
	return secret, nil
}
