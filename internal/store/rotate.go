package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/disk"
)

// While the key is changed, the next one and the former one lie beside it.
const (
	nextKeyFile   = keyFile + ".next"
	formerKeyFile = keyFile + ".former"
)

// settle is how long something that was sealed with the former key may take until it is committed.
const settle = time.Second

// RotateKey gives the records a new key, with which everything that is sealed in them is sealed anew, while they are
// used. It returns how many secrets there were. Whatever happens meanwhile, the records open with the key beside them.
func (s *Settings) RotateKey(ctx context.Context, actor string) (sealed int, err error) {
	s.rotating.Lock()
	defer s.rotating.Unlock()
	folder := filepath.Dir(s.path)
	if err := s.endEarlier(ctx, folder); err != nil {
		return 0, err
	}
	var next [32]byte
	rand.Read(next[:])
	err = writeKey(filepath.Join(folder, nextKeyFile), next)
	if err == nil {
		err = disk.Flush(folder) // nothing is sealed with a key that might not last
	}
	if err != nil {
		return 0, fmt.Errorf("writing the new key: %w", err)
	}
	before := s.keys.Load()
	if r := s.replica.Load(); r != nil {
		if err := (*r).NextKeys(ctx, *before.now, next); err != nil {
			return 0, err
		}
	}
	s.keys.Store(&keyring{now: &next, former: before.now})
	err = s.change(ctx, func(tx *gorm.DB) error {
		if sealed, err = s.sealAnew(tx); err != nil {
			return err
		}
		if err := s.keepCheck(tx); err != nil {
			return err
		}
		return note(tx, actor, "change key", fmt.Sprint(sealed, " secrets sealed anew"))
	})
	if err != nil {
		// What was sealed meanwhile opens still. The file stays: that it did not go through is not known for certain.
		s.keys.Store(&keyring{now: before.now, former: &next})
		return 0, err
	}
	if err := takeNextKey(folder); err != nil {
		return sealed, fmt.Errorf("the records have their new key, but it could not get its name: %w", err)
	}
	select { // what was sealed just before is committed by then
	case <-ctx.Done():
	case <-time.After(settle):
	}
	err = s.change(context.WithoutCancel(ctx), func(tx *gorm.DB) error { _, err := s.sealAnew(tx); return err })
	if err != nil {
		return sealed, err
	}
	return sealed, os.Remove(filepath.Join(folder, formerKeyFile))
}

func writeKey(name string, key [32]byte) error {
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(hex.EncodeToString(key[:]) + "\n")
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// takeNextKey gives the next key its name, and keeps the former one beside it.
func takeNextKey(folder string) error {
	at := func(name string) string { return filepath.Join(folder, name) }
	if err := os.Rename(at(keyFile), at(formerKeyFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.Rename(at(nextKeyFile), at(keyFile)); err != nil {
		return err
	}
	return disk.Flush(folder)
}

// nextKey finds the key of records whose key was being changed when the program ended.
func nextKey(db *gorm.DB, folder string) (key [32]byte, fits bool, err error) {
	key, there, err := readKey(filepath.Join(folder, nextKeyFile))
	if err != nil || !there {
		return key, false, err
	}
	if fits, err = keyFits(db, key); err != nil || !fits {
		return key, false, err
	}
	return key, true, takeNextKey(folder)
}

// readKey reads a key beside the present one. A file that was not written to its end is none: nothing was sealed with
// it yet.
func readKey(name string) (key [32]byte, there bool, err error) {
	if there, err := present(name); err != nil || !there {
		return key, false, err
	}
	key, err = openKey(name)
	if errors.Is(err, errNoKey) {
		return key, false, nil
	}
	return key, err == nil, err
}

// endEarlier ends, while the records are used, an earlier change of the key that could not end: if the records have the
// next key, that becomes the present one, and what is sealed with the other one is sealed anew.
func (s *Settings) endEarlier(ctx context.Context, folder string) error {
	ring := s.keys.Load()
	key, fits, err := nextKey(s.reading(ctx), folder)
	if err != nil {
		return err
	}
	if fits && key != *ring.now {
		ring = &keyring{now: &key, former: ring.now}
		s.keys.Store(ring)
	}
	if ring.former == nil {
		return nil
	}
	return s.change(ctx, func(tx *gorm.DB) error { _, err := s.sealAnew(tx); return err })
}

// endRotation removes what a change of the key left, once nothing is sealed with another key any more: with the former
// one, or with the next one where the change did not go through.
func endRotation(db *gorm.DB, folder string, ring *keyring) error {
	for _, name := range []string{filepath.Join(folder, formerKeyFile), filepath.Join(folder, nextKeyFile)} {
		key, there, err := readKey(name)
		if err != nil {
			return err
		}
		if there {
			s := &Settings{&Store{}}
			s.keys.Store(&keyring{now: ring.now, former: &key})
			err = db.Transaction(func(tx *gorm.DB) error { _, err := s.sealAnew(tx); return err })
			if err != nil {
				return err
			}
		}
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// sealAnew seals everything that is sealed in the records with the present key. What was given for another way to its
// server stays as it is: it does not open, and is asked for again.
func (s *Settings) sealAnew(tx *gorm.DB) (n int, err error) {
	again := func(sealed []byte, owner string, keep func([]byte) error) error {
		if len(sealed) == 0 {
			return nil
		}
		secret, err := s.unseal(sealed, owner)
		if err != nil {
			return nil
		}
		if sealed, err = s.seal(secret, owner); err != nil {
			return err
		}
		n++
		return keep(sealed)
	}
	into := func(table, column, id string) func([]byte) error {
		return func(b []byte) error { return tx.Table(table).Where("id = ?", id).Update(column, b).Error }
	}
	err = inOrder(
		func() error {
			return forEach(tx, func(m *Mailbox) error {
				return again(m.Secret, bound(m.ID, m.route()), into("mailboxes", "secret", m.ID))
			})
		},
		func() error {
			return forEach(tx, func(c *Cabinet) error {
				return again(c.Secret, bound(c.ID, c.route()), into("cabinets", "secret", c.ID))
			})
		},
		func() error {
			return forEach(tx, func(a *Addressee) error {
				return again(a.Secret, bound("addressee/"+a.ID, a.route()), into("addressees", "secret", a.ID))
			})
		},
		func() error {
			return forEach(tx.Where("length(passwords) > 0"), func(c *Correspondent) error {
				return again(c.Passwords, "correspondent "+c.ID, into("correspondents", "passwords", c.ID))
			})
		},
		func() error {
			return forEach(tx.Where("length(totp) > 0"), func(p *Person) error {
				return again(p.TOTP, "totp "+p.ID, into("people", "totp", p.ID))
			})
		},
		func() error {
			return forEach(tx, func(m *Machine) error {
				return again(m.Secret, bound(m.owner(), m.route()), into("machines", "secret", m.ID))
			})
		},
		func() error { return s.settingsAnew(tx, again) })
	return n, err
}

// settingsAnew seals anew what is sealed in settings.
func (s *Settings) settingsAnew(tx *gorm.DB, again func([]byte, string, func([]byte) error) error) error {
	setting := func(key string, into any, sealed func() (*[]byte, string)) error {
		var text string
		if err := tx.Raw("SELECT value FROM settings WHERE key = ?", key).Scan(&text).Error; err != nil || text == "" {
			return err
		}
		if err := json.Unmarshal([]byte(text), into); err != nil {
			return err
		}
		at, owner := sealed()
		return again(*at, owner, func(b []byte) error {
			*at = b
			data, err := json.Marshal(into)
			if err != nil {
				return err
			}
			return tx.Exec("UPDATE settings SET value = ? WHERE key = ?", string(data), key).Error
		})
	}
	var o Outgoing
	var b BackupPlan
	var r SignInRules
	return inOrder(
		func() error {
			return setting(OutgoingSetting, &o, func() (*[]byte, string) { return &o.Sealed, bound("outgoing", o.route()) })
		},
		func() error {
			return setting(BackupSetting, &b, func() (*[]byte, string) { return &b.Sealed, backupOwner })
		},
		func() error {
			return setting(SignInSetting, &r, func() (*[]byte, string) { return &r.Office.Sealed, "office " + r.Office.Issuer })
		})
}
