package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
)

// SignInSetting holds how people sign in.
const SignInSetting = "sign-in"

// Of whom a second factor is asked.
const (
	FactorOfNobody         = "nobody"
	FactorOfAdministrators = "administrators"
	FactorOfEveryone       = "everyone"
)

// SignInRules say how people sign in.
type SignInRules struct {
	SecondFactor string     `json:"second_factor"` // of whom it is asked; "" is nobody
	Office       OfficeDoor `json:"office"`
}

// OfficeDoor is the office's own sign-in, by OpenID Connect. The zero OfficeDoor is none.
type OfficeDoor struct {
	Issuer string          `json:"issuer"`
	Client string          `json:"client"` // this service's identity there
	Sealed []byte          `json:"sealed"` // the client's secret
	Name   string          `json:"name"`   // on the button
	Claim  string          `json:"claim"`  // gives the role
	Roles  map[string]Role `json:"roles"`  // by the claim's values
	Make   bool            `json:"make"`   // people who are not known yet are made, if the claim gives them a role
	Only   bool            `json:"only"`   // only administrators sign in by password
}

// Asks says whether a second factor is asked of somebody with a role.
func (r *SignInRules) Asks(role Role) bool {
	return r.SecondFactor == FactorOfEveryone || r.SecondFactor == FactorOfAdministrators && role == Administrator
}

// SignInRules reads how people sign in, and the secret that the office's sign-in knows.
func (s *Settings) SignInRules(ctx context.Context) (r SignInRules, secret string, err error) {
	text, err := s.Get(ctx, SignInSetting)
	if err != nil || text == "" {
		return r, "", err
	}
	if err = json.Unmarshal([]byte(text), &r); err == nil && len(r.Office.Sealed) > 0 {
		secret, err = s.unseal(r.Office.Sealed, "office "+r.Office.Issuer)
	}
	return r, secret, err
}

// SetSignInRules keeps how people sign in. A nil secret keeps the one that there is, unless the issuer is another.
// Sessions of people of whom a second factor is asked now, and who have none, end. Where the issuer is another, it is
// not known any more who anybody is there.
func (s *Settings) SetSignInRules(ctx context.Context, r SignInRules, secret *string, revision int,
	actor string) error {
	old, was, err := s.SignInRules(ctx)
	if err != nil {
		return err
	}
	if secret == nil && old.Office.Issuer == r.Office.Issuer {
		secret = &was
	}
	r.Office.Sealed = nil
	if secret != nil && *secret != "" {
		if r.Office.Sealed, err = s.seal(*secret, "office "+r.Office.Issuer); err != nil {
			return err
		}
	}
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := changeSetting(tx, SignInSetting, string(text), revision, "settings", actor); err != nil {
			return err
		}
		// Whom another sign-in named is nobody at this one.
		if err := exec(tx, statement{"UPDATE people SET subject = '' WHERE substr(subject, 1, length(?) + 1) <> ? || ' '",
			[]any{r.Office.Issuer, r.Office.Issuer}}); err != nil {
			return err
		}
		return forEach(tx.Where("length(totp) = 0 AND passkeys = 0"), func(p *Person) error { return endUnproven(tx, &r, p) })
	})
}

// endUnproven ends the sessions of somebody of whom a second factor is asked, and who has none, but those by the
// office's own sign-in: it has its own.
func endUnproven(tx *gorm.DB, r *SignInRules, p *Person) error {
	if !r.Asks(p.Role) || p.HasFactor() {
		return nil
	}
	return tx.Where("person_id = ? AND kind = 'session' AND label <> ? AND scope <> ?", p.ID, ByOffice,
		ScopeEnrol).Delete(&Key{}).Error
}

// endUnprovenAs does that under the rules as they are.
func endUnprovenAs(tx *gorm.DB, p *Person) error {
	r, err := rulesAs(tx)
	if err != nil {
		return err
	}
	return endUnproven(tx, &r, p)
}

// rulesAs are the rules as they are within a change.
func rulesAs(tx *gorm.DB) (r SignInRules, err error) {
	var text string
	err = tx.Raw("SELECT value FROM settings WHERE key = ?", SignInSetting).Scan(&text).Error
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &r)
	}
	return r, err
}

// ByOffice is the label of a session by the office's own sign-in.
const ByOffice = "office"

// Factor is a person's second factor.
type Factor struct {
	Since    *time.Time // since when codes of an authenticator app are asked for; nil where none are
	Codes    int        // recovery codes that were not used yet
	Passkeys []Passkey
}

// FactorOf says which second factor a person has.
func (s *People) FactorOf(ctx context.Context, p *Person) (f Factor, err error) {
	if !p.HasFactor() {
		return f, nil
	}
	f.Since = p.TOTPAt
	if f.Passkeys, err = s.Passkeys.Of(ctx, p.ID); err != nil {
		return f, err
	}
	err = s.reading(ctx).Raw("SELECT count(*) FROM recovery_codes WHERE person_id = ?", p.ID).Scan(&f.Codes).Error
	return f, err
}

// TOTPSecret opens the secret of a person's codes.
func (s *People) TOTPSecret(p *Person) (string, error) { return s.unseal(p.TOTP, "totp "+p.ID) }

// SetTOTP keeps the secret of a person's codes, with recovery codes, of which only hashes are kept. step is
// the time step of the code that proved it (RFC 6238, section 4.2). The session with the id lets her in from now on.
func (s *People) SetTOTP(ctx context.Context, id, secret string, codes []string, step int64, session string,
	now time.Time) error {
	sealed, err := s.seal(secret, "totp "+id)
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := exec(tx, statement{"UPDATE people SET totp = ?, totp_step = ?, totp_at = ? WHERE id = ?",
			[]any{sealed, step, now.UTC(), id}}); err != nil {
			return err
		}
		if err := letIn(tx, id, session); err != nil {
			return err
		}
		if err := setCodes(tx, id, codes); err != nil {
			return err
		}
		return note(tx, p.Name, "set up second factor", p.Name)
	})
}

// recoveryCode is a code for when a second factor is lost. Only its hash is kept.
type recoveryCode struct {
	Hash     []byte
	PersonID string
}

func setCodes(tx *gorm.DB, id string, codes []string) error {
	if err := tx.Exec("DELETE FROM recovery_codes WHERE person_id = ?", id).Error; err != nil {
		return err
	}
	for _, c := range codes {
		if err := tx.Create(&recoveryCode{HashKey(c), id}).Error; err != nil {
			return err
		}
	}
	return nil
}

// SetCodes replaces a person's recovery codes.
func (s *People) SetCodes(ctx context.Context, id string, codes []string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := setCodes(tx, id, codes); err != nil {
			return err
		}
		return note(tx, p.Name, "make recovery codes", p.Name)
	})
}

// UseStep notes that a code of a time step was used. The error is ErrTaken where it, or a later one, was before: a code
// is good once (RFC 6238, section 5.2).
func (s *People) UseStep(ctx context.Context, id string, step int64) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE people SET totp_step = ? WHERE id = ? AND totp_step < ?", step, id, step)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrTaken
		}
		return done.Error
	})
}

// UseCode uses up a recovery code. The error is ErrNotFound where it is none.
func (s *People) UseCode(ctx context.Context, id, code string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		done := tx.Where("person_id = ? AND hash = ?", id, HashKey(code)).Delete(&recoveryCode{})
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return ErrNotFound
		}
		return note(tx, p.Name, "use recovery code", p.Name)
	})
}

// RemoveFactor takes all that a person has besides the password away. The error is ErrNotFound where there is none.
func (s *People) RemoveFactor(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if !p.HasFactor() {
			return ErrNotFound
		}
		return removeFactor(tx, &p, actor)
	})
}

func removeFactor(tx *gorm.DB, p *Person, actor string) error {
	if err := endTOTP(tx, p); err != nil {
		return err
	}
	p.Passkeys = 0
	if err := endByPasskey(tx, p.ID, ""); err != nil {
		return err
	}
	if err := exec(tx, statement{"DELETE FROM passkeys WHERE person_id = ?", []any{p.ID}},
		statement{"DELETE FROM recovery_codes WHERE person_id = ?", []any{p.ID}}); err != nil {
		return err
	}
	if err := endUnprovenAs(tx, p); err != nil {
		return err
	}
	return note(tx, actor, "remove second factor", p.Name)
}

// BySubject finds whom the office's sign-in means. subject is issuer and subject. mail is the verified address that the
// office's sign-in gives, "" for none: somebody who has it, and who is nobody there yet, becomes that subject.
func (s *People) BySubject(ctx context.Context, subject, mail string) (p Person, err error) {
	p, err = first[Person](s.reading(ctx).Where("subject = ?", subject))
	if !errors.Is(err, ErrNotFound) || mail == "" {
		return p, err
	}
	err = s.change(ctx, func(tx *gorm.DB) error {
		same, err := list[Person](tx.Where("subject = '' AND mail = ? COLLATE NOCASE", mail))
		if err != nil {
			return err
		}
		if len(same) != 1 { // else it is not known who is meant
			return ErrNotFound
		}
		p = same[0]
		p.Subject = subject
		if err := tx.Model(&p).Update("subject", subject).Error; err != nil {
			return err
		}
		return note(tx, p.Name, "meet at the office's sign-in", mail)
	})
	return p, err
}

// AddFromOffice makes somebody whom the office's sign-in lets in. She sees nothing until somebody gives her rights,
// unless she is an administrator.
func (s *People) AddFromOffice(ctx context.Context, p *Person) error {
	p.Revision = 1
	p.AllMailboxes, p.AllCabinets = p.Role == Administrator, p.Role == Administrator
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		after, err := described(tx, p)
		if err != nil {
			return err
		}
		return noteChange(tx, "the office's sign-in", "add person", p.Name, nil, after)
	})
}

// SetRole gives a person the role that the office's sign-in says. The error is ErrLastAdministrator where nobody could
// set anything up any more.
func (s *People) SetRole(ctx context.Context, p *Person, role Role) error {
	return s.changePerson(ctx, p.ID, 0, "change person", "the office's sign-in", func(tx *gorm.DB, now *Person) error {
		now.Role = role
		if err := tx.Model(now).Select("role", "revision").Updates(now).Error; err != nil {
			return err
		}
		*p = *now
		return nil
	})
}
