package store

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
)

// Matters are things of the tray by their numbers: items, follow-ups, what was to
// be sent, filings by their lines of the journal, and messages that could not be
// read by the numbers of their retries.
type Matters struct{ Items, FollowUps, Posts, Filings, Messages []int64 }

// Len is how many there are.
func (m *Matters) Len() int {
	return len(m.Items) + len(m.FollowUps) + len(m.Posts) + len(m.Filings) + len(m.Messages)
}

const inTray = "state IN ('failed', 'unsure')"

// FollowUps lists the follow-ups that wait for a person, the newest first.
func (s *Tray) FollowUps(ctx context.Context, v Viewer, most int) ([]FollowUp, error) {
	return list[FollowUp](v.sees(s.reading(ctx), "mailbox_id").Where(inTray).Order("id DESC").Limit(most))
}

// Post lists what could not be sent, or may have been, the newest first.
func (s *Tray) Post(ctx context.Context, v Viewer, most int) ([]Post, error) {
	return list[Post](v.sees(s.reading(ctx), "mailbox_id").Where(inTray).Order("id DESC").Limit(most))
}

// OfCause lists everything in the tray of one cause.
func (s *Tray) OfCause(ctx context.Context, v Viewer, cause Cause) (m Matters, err error) {
	err = inOrder(
		func() error {
			return v.seesFiled(s.reading(ctx).Model(&Entry{})).Where("state IN ('held', 'failed') AND cause = ?",
				cause).Order("id").Pluck(
				"id",
				&m.Items,
			).Error
		},
		func() error {
			return v.sees(s.reading(ctx).Model(&FollowUp{}), "mailbox_id").Where(inTray+" AND cause = ?",
				cause).Order("id").Pluck(
				"id",
				&m.FollowUps,
			).Error
		},
		func() error {
			return v.sees(s.reading(ctx).Model(&Post{}), "mailbox_id").Where(inTray+" AND cause = ?", cause).Order("id").Pluck(
				"id",
				&m.Posts,
			).Error
		},
		func() error {
			return v.seesFiled(s.reading(ctx).Model(&Filing{})).Where(inTrayOfFilings+" AND check_state = ?",
				cause).Order("year, number").Pluck("journal_id", &m.Filings).Error
		},
		func() error {
			return v.sees(s.reading(ctx).Model(&Retry{}), "mailbox_id").Where("state = 'failed' AND cause = ?",
				cause).Order("id").
				Pluck("id", &m.Messages).Error
		},
	)
	return m, err
}

// Counts counts what waits by cause; notices are under their kind.
func (s *Tray) Counts(ctx context.Context, v Viewer) (map[Cause]int, error) {
	counts := map[Cause]int{}
	for _, from := range []struct {
		model        any
		where, cause string
		filed        bool // it is about a cabinet, too
	}{{&Entry{}, "state IN ('held', 'failed')", "cause", true}, {&FollowUp{}, inTray, "cause", false},
		{&Post{}, inTray, "cause", false}, {&Filing{}, inTrayOfFilings, "check_state", true},
		{&Retry{}, "state = 'failed'", "cause", false}} {
		var rows []struct {
			Cause Cause
			N     int
		}
		seen := v.sees(s.reading(ctx).Model(from.model), "mailbox_id")
		if from.filed {
			seen = v.seesFiled(s.reading(ctx).Model(from.model))
		}
		if err := seen.Where(from.where).Select(from.cause +
			" AS cause, count(*) AS n").Group(from.cause).Scan(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			counts[r.Cause] += r.N
		}
	}
	return counts, nil
}

// Count counts all that waits for a person.
func (s *Tray) Count(ctx context.Context, v Viewer) (int, error) {
	counts, err := s.Counts(ctx, v)
	if err != nil {
		return 0, err
	}
	var notices int64
	err = v.sees(s.reading(ctx).Model(&Notice{}), "mailbox_id").Count(&notices).Error
	for _, n := range counts {
		notices += int64(n)
	}
	return int(notices), err
}

// Decision is what a person decides about items of the tray.
type Decision struct {
	Given     string // "again", "release" or "elsewhere"
	CabinetID string // of "elsewhere"
	Path      func(e *Entry) string
}

// Again lets what waits in the tray go on, and only that: items are planned again
// under the rule as it is now unless a person decided otherwise, follow-ups and
// what was to be sent are tried again. What no longer waits is passed over.
func (s *Tray) Again(ctx context.Context, v Viewer, m Matters, d Decision) (n int, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		entries, err := list[Entry](v.seesFiled(tx).Where("id IN ? AND state IN ('held', 'failed')", m.Items))
		if err != nil {
			return err
		}
		for i := range entries {
			e := &entries[i]
			e.Looked = ""
			if d.Given != "again" {
				e.Looked = e.Cause
			}
			e.State, e.Attempts, e.NextAt, e.Reason, e.Cause, e.Topic, e.DoneAt, e.Given = Planned, 0, nil, reason.Reason{}, "",
				"", nil, d.Given
			switch {
			case d.Given == "elsewhere":
				e.CabinetID, e.Wanted = d.CabinetID, d.Path(e)
			case e.RuleID == ByHand: // a person said where, and no rule does
				e.Given = "elsewhere"
			default:
				e.Wanted = ""
			}
			err := inOrder(
				func() error {
					return tx.Model(e).Select("state", "wanted", "cabinet_id", "attempts", "next_at", "reason",
						"cause", "topic", "done_at", "given", "looked").Updates(e).Error
				},
				func() error { return note(tx, v.Name, "tray: "+d.Given, e.Name) },
			)
			if err != nil {
				return err
			}
		}
		n = len(entries)
		if d.Given != "again" {
			return nil
		}
		read, err := retryAgain(tx, v, m.Messages)
		if err != nil {
			return err
		}
		n += read
		for _, of := range []struct {
			table string
			ids   []int64
		}{{"follow_ups", m.FollowUps}, {"post", m.Posts}} {
			if len(of.ids) == 0 {
				continue
			}
			done := v.sees(tx.Table(of.table), "mailbox_id").Where("id IN ? AND "+inTray,
				of.ids).Updates(map[string]any{"state": Waiting, "attempts": 0, "next_at": nil, "reason": "",
				"cause": "", "done_at": nil})
			if done.Error != nil {
				return done.Error
			}
			n += int(done.RowsAffected)
			if done.RowsAffected > 0 {
				if err := note(tx, v.Name, "tray: again", of.table); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return n, err
}

// SetAside takes things out of the tray for good, with a note.
func (s *Tray) SetAside(ctx context.Context, v Viewer, m Matters, why string, now time.Time) (n int, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		entries, err := list[Entry](v.seesFiled(tx).Where("id IN ? AND state IN ('held', 'failed')", m.Items))
		if err != nil {
			return err
		}
		for i := range entries {
			e := &entries[i]
			e.State, e.Reason, e.Cause, e.Topic = SetAside, reason.Said(why, ""), "", ""
			err := inOrder(
				func() error { return tx.Model(e).Select("state", "reason", "cause", "topic").Updates(e).Error },
				func() error {
					return tx.Exec("UPDATE register SET void = ? WHERE journal_id = ? AND filed_at IS NULL", why, e.ID).Error
				},
				func() error { return note(tx, v.Name, "set aside", e.Name) },
			)
			if err != nil {
				return err
			}
		}
		settled, err := settleFilings(tx, v, m.Filings, why, now)
		if err != nil {
			return err
		}
		aside, err := setRetriesAside(tx, v, m.Messages, why)
		if err != nil {
			return err
		}
		n = len(entries) + settled + aside
		for _, of := range []struct {
			table string
			ids   []int64
		}{{"follow_ups", m.FollowUps}, {"post", m.Posts}} {
			if len(of.ids) == 0 {
				continue
			}
			done := v.sees(tx.Table(of.table), "mailbox_id").Where("id IN ? AND "+inTray,
				of.ids).Updates(map[string]any{"state": LaidAside, "reason": reason.Said(why, "").Encode(), "cause": ""})
			if done.Error != nil {
				return done.Error
			}
			n += int(done.RowsAffected)
		}
		return nil
	})
	return n, err
}

// News is what came into the tray since a moment, for telling somebody.
type News struct {
	Entries   []Entry
	FollowUps []FollowUp
	Posts     []Post
	Notices   []Notice
	Filings   []Filing // whose file is missing or changed
	Messages  []Retry  // that could not be read
}

// Len is how many matters it holds.
func (n *News) Len() int {
	return len(n.Entries) + len(n.FollowUps) + len(n.Posts) + len(n.Notices) + len(n.Filings) + len(n.Messages)
}

// Oldest is when the first of them came.
func (n *News) Oldest() time.Time {
	var oldest time.Time
	older := func(t *time.Time) {
		if t != nil && (oldest.IsZero() || t.Before(oldest)) {
			oldest = *t
		}
	}
	for i := range n.Entries {
		older(n.Entries[i].DoneAt)
	}
	for i := range n.FollowUps {
		older(n.FollowUps[i].DoneAt)
	}
	for i := range n.Posts {
		older(n.Posts[i].DoneAt)
	}
	for i := range n.Notices {
		older(&n.Notices[i].MadeAt)
	}
	for i := range n.Filings {
		older(n.Filings[i].CheckedAt)
	}
	for i := range n.Messages {
		older(n.Messages[i].DoneAt)
	}
	return oldest
}

// mostNews bounds how much of a tray is told in one mail.
const mostNews = 500

// NewsSince lists what came into the tray after a moment and is still there. What
// was itself to tell of the tray is not told of.
func (s *Alarms) NewsSince(ctx context.Context, since time.Time) (n News, err error) {
	at := since.UTC()
	if n.Entries, err = list[Entry](s.reading(ctx).Where("state IN ('held', 'failed') AND done_at > ?",
		at).Order("id").Limit(mostNews)); err != nil {
		return n, err
	}
	if n.FollowUps, err = list[FollowUp](s.reading(ctx).Where(inTray+" AND done_at > ?",
		at).Order("id").Limit(mostNews)); err != nil {
		return n, err
	}
	if n.Posts, err = list[Post](s.reading(ctx).Where(inTray+
		" AND done_at > ? AND purpose NOT IN ('tray', 'digest', 'alarm', 'trial')",
		at).Order("id").Limit(mostNews)); err != nil {
		return n, err
	}
	if n.Filings,
		err = list[Filing](s.reading(ctx).Where(inTrayOfFilings+" AND (SELECT max(at) FROM register_events e WHERE "+
		"e.year = register.year AND e.number = register.number AND e.kind IN ('missing', 'changed')) > ?",
		at).Order("year, number").Limit(mostNews)); err != nil {
		return n, err
	}
	if n.Messages, err = list[Retry](s.reading(ctx).Where("state = 'failed' AND done_at > ?",
		at).Order("id").Limit(mostNews)); err != nil {
		return n, err
	}
	n.Notices, err = list[Notice](s.reading(ctx).Where("made_at > ?", at).Order("id").Limit(mostNews))
	return n, err
}

// Told records that somebody was told of the tray, with what is to be sent, at once.
func (s *Alarms) Told(ctx context.Context, a *Addressee, at time.Time, posts []Post) error {
	told := at.UTC()
	a.ToldAt = &told
	return s.change(ctx, func(tx *gorm.DB) error {
		for i := range posts {
			if err := tx.Create(&posts[i]).Error; err != nil {
				return err
			}
		}
		return tx.Model(a).Select("told_at").Updates(a).Error
	})
}

// Addressees lists who can be told.
func (s *Alarms) Addressees(ctx context.Context) ([]Addressee, error) {
	return list[Addressee](s.reading(ctx).Order("name"))
}

// AddresseeByID finds somebody who can be told.
func (s *Alarms) AddresseeByID(ctx context.Context, id string) (Addressee, error) {
	return first[Addressee](s.reading(ctx).Where("id = ?", id))
}

// AddresseeNamed finds somebody who can be told by name.
func (s *Alarms) AddresseeNamed(ctx context.Context, name string) (Addressee, error) {
	return first[Addressee](s.reading(ctx).Where("name = ?", name))
}

// SaveAddressee keeps an addressee. One without an id is new; a revision of 0 is whatever is there. With no secret
// the kept one stays; where it was given for another address this is ErrRoute.
func (s *Alarms) SaveAddressee(ctx context.Context, a *Addressee, secret *string, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if a.ID == "" {
			a.ID, a.Revision = NewID(), 1
		} else {
			old, err := first[Addressee](tx.Where("id = ?", a.ID))
			if err != nil {
				return err
			}
			if a.Revision > 0 && old.Revision != a.Revision {
				return ErrChanged
			}
			a.Secret, a.MadeAt, a.ToldAt, a.Revision = old.Secret, old.MadeAt, old.ToldAt, old.Revision+1
		}
		if secret != nil {
			var err error
			if a.Secret, err = s.sealFor(*secret, "addressee/"+a.ID, a.route()); err != nil {
				return err
			}
		} else if _, err := s.SecretOf(a); err != nil {
			return err
		}
		if a.Secret == nil { // as an empty one is read
			a.Secret = []byte{}
		}
		if err := tx.Save(a).Error; err != nil {
			return err
		}
		return note(tx, actor, "save addressee", a.Name)
	})
}

// SecretOf opens the secret with which an addressee's calls are signed.
func (s *Alarms) SecretOf(a *Addressee) (string, error) {
	if len(a.Secret) == 0 {
		return "", nil
	}
	return s.unsealFor(a.Secret, "addressee/"+a.ID, a.route())
}

// RemoveAddressee forgets somebody.
func (s *Alarms) RemoveAddressee(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		a, err := first[Addressee](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&a).Error; err != nil {
			return err
		}
		return note(tx, actor, "remove addressee", a.Name)
	})
}

// All lists the alarms.
func (s *Alarms) All(ctx context.Context) ([]Alarm, error) {
	return list[Alarm](s.reading(ctx).Order("name"))
}

// Seen lists the alarms about what the viewer may see.
func (s *Alarms) Seen(ctx context.Context, v Viewer) ([]Alarm, error) {
	db := s.reading(ctx)
	if !v.All {
		db = db.Where("NOT EXISTS (SELECT 1 FROM mailboxes m WHERE m.id = object AND m.id NOT IN ?)", append([]string{""},
			v.Only...))
	}
	if !v.AllCabinets {
		db = db.Where("NOT EXISTS (SELECT 1 FROM cabinets c WHERE c.id = object AND c.id NOT IN ?)", append([]string{""},
			v.Cabinets...))
	}
	rows, err := list[Alarm](db.Order("name"))
	if err != nil {
		return nil, err
	}
	rules, err := (&Rules{s.Store}).Seen(ctx, v)
	return slices.DeleteFunc(rows, func(a Alarm) bool { return a.RuleID != "" && !among(rules, a.RuleID) }), err
}

func among(rules []Rule, id string) bool {
	return slices.ContainsFunc(rules, func(r Rule) bool { return r.ID == id })
}

// ByID finds an alarm.
func (s *Alarms) ByID(ctx context.Context, id string) (Alarm, error) {
	return first[Alarm](s.reading(ctx).Where("id = ?", id))
}

// Save keeps an alarm. One without an id is new; a revision of 0 is whatever is there.
func (s *Alarms) Save(ctx context.Context, a *Alarm, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if a.ID == "" {
			a.ID, a.Revision = NewID(), 1
		} else {
			old, err := first[Alarm](tx.Where("id = ?", a.ID))
			if err != nil {
				return err
			}
			if a.Revision > 0 && old.Revision != a.Revision {
				return ErrChanged
			}
			a.MadeAt, a.RangAt, a.Revision = old.MadeAt, old.RangAt, old.Revision+1
		}
		if err := tx.Save(a).Error; err != nil {
			return err
		}
		return note(tx, actor, "save alarm", a.Name)
	})
}

// Remove forgets an alarm and what it told.
func (s *Alarms) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		a, err := first[Alarm](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&a).Error; err != nil {
			return err
		}
		if err := tx.Where("kind = 'alarm' AND object LIKE ?", id+"%").Delete(&Notice{}).Error; err != nil {
			return err
		}
		return note(tx, actor, "remove alarm", a.Name)
	})
}

// Ring records that an alarm was checked, and what came of it, at once.
func (s *Alarms) Ring(ctx context.Context, a *Alarm, posts []Post, n *Notice) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		for i := range posts {
			if err := tx.Create(&posts[i]).Error; err != nil {
				return err
			}
		}
		if n != nil {
			if err := putNotice(tx, n); err != nil {
				return err
			}
		}
		return tx.Model(a).Select("checked_at", "rang_at").Updates(a).Error
	})
}

// CountFiledBy counts what a rule filed, or found filed, between two moments.
func (s *Alarms) CountFiledBy(ctx context.Context, ruleID string, from, to time.Time) (int, error) {
	var n int64
	err := s.reading(ctx).Model(&Entry{}).Where(
		"rule_id = ? AND state IN ('filed', 'already there') AND done_at > ? AND done_at <= ?", ruleID, from.UTC(),
		to.UTC()).Count(&n).Error
	return int(n), err
}

// Outages lists what is out of reach, and since when.
func (s *Alarms) Outages(ctx context.Context) ([]Outage, error) {
	return list[Outage](s.reading(ctx).Order("since"))
}

// BeginOutage records that something is out of reach, unless that is known.
func (s *Alarms) BeginOutage(ctx context.Context, kind, object string, now time.Time) error {
	var n int64
	if err := s.reading(ctx).Model(&Outage{}).Where("kind = ? AND object = ?", kind,
		object).Count(&n).Error; err != nil ||
		n > 0 {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO outages (kind, object, since, told) VALUES (?, ?, ?, '[]') ON CONFLICT DO NOTHING", kind,
			object, now.UTC()).Error
	})
}

// EndOutage records that something is within reach again, and takes what alarms said about it out of the tray.
func (s *Alarms) EndOutage(ctx context.Context, kind, object string) error {
	var n int64
	if err := s.reading(ctx).Model(&Outage{}).Where("kind = ? AND object = ?", kind,
		object).Count(&n).Error; err != nil ||
		n == 0 {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		about := "/" + kind + "/" + object // after the alarm's id
		return exec(tx,
			statement{"DELETE FROM outages WHERE kind = ? AND object = ?", []any{kind, object}},
			statement{"DELETE FROM notices WHERE kind = 'alarm' AND substr(object, -length(?)) = ?", []any{about, about}})
	})
}

// TellOutage records that an alarm told of an outage, with what is to be sent.
func (s *Alarms) TellOutage(ctx context.Context, o *Outage, alarm *Alarm, posts []Post, n *Notice) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		for i := range posts {
			if err := tx.Create(&posts[i]).Error; err != nil {
				return err
			}
		}
		if !slices.Contains(o.Told, alarm.ID) {
			o.Told = append(o.Told, alarm.ID)
		}
		if err := tx.Model(o).Select("told").Updates(o).Error; err != nil {
			return err
		}
		if err := putNotice(tx, n); err != nil {
			return err
		}
		return tx.Model(alarm).Select("rang_at").Updates(alarm).Error
	})
}
