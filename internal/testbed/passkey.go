package testbed

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"testing"

	"github.com/fxamacker/cbor/v2"
)

// Device is a device with one passkey, together with the browser that speaks with it (Web Authentication, level 3). Its
// fields let it answer as no honest one does.
type Device struct {
	Origin     string // of the page; the host is what passkeys are for
	Host       string
	Unverified bool   // nobody gave a finger or a PIN
	Count      uint32 // how often it was used

	t      testing.TB
	id     []byte
	handle []byte // whose the passkey is
	key    *ecdsa.PrivateKey
}

// NewDevice makes a device without a passkey, for pages of an origin.
func NewDevice(t testing.TB, origin, host string) *Device {
	return &Device{Origin: origin, Host: host, t: t}
}

func unpadded(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

// clientData is what the browser says that it was asked (section 5.8.1).
func (d *Device) clientData(kind string, options map[string]any) []byte {
	data, err := json.Marshal(map[string]any{"type": kind, "challenge": options["challenge"], "origin": d.Origin,
		"crossOrigin": false})
	if err != nil {
		d.t.Fatal(err)
	}
	return data
}

// data is the authenticator's (section 6.1), with the passkey's public key where it was just made.
func (d *Device) data(made bool) []byte {
	host := sha256.Sum256([]byte(d.Host))
	flags := byte(1) // somebody is there
	if !d.Unverified {
		flags |= 1 << 2
	}
	if made {
		flags |= 1 << 6
	}
	out := binary.BigEndian.AppendUint32(append(host[:], flags), d.Count)
	if !made {
		return out
	}
	public, err := d.key.PublicKey.Bytes()
	if err != nil {
		d.t.Fatal(err)
	}
	// COSE: an elliptic curve key for ES256 on P-256 (RFC 9053, section 7.1.1).
	key, err := cbor.Marshal(map[int]any{1: 2, 3: -7, -1: 1, -2: public[1:33], -3: public[33:65]})
	if err != nil {
		d.t.Fatal(err)
	}
	out = binary.BigEndian.AppendUint16(append(out, make([]byte, 16)...), uint16(len(d.id)))
	return append(append(out, d.id...), key...)
}

// Make makes the passkey that a page asks for, and gives what the page sends (RegistrationResponseJSON).
func (d *Device) Make(options map[string]any) map[string]any {
	d.t.Helper()
	user, _ := options["user"].(map[string]any)
	var err error
	if d.handle, err = base64.RawURLEncoding.DecodeString(fmt.Sprint(user["id"])); err != nil {
		d.t.Fatal(err)
	}
	if d.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		d.t.Fatal(err)
	}
	d.id = []byte(rand.Text())
	object, err := cbor.Marshal(map[string]any{"fmt": "none", "attStmt": map[string]any{}, "authData": d.data(true)})
	if err != nil {
		d.t.Fatal(err)
	}
	return map[string]any{"id": unpadded(d.id), "rawId": unpadded(d.id), "type": "public-key",
		"clientExtensionResults": map[string]any{}, "response": map[string]any{"attestationObject": unpadded(object),
			"clientDataJSON": unpadded(d.clientData("webauthn.create", options)), "transports": []string{"internal"}}}
}

// Answer signs what a page asks to sign, and gives what the page sends (AuthenticationResponseJSON).
func (d *Device) Answer(options map[string]any) map[string]any {
	d.t.Helper()
	said, data := d.clientData("webauthn.get", options), d.data(false)
	hash := sha256.Sum256(said)
	sum := sha256.Sum256(append(append([]byte{}, data...), hash[:]...))
	signature, err := ecdsa.SignASN1(rand.Reader, d.key, sum[:])
	if err != nil {
		d.t.Fatal(err)
	}
	return map[string]any{"id": unpadded(d.id), "rawId": unpadded(d.id), "type": "public-key",
		"clientExtensionResults": map[string]any{}, "response": map[string]any{"authenticatorData": unpadded(data),
			"clientDataJSON": unpadded(said), "signature": unpadded(signature), "userHandle": unpadded(d.handle)}}
}
