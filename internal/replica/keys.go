package replica

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"inktray.example/inktray/internal/backup"
)

// keys are what opens a replica: they are at its place only sealed with the passphrase.
type keys struct {
	// Identity opens the pages and the files of the replica (age's X25519).
	Identity string `json:"identity"`
	// Records are the keys of the records, in hexadecimal digits: the newest last, and those before it, with which
	// earlier states are opened.
	Records []string `json:"records"`
}

const keysFolder = "keys"

// ErrPassphrase says that a replica is not opened by the passphrase that was given.
var ErrPassphrase = errors.New("the replica is not opened by this passphrase")

// ErrNone says that a place has no replica.
var ErrNone = errors.New("there is no replica")

// readKeys opens the newest keys of a place. ErrNone where there are none.
func readKeys(ctx context.Context, p Place, passphrase string) (k keys, err error) {
	all, err := p.List(ctx, keysFolder)
	if err != nil {
		return k, err
	}
	name := ""
	for _, e := range all {
		name = max(name, e.Name)
	}
	if name == "" {
		return k, ErrNone
	}
	sealed, err := read(ctx, p, path.Join(keysFolder, name))
	if err != nil {
		return k, err
	}
	is := sha256.Sum256(slices.Concat([]byte(passphrase), []byte{0}, sealed))
	if known, ok := openedKeys.Load(is); ok {
		return known.(keys), nil
	}
	identities, err := backup.Identities(passphrase, "")
	if err != nil {
		return k, err
	}
	opened, err := age.Decrypt(bytes.NewReader(sealed), identities...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return k, ErrPassphrase
	}
	if err == nil {
		err = json.NewDecoder(io.LimitReader(opened, mostSmall)).Decode(&k)
	}
	if err != nil {
		return k, fmt.Errorf("the keys of the replica cannot be read: %w", err)
	}
	openedKeys.Store(is, k)
	return k, nil
}

// openedKeys are keys that were opened before, by passphrase and sealed form: opening takes half a second by intent,
// which a machine that takes over has not.
var openedKeys sync.Map

// writeKeys writes keys, and removes those before them.
func writeKeys(ctx context.Context, p Place, passphrase string, k keys) error {
	recipients, err := (&backup.Seal{Passphrase: passphrase}).Recipients()
	if err != nil {
		return err
	}
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	sealed, err := age.EncryptReader(bytes.NewReader(text), recipients...)
	if err != nil {
		return err
	}
	before, err := p.List(ctx, keysFolder)
	if err != nil {
		return err
	}
	last := 0
	for _, e := range before {
		if n, err := strconv.Atoi(strings.TrimSuffix(e.Name, ".age")); err == nil {
			last = max(last, n)
		}
	}
	if err := p.Write(ctx, sealed, named(path.Join(keysFolder, fmt.Sprintf("%06d.age", last+1)))); err != nil {
		return err
	}
	for _, e := range before {
		if err := p.Remove(ctx, path.Join(keysFolder, e.Name)); err != nil {
			return err
		}
	}
	return nil
}

// stamped is a name that begins with a moment, so that names sort by it.
func stamped(at time.Time) string {
	return fmt.Sprintf("%012x-%s", at.UnixMilli(), strings.ToLower(rand.Text()[:8]))
}

// stampOf reads the moment of a name.
func stampOf(name string) (at time.Time, ok bool) {
	if len(name) < 13 || name[12] != '-' {
		return at, false
	}
	var ms int64
	if _, err := fmt.Sscanf(name[:12], "%012x", &ms); err != nil {
		return at, false
	}
	return time.UnixMilli(ms).UTC(), true
}

// hexadecimal writes keys as they are kept.
func hexadecimal(all [][32]byte) (written []string) {
	for _, one := range all {
		written = append(written, hex.EncodeToString(one[:]))
	}
	return written
}

// mostKeys bounds the keys of records that are kept.
const mostKeys = 50

// with adds keys of the records, the newest last.
func (k keys) with(all [][32]byte) keys {
	added := hexadecimal(all)
	k.Records = slices.DeleteFunc(slices.Clone(k.Records), func(one string) bool { return slices.Contains(added, one) })
	k.Records = append(k.Records, added...)
	k.Records = k.Records[max(0, len(k.Records)-mostKeys):]
	return k
}

// same says whether two keys are the same.
func (k *keys) same(other *keys) bool {
	return k.Identity == other.Identity && slices.Equal(k.Records, other.Records)
}
