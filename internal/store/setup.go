package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
)

// NewID makes an identity that is never used again: 26 characters of base32.
func NewID() string { return strings.ToLower(rand.Text()) }

// Get reads a setting of the service, "" where there is none.
func (s *Settings) Get(ctx context.Context, key string) (string, error) {
	var value string
	err := s.reading(ctx).Raw("SELECT value FROM settings WHERE key = ?", key).Scan(&value).Error
	return value, err
}

// Set keeps a setting.
func (s *Settings) Set(ctx context.Context, key, value string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = "+
			"excluded.value", key, value).Error
	})
}

// RevisionOf is which change of a setting is the present one; one that was never
// changed has 1.
func (s *Settings) RevisionOf(ctx context.Context, key string) (int, error) {
	n, err := settingRevision(s.reading(ctx), key)
	return n, explain(err)
}

func settingRevision(db *gorm.DB, key string) (n int, err error) {
	err = db.Raw("SELECT coalesce((SELECT revision FROM settings WHERE key = ?), 1)", key).Scan(&n).Error
	return n, err
}

// Change replaces a setting. revision is the revision that the change is based on, 0 for any; the error is ErrChanged
// where the present revision is another one.
func (s *Settings) Change(ctx context.Context, key, value string, revision int, what, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error { return changeSetting(tx, key, value, revision, what, actor) })
}

func changeSetting(tx *gorm.DB, key, value string, revision int, what, actor string) error {
	now, err := settingRevision(tx, key)
	if err != nil {
		return err
	}
	if revision > 0 && revision != now {
		return ErrChanged
	}
	var was string
	if err := tx.Raw("SELECT value FROM settings WHERE key = ?", key).Scan(&was).Error; err != nil {
		return err
	}
	err = tx.Exec("INSERT INTO settings (key, value, revision) VALUES (?, ?, ?) ON CONFLICT (key) DO UPDATE SET value "+
		"= excluded.value, revision = excluded.revision", key, value, now+1).Error
	if err != nil {
		return err
	}
	object := ""
	if what == "settings" {
		object = key
	}
	return noteRows(tx, actor, what, object, was, value)
}

// GetOr is a setting; where there is none it gets the value that is made.
func (s *Settings) GetOr(ctx context.Context, key string, value func() string) (string, error) {
	if found, err := s.Get(ctx, key); err != nil || found != "" {
		return found, err
	}
	if err := s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO NOTHING", key, value()).Error
	}); err != nil {
		return "", err
	}
	return s.Get(ctx, key)
}

// HashKey is how a session or token is kept.
func HashKey(secret string) []byte { h := sha256.Sum256([]byte(secret)); return h[:] }

// All lists the mailboxes that the viewer may see.
func (s *Mailboxes) All(ctx context.Context, v Viewer) ([]Mailbox, error) {
	return list[Mailbox](v.sees(s.reading(ctx), "id").Order("name"))
}

// ByID finds a mailbox.
func (s *Mailboxes) ByID(ctx context.Context, v Viewer, id string) (Mailbox, error) {
	return first[Mailbox](v.sees(s.reading(ctx), "id").Where("id = ?", id))
}

// Named finds a mailbox by its name.
func (s *Mailboxes) Named(ctx context.Context, v Viewer, name string) (Mailbox, error) {
	return first[Mailbox](v.sees(s.reading(ctx), "id").Where("name = ?", name))
}

// Secret opens a mailbox's secret, for connecting only.
func (s *Mailboxes) Secret(m *Mailbox) (string, error) { return s.unsealFor(m.Secret, m.ID, m.route()) }

// Add keeps a mailbox with its secret sealed.
func (s *Mailboxes) Add(ctx context.Context, m *Mailbox, secret, actor string) error {
	var err error
	if m.Secret, err = s.sealFor(secret, m.ID, m.route()); err != nil {
		return err
	}
	m.Revision = 1
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(m).Error; err != nil {
			return err
		}
		return noteRows(tx, actor, "add mailbox", m.Name, nil, m)
	})
}

// Change replaces a mailbox of the given revision. A nil secret keeps the stored one, or is ErrRoute where that was
// given for another route. Folders and messages are kept.
func (s *Mailboxes) Change(ctx context.Context, m *Mailbox, secret *string, revision int, actor string) error {
	if secret != nil {
		var err error
		if m.Secret, err = s.sealFor(*secret, m.ID, m.route()); err != nil {
			return err
		}
	} else if _, err := s.Secret(m); err != nil {
		return err
	}
	m.Revision = revision + 1
	return s.change(ctx, func(tx *gorm.DB) error {
		was, err := first[Mailbox](tx.Where("id = ? AND revision = ?", m.ID, revision))
		if errors.Is(err, ErrNotFound) {
			return ErrChanged
		}
		if err != nil {
			return err
		}
		if err := tx.Model(m).Select("*").Updates(m).Error; err != nil {
			return err
		}
		return noteRows(tx, actor, "change mailbox", was.Name, was, m)
	})
}

// Remove forgets a mailbox. Its messages and filings stay known.
func (s *Mailboxes) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		m, err := first[Mailbox](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		err = exec(tx,
			statement{"DELETE FROM mailboxes WHERE id = ?", []any{id}},
			statement{"DELETE FROM grants WHERE kind = 'mailbox' AND object = ?", []any{id}},
			statement{"DELETE FROM notices WHERE mailbox_id = ?", []any{id}},
			statement{"DELETE FROM numbers WHERE mailbox_id = ?", []any{id}},
			statement{"DELETE FROM numberings WHERE mailbox_id = ?", []any{id}},
			statement{"DELETE FROM rejections WHERE mailbox_id = ?", []any{id}},
			statement{"DELETE FROM listings WHERE mailbox_id = ?", []any{id}},
			statement{"DELETE FROM retries WHERE mailbox_id = ?", []any{id}})
		if err != nil {
			return err
		}
		return noteRows(tx, actor, "remove mailbox", m.Name, m, nil)
	})
}

// WaitingIn counts what of a mailbox waits to be filed, or in the tray.
func (s *Mailboxes) WaitingIn(ctx context.Context, mailboxID string) (int, error) {
	var n int
	err := s.reading(ctx).Raw(
		`SELECT (SELECT count(*) FROM journal WHERE mailbox_id = ? AND state IN ('planned', 'staged', 'held', 'failed'))
		+ (SELECT count(*) FROM retries WHERE mailbox_id = ? AND state <> 'set aside')`, mailboxID, mailboxID).Scan(&n).Error
	return n, err
}

// All lists the cabinets.
func (s *Cabinets) All(ctx context.Context) ([]Cabinet, error) {
	return list[Cabinet](s.reading(ctx).Order("name"))
}

// Seen lists the cabinets that the viewer may see.
func (s *Cabinets) Seen(ctx context.Context, v Viewer) ([]Cabinet, error) {
	return list[Cabinet](v.seesCabinets(s.reading(ctx)).Order("name"))
}

// SeenByID finds a cabinet that the viewer may see.
func (s *Cabinets) SeenByID(ctx context.Context, v Viewer, id string) (Cabinet, error) {
	return first[Cabinet](v.seesCabinets(s.reading(ctx)).Where("id = ?", id))
}

// SeenNamed finds a cabinet that the viewer may see, by its name.
func (s *Cabinets) SeenNamed(ctx context.Context, v Viewer, name string) (Cabinet, error) {
	return first[Cabinet](v.seesCabinets(s.reading(ctx)).Where("name = ?", name))
}

// ByID finds a cabinet.
func (s *Cabinets) ByID(ctx context.Context, id string) (Cabinet, error) {
	return first[Cabinet](s.reading(ctx).Where("id = ?", id))
}

// Named finds a cabinet by its name.
func (s *Cabinets) Named(ctx context.Context, name string) (Cabinet, error) {
	return first[Cabinet](s.reading(ctx).Where("name = ?", name))
}

// Secret opens a cabinet's secret, for reaching it only.
func (s *Cabinets) Secret(c *Cabinet) (string, error) {
	if len(c.Secret) == 0 {
		return "", nil
	}
	return s.unsealFor(c.Secret, c.ID, c.route())
}

// Seal seals a cabinet's secret for the way to it that the cabinet has now; it is kept with the cabinet.
func (s *Cabinets) Seal(c *Cabinet, secret string) (err error) {
	c.Secret, err = s.sealFor(secret, c.ID, c.route())
	return err
}

// Add keeps a cabinet.
func (s *Cabinets) Add(ctx context.Context, c *Cabinet, actor string) error {
	c.Revision = 1
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(c).Error; err != nil {
			return err
		}
		return noteRows(tx, actor, "add cabinet", c.Name, nil, c)
	})
}

// Change keeps how a cabinet is reached, by colleagues and from here. revision
// is the one that was changed, 0 for whatever is there. Where its secret was given for another route this is ErrRoute.
func (s *Cabinets) Change(ctx context.Context, c *Cabinet, revision int, actor string) error {
	if _, err := s.Secret(c); err != nil {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		was, err := first[Cabinet](tx.Where("id = ?", c.ID))
		if err != nil {
			return err
		}
		if revision > 0 && was.Revision != revision {
			return ErrChanged
		}
		c.Revision = was.Revision + 1
		if err := tx.Model(c).Select("address", "username", "secret", "particulars",
			"revision").Updates(c).Error; err != nil {
			return err
		}
		return noteRows(tx, actor, "change cabinet", c.Name, was, c)
	})
}

// Moved keeps where a cabinet is now. All that was filed in it follows.
func (s *Cabinets) Moved(ctx context.Context, c *Cabinet, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		was, err := first[Cabinet](tx.Where("id = ?", c.ID))
		if err != nil {
			return err
		}
		c.Revision = was.Revision + 1
		done := tx.Model(c).Select("kind", "folder", "mode", "owner", "address", "identity", "username", "secret",
			"particulars", "revision").Updates(c).Error
		return errors.Join(done, note(tx, actor, "move cabinet", c.Name+": "+was.Folder+" to "+c.Folder))
	})
}

// FilesIn counts the files that were filed in a cabinet and lie there.
func (s *Cabinets) FilesIn(ctx context.Context, cabinetID string) (int, error) {
	var n int64
	err := s.reading(ctx).Table("register").Where("cabinet_id = ? AND filed_at IS NOT NULL", cabinetID).Count(
		&n,
	).Error
	return int(n), err
}

// KeptIn lists the names under which a cabinet keeps files that were moved out of the way.
func (s *Cabinets) KeptIn(ctx context.Context, cabinetID string) (names []string, err error) {
	err = s.reading(ctx).Table("register").Where("cabinet_id = ? AND kept_as <> ''", cabinetID).Order(
		"kept_as",
	).Pluck("kept_as", &names).Error
	return names, err
}

// Remove forgets a cabinet; its files stay where they are.
func (s *Cabinets) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		was, err := first[Cabinet](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := exec(tx, statement{"DELETE FROM cabinets WHERE id = ?", []any{id}},
			statement{"DELETE FROM notices WHERE kind = 'cabinet' AND object = ?", []any{id}},
			statement{"DELETE FROM grants WHERE kind = 'cabinet' AND object = ?", []any{id}}); err != nil {
			return err
		}
		return noteRows(tx, actor, "remove cabinet", was.Name, was, nil)
	})
}

// Parsed reads the rule's document.
func (r *Rule) Parsed() (*rule.Rule, error) { return rule.ParseRule([]byte(r.Document)) }

// All lists the rules in their order.
func (s *Rules) All(ctx context.Context) ([]Rule, error) {
	return list[Rule](s.reading(ctx).Where("NOT removed").Order("place, made_at"))
}

// Seen lists the rules that look into a mailbox that the viewer may see, in their order.
func (s *Rules) Seen(ctx context.Context, v Viewer) ([]Rule, error) {
	rows, err := s.All(ctx)
	if err != nil || v.All {
		return rows, err
	}
	mailboxes, err := (&Mailboxes{s.Store}).All(ctx, v)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(rows, func(r Rule) bool { return !looksInto(&r, mailboxes) }), nil
}

// SeenByID finds a rule that looks into a mailbox that the viewer may see.
func (s *Rules) SeenByID(ctx context.Context, v Viewer, id string) (Rule, error) {
	r, err := s.ByID(ctx, id)
	if err != nil || v.All {
		return r, err
	}
	mailboxes, err := (&Mailboxes{s.Store}).All(ctx, v)
	if err == nil && !looksInto(&r, mailboxes) {
		err = ErrNotFound
	}
	return r, err
}

func looksInto(r *Rule, mailboxes []Mailbox) bool {
	parsed, err := r.Parsed()
	return err == nil && slices.ContainsFunc(mailboxes, func(m Mailbox) bool { return parsed.Look.Looks(m.Name) })
}

// Running lists the rules that are on, in their order, without their documents.
func (s *Rules) Running(ctx context.Context) ([]Rule, error) {
	return list[Rule](s.reading(ctx).Select("id", "name", "revision").Where("running AND NOT removed").
		Order("place, made_at"))
}

// RunningRevisions lists the states in which rules are running.
func (s *Rules) RunningRevisions(ctx context.Context) ([]RuleRevision, error) {
	return list[RuleRevision](s.reading(ctx).Select("rule_revisions.*").Joins("JOIN rules ON rules.id = " +
		"rule_revisions.rule_id AND rules.revision = rule_revisions.revision").Where("rules.running AND NOT rules.removed"))
}

// ByID finds a rule, also one that was removed.
func (s *Rules) ByID(ctx context.Context, id string) (Rule, error) {
	return first[Rule](s.reading(ctx).Where("id = ?", id))
}

// Revision finds a state of a rule.
func (s *Rules) Revision(ctx context.Context, ruleID string, revision int) (RuleRevision, error) {
	return first[RuleRevision](s.reading(ctx).Where("rule_id = ? AND revision = ?", ruleID, revision))
}

// Revisions lists the states of a rule, the newest first.
func (s *Rules) Revisions(ctx context.Context, ruleID string) ([]RuleRevision, error) {
	return list[RuleRevision](s.reading(ctx).Where("rule_id = ?", ruleID).Order("revision DESC"))
}

// StatesOf counts a rule's items by where they stand.
func (s *Rules) StatesOf(ctx context.Context, ruleID string) (map[State]int, error) {
	var rows []struct {
		State State
		N     int
	}
	err := s.reading(ctx).Model(&Entry{}).Select("state, count(*) AS n").Where("rule_id = ?",
		ruleID).Group("state").Scan(&rows).Error
	counts := map[State]int{}
	for _, r := range rows {
		counts[r.State] = r.N
	}
	return counts, err
}

// Save keeps a rule's document. A rule without an id is new, is given one,
// and is off. revision is the one that was changed, 0 for whatever is there.
func (s *Rules) Save(ctx context.Context, document *rule.Rule, revision int, now time.Time,
	actor string) (Rule, error) {
	var saved Rule
	if document.ID == "" {
		document.ID = NewID()
	}
	data, err := json.Marshal(document)
	if err != nil {
		return saved, err
	}
	err = s.change(ctx, func(tx *gorm.DB) error {
		var before any
		saved, err = first[Rule](tx.Where("id = ?", document.ID))
		switch {
		case errors.Is(err, ErrNotFound):
			var place int
			if err := tx.Raw("SELECT coalesce(max(place), 0) + 1 FROM rules").Scan(&place).Error; err != nil {
				return err
			}
			saved = Rule{ID: document.ID, Name: document.Name, Place: place, Revision: 1, Document: string(data), MadeAt: now}
			err = tx.Create(&saved).Error
		case err != nil:
			return err
		case saved.Document == string(data) && !saved.Removed:
			return nil
		case revision > 0 && saved.Revision != revision:
			return ErrChanged
		default:
			before = saved.Document
			saved.Name, saved.Document, saved.Removed = document.Name, string(data), false
			saved.Revision++
			err = tx.Model(&Rule{}).Where("id = ?", saved.ID).Select("name", "document", "removed",
				"revision").Updates(&saved).Error
		}
		if err != nil {
			return err
		}
		if err := tx.Create(&RuleRevision{RuleID: saved.ID, Revision: saved.Revision, Document: string(data), MadeBy: actor,
			MadeAt: now}).Error; err != nil {
			return err
		}
		return noteRows(tx, actor, "save rule", saved.Name, before, saved.Document)
	})
	return saved, err
}

// Remove takes a rule away. Its number of identity is not used again, and
// its filings stay.
func (s *Rules) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		r, err := first[Rule](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Exec("UPDATE rules SET removed = TRUE, running = FALSE, name = name || ' (removed ' || id || ')' "+
			"WHERE id = ?", id).Error; err != nil {
			return err
		}
		if err := tx.Where("rule_id = ?", id).Delete(&StartMark{}).Error; err != nil {
			return err
		}
		if err := dropPlanned(tx, id); err != nil {
			return err
		}
		return note(tx, actor, "remove rule", r.Name)
	})
}

// dropPlanned lets go of what was planned and not begun; what is staged is finished.
func dropPlanned(tx *gorm.DB, ruleID string) error {
	return tx.Exec("UPDATE journal SET state = 'set aside', reason = ?, next_at = NULL WHERE rule_id = ? AND state = "+
		"'planned'", reason.RuleOff().Encode(), ruleID).Error
}

// Place is a folder of a mailbox.
type Place struct{ MailboxID, Folder string }

// SwitchOn lets a rule run from now on: everything that was not looked at yet in
// these folders is new to it. A folder never opened gets its mark when it is.
func (s *Rules) SwitchOn(ctx context.Context, ruleID string, places []Place, now time.Time, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		r, err := first[Rule](tx.Where("id = ? AND NOT removed", ruleID))
		if err != nil {
			return err
		}
		if err := tx.Where("rule_id = ?", ruleID).Delete(&StartMark{}).Error; err != nil {
			return err
		}
		if err := addMarks(tx, ruleID, places, now); err != nil {
			return err
		}
		if err := tx.Exec("UPDATE rules SET running = TRUE, on_at = ? WHERE id = ?", now, ruleID).Error; err != nil {
			return err
		}
		return note(tx, actor, "switch rule on", r.Name)
	})
}

// AwaitFolder notes that a rule names a folder which the mailbox does not have. What
// is in the folder when it appears is new to the rule.
func (s *Rules) AwaitFolder(ctx context.Context, ruleID string, p Place, now time.Time) error {
	var waits int64
	err := s.reading(ctx).Model(
		&StartMark{},
	).Where("rule_id = ? AND mailbox_id = ? AND folder = ? AND awaited", ruleID, p.MailboxID, p.Folder).Count(&waits).Error
	if err != nil || waits > 0 {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec(
			`INSERT INTO start_marks (rule_id, mailbox_id, folder, uid_validity, uid_next, made_at, awaited) VALUES (?, ?, ?, 0, 0, ?, TRUE)
			ON CONFLICT DO UPDATE SET awaited = TRUE`,
			ruleID,
			p.MailboxID,
			p.Folder,
			now,
		).Error
	})
}

// EndAwaiting notes that a folder is there again which rules waited for.
func (s *Rules) EndAwaiting(ctx context.Context, p Place) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE start_marks SET awaited = FALSE WHERE mailbox_id = ? AND folder = ?", p.MailboxID,
			p.Folder).Error
	})
}

// AddMarks gives a running rule a start mark in folders where it has none.
func (s *Rules) AddMarks(ctx context.Context, ruleID string, places []Place, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error { return addMarks(tx, ruleID, places, now) })
}

func addMarks(tx *gorm.DB, ruleID string, places []Place, now time.Time) error {
	for _, p := range places {
		mark := StartMark{RuleID: ruleID, MailboxID: p.MailboxID, Folder: p.Folder, MadeAt: now}
		f, err := first[Folder](tx.Where("mailbox_id = ? AND path = ?", p.MailboxID, p.Folder))
		if err == nil {
			mark.UIDValidity, mark.UIDNext = f.UIDValidity, f.UIDNext
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
		var there int64
		if err := tx.Model(&StartMark{}).Where("rule_id = ? AND mailbox_id = ? AND folder = ?", ruleID, p.MailboxID,
			p.Folder).Count(&there).Error; err != nil {
			return err
		}
		if there == 0 {
			if err := tx.Create(&mark).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// SwitchOff stops a rule. What is staged is finished, what is only planned is let go.
func (s *Rules) SwitchOff(ctx context.Context, ruleID, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		r, err := first[Rule](tx.Where("id = ? AND NOT removed", ruleID))
		if err != nil {
			return err
		}
		if err := tx.Exec("UPDATE rules SET running = FALSE WHERE id = ?", ruleID).Error; err != nil {
			return err
		}
		if err := dropPlanned(tx, ruleID); err != nil {
			return err
		}
		return note(tx, actor, "switch rule off", r.Name)
	})
}

// Order puts the rules into an order. Rules that are not named follow.
//
// was is the order that was seen; nil for whatever it is. ErrChanged where it is another.
func (s *Rules) Order(ctx context.Context, ids, was []string, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		rules, err := list[Rule](tx.Where("NOT removed").Order("place, made_at"))
		if err != nil {
			return err
		}
		if was != nil && !slices.EqualFunc(rules, was, func(r Rule, id string) bool { return r.ID == id }) {
			return ErrChanged
		}
		place := map[string]int{}
		for _, id := range ids {
			if place[id] == 0 {
				place[id] = len(place) + 1
			}
		}
		next := len(place)
		for _, r := range rules {
			at, ok := place[r.ID]
			if !ok {
				next++
				at = next
			}
			delete(place, r.ID)
			if err := tx.Exec("UPDATE rules SET place = ? WHERE id = ?", at, r.ID).Error; err != nil {
				return err
			}
		}
		if len(place) > 0 {
			return ErrNotFound
		}
		return note(tx, actor, "order rules", strings.Join(ids, " "))
	})
}

// Marks lists the start marks of a mailbox.
func (s *Rules) Marks(ctx context.Context, mailboxID string) ([]StartMark, error) {
	return list[StartMark](s.reading(ctx).Where("mailbox_id = ?", mailboxID))
}

// SetSecret keeps another secret for a mailbox, such as a token that was renewed.
// The mailbox's settings stay as they are. Where they are others by now, the secret was given for another route,
// and this is ErrRoute.
func (s *Mailboxes) SetSecret(ctx context.Context, m *Mailbox, secret string) error {
	sealed, err := s.sealFor(secret, m.ID, m.route())
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		now, err := first[Mailbox](tx.Where("id = ?", m.ID))
		if err != nil {
			return err
		}
		if len(m.OtherRoute(&now)) > 0 {
			return ErrRoute
		}
		return tx.Model(&Mailbox{}).Where("id = ?", m.ID).Update("secret", sealed).Error
	})
}

// At finds the drop address that begins with a text, before the "@".
func (s *Mailboxes) At(ctx context.Context, local string) (Mailbox, error) {
	return first[Mailbox](s.reading(ctx).Where("kind = 'drop' AND address = ?", local))
}

// Readdress gives a drop address another word or another secret part; "" closes it.
func (s *Mailboxes) Readdress(ctx context.Context, m *Mailbox, what, actor string) error {
	m.Revision++
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(m).Select("address", "particulars", "revision").Updates(m).Error; err != nil {
			return err
		}
		return note(tx, actor, what+" drop address", m.Name)
	})
}

// Installation names this installation, from its first start on: what it has in places that others use begins with it.
func (s *Settings) Installation(ctx context.Context) (string, error) {
	name, err := s.Get(ctx, "mark")
	if err == nil && name == "" {
		name = NewID()[:8]
		err = s.Set(ctx, "mark", name)
	}
	return name, err
}
