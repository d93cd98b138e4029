package store

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

var errNoKey = errors.New("is not a key")

// openKey reads the key that seals secrets, or makes it. It is beside the
// database, not in it, so that a copy of the database alone tells nothing.
func openKey(path string) (key [32]byte, err error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		rand.Read(key[:])
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return key, fmt.Errorf("writing the key: %w", err)
		}
		_, err = f.WriteString(hex.EncodeToString(key[:]) + "\n")
		return key, errors.Join(err, f.Sync(), f.Close())
	}
	if err != nil {
		return key, fmt.Errorf("reading the key: %w", err)
	}
	decoded, err := hex.DecodeString(strings.TrimSpace(string(data)))
	if err != nil || len(decoded) != len(key) {
		return key, fmt.Errorf("%s %w: it must hold 64 hexadecimal digits", path, errNoKey)
	}
	copy(key[:], decoded)
	return key, nil
}

// keyring are the key that seals, and the one before it, which still opens what was sealed at the moment of a rotation.
type keyring struct{ now, former *[32]byte }

// withKey is a store that seals with a key, for what is done before it is open.
func withKey(key [32]byte) *Store {
	s := &Store{}
	s.keys.Store(&keyring{now: &key})
	return s
}

// seal encrypts a secret for one owner, so that it cannot be moved to another.
func (s *Store) seal(secret, owner string) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(s.keys.Load().now[:])
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize())
	rand.Read(nonce)
	return aead.Seal(nonce, nonce, []byte(secret), []byte(owner)), nil
}

func (s *Store) unseal(sealed []byte, owner string) (string, error) {
	ring := s.keys.Load()
	secret, err := open32(ring.now, sealed, owner)
	if err != nil && ring.former != nil {
		if before, formerErr := open32(ring.former, sealed, owner); formerErr == nil {
			return before, nil
		}
	}
	return secret, err
}

// open32 opens what was sealed with a key.
func open32(key *[32]byte, sealed []byte, owner string) (string, error) {
	aead, err := chacha20poly1305.NewX(key[:])
	if err != nil {
		return "", err
	}
	if len(sealed) < aead.NonceSize() {
		return "", errors.New("the sealed secret is too short")
	}
	secret, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], []byte(owner))
	if err != nil {
		return "", errors.New("the secret cannot be opened with this key: was secret.key replaced?")
	}
	return string(secret), nil
}
