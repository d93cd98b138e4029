package api

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"sync"

	"golang.org/x/crypto/chacha20poly1305"
)

// sealer seals what a browser carries for the service and may neither read nor change: so strangers who begin something
// fill no memory here. What was sealed for one purpose is good for no other, and nothing is after a start.
type sealer struct{ aead func() cipher.AEAD }

func newSealer() sealer {
	return sealer{aead: sync.OnceValue(func() cipher.AEAD {
		key := make([]byte, chacha20poly1305.KeySize)
		rand.Read(key)
		aead, err := chacha20poly1305.NewX(key)
		if err != nil {
			panic(err) // the key has the right size
		}
		return aead
	})}
}

func (s sealer) seal(purpose string, what any) (string, error) {
	text, err := json.Marshal(what)
	if err != nil {
		return "", err
	}
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	rand.Read(nonce)
	return base64.RawURLEncoding.EncodeToString(s.aead().Seal(nonce, nonce, text, []byte(purpose))), nil
}

// open reads what was sealed; false where it was not sealed here for this purpose.
func (s sealer) open(purpose, sealed string, into any) bool {
	data, err := base64.RawURLEncoding.DecodeString(sealed)
	if err != nil || len(data) < chacha20poly1305.NonceSizeX {
		return false
	}
	text, err := s.aead().Open(nil, data[:chacha20poly1305.NonceSizeX], data[chacha20poly1305.NonceSizeX:],
		[]byte(purpose))
	return err == nil && json.Unmarshal(text, into) == nil
}
