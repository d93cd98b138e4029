package backup

import (
	"fmt"
	"strings"

	"filippo.io/age"
)

// shortest is how long a passphrase has to be, in characters.
const shortest = 12

// workFactor is how much work it is to try a passphrase: 2^17 rounds, 128 MB and about half a second (scrypt, RFC
// 7914).
const workFactor = 17

// A Seal says who can open backups: whoever knows a passphrase, or has the private key to one of some public keys.
type Seal struct {
	Passphrase string
	PublicKeys []string // age's, “age1…”
}

// SealError says what is wrong with a seal.
type SealError struct {
	Field   string // passphrase or public_keys
	Problem string // a sentence without its full stop
}

func (e *SealError) Error() string { return e.Problem }

// Recipients are those who can open what is sealed. The error is a *SealError.
func (s *Seal) Recipients() ([]age.Recipient, error) {
	switch {
	case s.Passphrase != "" && len(s.PublicKeys) > 0:
		return nil, &SealError{"passphrase", "a backup is sealed with a passphrase or with public keys, not with both"}
	case s.Passphrase == "" && len(s.PublicKeys) == 0:
		return nil, &SealError{"passphrase", "give the passphrase or the public key to seal the backup with"}
	case s.Passphrase != "":
		if len([]rune(s.Passphrase)) < shortest {
			return nil, &SealError{"passphrase", fmt.Sprintf("the passphrase needs at least %d characters", shortest)}
		}
		r, err := age.NewScryptRecipient(s.Passphrase)
		if err != nil {
			return nil, &SealError{"passphrase", err.Error()}
		}
		r.SetWorkFactor(workFactor)
		return []age.Recipient{r}, nil
	}
	var all []age.Recipient
	for _, key := range s.PublicKeys {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(key))
		if err != nil {
			return nil, &SealError{"public_keys", fmt.Sprintf("%q is not a public key; it begins with age1 and is written "+
				"by inktray backup new-key", key)}
		}
		all = append(all, r)
	}
	return all, nil
}

// Witness is who can open a backup that was just made for a seal, to prove that it can be opened. Where a public key
// is used its owner alone could, so the backup is sealed for one more key, which is forgotten afterwards.
func (s *Seal) Witness() (recipients []age.Recipient, identity age.Identity, err error) {
	if recipients, err = s.Recipients(); err != nil {
		return nil, nil, err
	}
	if s.Passphrase != "" {
		identity, err = age.NewScryptIdentity(s.Passphrase)
		return recipients, identity, err
	}
	once, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, nil, err
	}
	return append(recipients, once.Recipient()), once, nil
}

// Identities open a backup: by a passphrase, or by the private keys in a text (age's form, a key in each line). The
// error is a *SealError.
func Identities(passphrase, keys string) ([]age.Identity, error) {
	var all []age.Identity
	if passphrase != "" {
		id, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, &SealError{"passphrase", err.Error()}
		}
		id.SetMaxWorkFactor(workFactor + 3)
		all = append(all, id)
	}
	if keys != "" {
		more, err := age.ParseIdentities(strings.NewReader(keys))
		if err != nil {
			return nil, &SealError{"key", "the file holds no private key; it begins with AGE-SECRET-KEY-"}
		}
		all = append(all, more...)
	}
	if len(all) == 0 {
		return nil, &SealError{"passphrase", "give the passphrase or the private key that opens the backup"}
	}
	return all, nil
}

// NewKey makes a pair of keys: the private one opens what is sealed for the public one.
func NewKey() (private, public string, err error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	return id.String(), id.Recipient().String(), nil
}
