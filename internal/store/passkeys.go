package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
)

// Passkey is a key pair of a device, by which a person signs in without a password (Web Authentication, level 3).
type Passkey struct {
	ID         string `gorm:"primaryKey"`
	PersonID   string
	Name       string // as the person calls the device
	Host       string // the name by which the service was reached: the device uses it for no other
	Credential []byte // its id
	Data       []byte // the public key and what goes with it, JSON
	MadeAt     time.Time
	UsedAt     *time.Time
}

// HasFactor says whether a person has something besides the password.
func (p *Person) HasFactor() bool { return len(p.TOTP) > 0 || p.Passkeys > 0 }

// Passkeys are the passkeys of people.
type Passkeys struct{ *Store }

// Of lists a person's passkeys, the oldest first.
func (s *Passkeys) Of(ctx context.Context, id string) ([]Passkey, error) {
	return list[Passkey](s.reading(ctx).Where("person_id = ?", id).Order("made_at, id"))
}

// Any says whether somebody has a passkey for a host.
func (s *Passkeys) Any(ctx context.Context, host string) (any bool, err error) {
	err = s.reading(ctx).Raw("SELECT EXISTS (SELECT 1 FROM passkeys WHERE host = ?)", host).Scan(&any).Error
	return any, err
}

// Add keeps a passkey. Where it is the first second factor of the person, recovery codes are kept, too, and anew is
// true. The session with the id lets her in from now on. The error is ErrTaken where the passkey is known.
func (s *Passkeys) Add(ctx context.Context, k *Passkey, codes []string, session string) (anew bool, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", k.PersonID))
		if err != nil {
			return err
		}
		if err := tx.Create(k).Error; err != nil {
			return err
		}
		if anew = !p.HasFactor(); anew {
			if err := setCodes(tx, p.ID, codes); err != nil {
				return err
			}
		}
		if err := letIn(tx, p.ID, session); err != nil {
			return err
		}
		return note(tx, p.Name, "add passkey", k.Name)
	})
	return anew && err == nil, err
}

// letIn makes a session, which was good for setting up a second factor only, an ordinary one.
func letIn(tx *gorm.DB, person, session string) error {
	return tx.Exec("UPDATE keys SET scope = '' WHERE id = ? AND person_id = ? AND scope = ?", session, person,
		ScopeEnrol).Error
}

// Use notes that the passkey of a credential was used, with what is known of it since. The error is ErrNotFound where
// it was removed.
func (s *Passkeys) Use(ctx context.Context, credential, data []byte, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE passkeys SET data = ?, used_at = ? WHERE credential = ?", data, now.UTC(), credential)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	})
}

// ErrLastFactor is a second factor that is asked for, and that is the last one a person has.
var ErrLastFactor = errors.New("a second factor is required, and this is the last one")

// Remove takes one of a person's own passkeys away. The errors are ErrNotFound, and ErrLastFactor.
func (s *Passkeys) Remove(ctx context.Context, person, id, session string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", person))
		if err != nil {
			return err
		}
		k, err := first[Passkey](tx.Where("id = ? AND person_id = ?", id, person))
		if err != nil {
			return err
		}
		if err := tx.Delete(&k).Error; err != nil {
			return err
		}
		p.Passkeys--
		if err := withoutFactor(tx, &p); err != nil {
			return err
		}
		if err := endByPasskey(tx, person, session); err != nil {
			return err
		}
		return note(tx, p.Name, "remove passkey", k.Name)
	})
}

// ByPasskey is the label of a session by passkey.
const ByPasskey = "passkey"

// endByPasskey ends the sessions that a passkey began, but one: the device may be lost or stolen.
func endByPasskey(tx *gorm.DB, person, but string) error {
	return tx.Where("person_id = ? AND kind = 'session' AND label = ? AND id <> ?", person, ByPasskey,
		but).Delete(&Key{}).Error
}

// RemoveTOTP takes the codes of a person's own authenticator app away. The errors are ErrNotFound, and ErrLastFactor.
func (s *People) RemoveTOTP(ctx context.Context, person string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", person))
		if err != nil {
			return err
		}
		if len(p.TOTP) == 0 {
			return ErrNotFound
		}
		if err := endTOTP(tx, &p); err != nil {
			return err
		}
		if err := withoutFactor(tx, &p); err != nil {
			return err
		}
		return note(tx, p.Name, "remove authenticator app", p.Name)
	})
}

func endTOTP(tx *gorm.DB, p *Person) error {
	p.TOTP, p.TOTPAt, p.TOTPStep = []byte{}, nil, 0
	return tx.Exec("UPDATE people SET totp = x'', totp_at = NULL, totp_step = 0 WHERE id = ?", p.ID).Error
}

// withoutFactor sees to somebody who has taken away something of her own: recovery codes are good as long as there is
// something. The error is ErrLastFactor where something is asked for, and nothing is left.
func withoutFactor(tx *gorm.DB, p *Person) error {
	if p.HasFactor() {
		return nil
	}
	rules, err := rulesAs(tx)
	if err != nil {
		return err
	}
	if rules.Asks(p.Role) {
		return ErrLastFactor
	}
	return tx.Exec("DELETE FROM recovery_codes WHERE person_id = ?", p.ID).Error
}
