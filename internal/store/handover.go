package store

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"gorm.io/gorm"
)

// handoverFormat is what this version writes; it reads the earlier ones, too. Up to 1 reasons were sentences.
const handoverFormat = 2

// Handover is what one installation tells another of a mailbox, before its messages:
// how it is reached, but for its secret, how far it was looked through, and from where
// on rules take messages.
type Handover struct {
	Format     int
	MadeAt     time.Time
	Mailbox    Mailbox
	Folders    []Folder
	Marks      []StartMark
	Rules      []HandedRule
	Topics     []HandedTopic
	Cabinets   []HandedCabinet
	Numberings []numbering
	Numbers    []numbered
	Messages   int
}

// HandedRule is a rule that looks into the mailbox.
type HandedRule struct {
	ID, Name, Document string
	Running            bool
	Revision           int
}

// HandedTopic is a topic of one of the rules, with its examples.
type HandedTopic struct {
	Name     string
	Examples []Example
}

// HandedCabinet is a cabinet in which something of the mailbox was filed.
type HandedCabinet struct{ ID, Name, Identity, Folder string }

// handed is a message with its journal entries.
type handed struct {
	Message Message
	Entries []Entry
}

// Unsettled counts what of a mailbox is under way or waits for a person.
func (s *Mailboxes) Unsettled(ctx context.Context, mailboxID string) (underWay, waiting int, err error) {
	var a, b, c int64
	err = inOrder(
		func() error {
			return s.reading(ctx).Model(&Entry{}).Where("mailbox_id = ? AND (state IN ? OR undo = ?)", mailboxID,
				[]State{Planned, Staged},
				UndoAsked).Count(&a).Error
		},
		func() error {
			return s.reading(ctx).Model(&FollowUp{}).Where("mailbox_id = ? AND state IN ?", mailboxID,
				[]FollowState{Waiting, Begun}).Count(&b).Error
		},
		func() error {
			return s.reading(ctx).Model(&Entry{}).Where("mailbox_id = ? AND state IN ?", mailboxID,
				[]State{Held, Failed}).Count(&c).Error
		},
	)
	return int(a + b), int(c), err
}

// HandOver writes a mailbox with everything that is known of its messages. named are the rules that look into the
// mailbox, topics the topics of these rules.
func (s *Mailboxes) HandOver(ctx context.Context, m *Mailbox, named []HandedRule, topics []Topic, w io.Writer,
	now time.Time) error {
	h := Handover{Format: handoverFormat, MadeAt: now.UTC(), Mailbox: *m, Rules: named}
	var err error
	for i := range topics {
		examples, err := s.Topics.ExamplesOf(ctx, topics[i].ID)
		if err != nil {
			return err
		}
		h.Topics = append(h.Topics, HandedTopic{topics[i].Name, examples})
	}
	h.Mailbox.Secret = nil
	of := func(into any) error { return s.reading(ctx).Where("mailbox_id = ?", m.ID).Find(into).Error }
	var total int64
	err = inOrder(
		func() error { return of(&h.Folders) },
		func() error { return of(&h.Marks) },
		func() error { return of(&h.Numberings) },
		func() error { return of(&h.Numbers) },
		func() error {
			return s.reading(ctx).Model(&Message{}).Where("mailbox_id = ?", m.ID).Count(&total).Error
		},
		func() error {
			return s.reading(ctx).Raw(
				"SELECT id, name, identity, folder FROM cabinets WHERE id IN (SELECT DISTINCT cabinet_id "+
					"FROM journal WHERE mailbox_id = ?)",
				m.ID,
			).Scan(&h.Cabinets).Error
		},
	)
	if err != nil {
		return err
	}
	h.Messages = int(total)
	z := gzip.NewWriter(w)
	out := json.NewEncoder(z)
	if err := out.Encode(&h); err != nil {
		return err
	}
	for after := int64(0); ; {
		messages, err := list[Message](s.reading(ctx).Where("mailbox_id = ? AND id > ?", m.ID, after).Order("id").Limit(500))
		if err != nil || len(messages) == 0 {
			return errors.Join(err, z.Close())
		}
		ids := make([]int64, len(messages))
		for i := range messages {
			ids[i] = messages[i].ID
		}
		after = ids[len(ids)-1]
		entries, err := list[Entry](s.reading(ctx).Where("message_id IN ?", ids).Order("id"))
		if err != nil {
			return err
		}
		of := map[int64][]Entry{}
		for _, e := range entries {
			of[e.MessageID] = append(of[e.MessageID], e)
		}
		for i := range messages {
			if err := out.Encode(&handed{Message: messages[i], Entries: of[messages[i].ID]}); err != nil {
				return err
			}
		}
	}
}

// HandoverError says why a mailbox could not be taken over.
type HandoverError struct{ Problem, Advice string }

func (e *HandoverError) Error() string { return e.Problem }

// TakeOver keeps a mailbox that another installation handed over, all of it or nothing.
// Rules that are not here come along and run as they ran there, and the topics for which
// they ask with them. Rules that were switched off when the mailbox was handed over here
// run again where they ran there.
// try only says whether it could be kept.
func (s *Mailboxes) TakeOver(ctx context.Context, r io.Reader, now time.Time, actor string, try bool) (Mailbox, error) {
	var h Handover
	broken := &HandoverError{"this is not the file of a mailbox that was handed over, or a part of it is missing",
		"Give the file that `inktray mailboxes hand-over` wrote, whole."}
	z, err := gzip.NewReader(r)
	if err != nil {
		return h.Mailbox, broken
	}
	in := json.NewDecoder(z)
	if err := in.Decode(&h); err != nil || h.Format == 0 || h.Mailbox.ID == "" {
		return h.Mailbox, broken
	}
	if h.Format > handoverFormat {
		return h.Mailbox,
			&HandoverError{fmt.Sprintf("it was written by a newer version (format %d)", h.Format),
				"Bring this installation up to date first."}
	}
	m := h.Mailbox
	m.Revision = 1
	if m.Secret, err = s.sealFor("", m.ID, m.route()); err != nil {
		return m, err
	}
	err = s.change(ctx, func(tx *gorm.DB) error {
		if _, err := first[Mailbox](tx.Where("id = ?", m.ID)); err == nil {
			return &HandoverError{fmt.Sprintf("the mailbox “%s” is here already", m.Name), "You do not have to do anything."}
		}
		if _, err := first[Mailbox](tx.Where("name = ? COLLATE NOCASE", m.Name)); err == nil {
			return &HandoverError{fmt.Sprintf("there is another mailbox called “%s” here", m.Name),
				"Give that one another name first."}
		}
		cabinets := map[string]string{}
		for _, c := range h.Cabinets {
			here, err := first[Cabinet](tx.Where("identity = ?", c.Identity))
			if errors.Is(err, ErrNotFound) {
				return &HandoverError{fmt.Sprintf("something of this mailbox was filed in the cabinet “%s” (%s), which is not "+
					"a cabinet here", c.Name, c.Folder), "Add the same place as a cabinet here first."}
			}
			if err != nil {
				return err
			}
			cabinets[c.ID] = here.ID
		}
		if err := tx.Create(&m).Error; err != nil {
			return err
		}
		off, err := switchedOff(tx, m.ID)
		if err != nil {
			return err
		}
		for _, one := range h.Rules {
			if err := handRule(tx, one, slices.Contains(off, one.ID), now, actor); err != nil {
				return err
			}
		}
		for i := range h.Topics {
			if err := handTopic(tx, &h.Topics[i], m.ID, now); err != nil {
				return err
			}
		}
		for _, t := range []any{&Folder{}, &StartMark{}, &numbering{}, &numbered{}} { // of an earlier time here
			if err := tx.Where("mailbox_id = ?", m.ID).Delete(t).Error; err != nil {
				return err
			}
		}
		if err := createAll(tx, h.Folders); err != nil {
			return err
		}
		if err := createAll(tx, h.Marks); err != nil {
			return err
		}
		if err := createAll(tx, h.Numberings); err != nil {
			return err
		}
		if err := createAll(tx, h.Numbers); err != nil {
			return err
		}
		var before int64 // messages that are known here, from an earlier time
		if err := tx.Model(&Message{}).Where("mailbox_id = ?", m.ID).Count(&before).Error; err != nil {
			return err
		}
		met := 0
		for {
			var one handed
			err := in.Decode(&one)
			if err == io.EOF {
				break
			}
			if err != nil {
				return broken
			}
			if err := handMessage(tx, &one, cabinets, before > 0); err != nil {
				return err
			}
			met++
		}
		if met != h.Messages {
			return broken
		}
		// A file of an earlier version has no likenesses.
		if err := tx.Exec("UPDATE messages SET likeness = likeness(header, structure) WHERE mailbox_id = ? AND likeness IS "+
			"NULL AND length(header) > 0", m.ID).Error; err != nil {
			return err
		}
		if try {
			return errTried
		}
		return note(tx, actor, "take over mailbox", m.Name)
	})
	if errors.Is(err, errTried) {
		err = nil
	}
	return m, err
}

func createAll[T any](tx *gorm.DB, rows []T) error {
	for some := range slices.Chunk(rows, 200) {
		if err := tx.Create(&some).Error; err != nil {
			return err
		}
	}
	return nil
}

// offWith is under what it is kept which rules were switched off since a mailbox was handed over.
func offWith(mailboxID string) string { return "switched off with " + mailboxID }

// switchedOff are the rules that were switched off when the mailbox was handed over; they are forgotten.
func switchedOff(tx *gorm.DB, mailboxID string) (rules []string, err error) {
	var kept string
	if err := tx.Raw("SELECT value FROM settings WHERE key = ?", offWith(mailboxID)).Scan(&kept).Error; err != nil ||
		kept == "" {
		return nil, err
	}
	if err := json.Unmarshal([]byte(kept), &rules); err != nil {
		return nil, err
	}
	return rules, tx.Exec("DELETE FROM settings WHERE key = ?", offWith(mailboxID)).Error
}

// NoteOff keeps which rules are switched off since a mailbox is handed over: they run again if it comes back.
func (s *Mailboxes) NoteOff(ctx context.Context, mailboxID string, rules []string) error {
	kept, err := json.Marshal(rules)
	if err != nil {
		return err
	}
	return s.Settings.Set(ctx, offWith(mailboxID), string(kept))
}

// errTried takes back a change that was only tried.
var errTried = errors.New("it was only tried")

// handRule keeps a rule unless one of that identity is here. off says that it was switched off when the mailbox was
// handed over: then it runs again where it ran there.
func handRule(tx *gorm.DB, one HandedRule, off bool, now time.Time, actor string) error {
	if here, err := first[Rule](tx.Where("id = ?", one.ID)); err == nil {
		if !off || !one.Running || here.Running || here.Removed {
			return nil
		}
		return inOrder(
			func() error { return tx.Model(&Rule{ID: one.ID}).Update("running", true).Error },
			func() error { return note(tx, actor, "switch on rule", here.Name) })
	} else if !errors.Is(err, ErrNotFound) {
		return err
	}
	var place int
	if err := tx.Raw("SELECT coalesce(max(place), 0) + 1 FROM rules").Scan(&place).Error; err != nil {
		return err
	}
	r := Rule{ID: one.ID, Name: one.Name, Place: place, Running: one.Running, Revision: max(one.Revision, 1),
		Document: one.Document, MadeAt: now}
	if err := tx.Create(&r).Error; err != nil {
		return err
	}
	return tx.Create(&RuleRevision{RuleID: r.ID, Revision: r.Revision, Document: r.Document, MadeBy: actor,
		MadeAt: now}).Error
}

// handTopic saves a topic with its examples, unless a topic of that name exists.
func handTopic(tx *gorm.DB, one *HandedTopic, mailboxID string, now time.Time) error {
	if _, err := first[Topic](tx.Where("name = ? COLLATE NOCASE", one.Name)); !errors.Is(err, ErrNotFound) {
		return err
	}
	t := Topic{ID: NewID(), Name: one.Name, Revision: 1, MadeAt: now}
	for i := range one.Examples {
		x := &one.Examples[i]
		x.ID, x.TopicID, x.MessageID = 0, t.ID, 0
		if x.MailboxID != mailboxID {
			x.MailboxID = "" // it is no mailbox here
		}
	}
	if err := tx.Create(&t).Error; err != nil {
		return err
	}
	return createAll(tx, one.Examples)
}

// handMessage keeps a message with what was decided of it, unless it is known here.
func handMessage(tx *gorm.DB, one *handed, cabinets map[string]string, mayBeKnown bool) error {
	m := &one.Message
	if mayBeKnown {
		if _, err := first[Message](tx.Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid = ?", m.MailboxID,
			m.Folder, m.UIDValidity, m.UID)); !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	m.ID = 0
	if err := tx.Create(m).Error; err != nil {
		return err
	}
	for i := range one.Entries {
		e := &one.Entries[i]
		e.ID, e.MessageID, e.PassID, e.UndoPass, e.CabinetID = 0, m.ID, 0, 0, cabinets[e.CabinetID]
		e.RegisterYear, e.RegisterNumber, e.Displaced, e.Spooled = 0, 0, "", "" // its line is in the other register
	}
	return createAll(tx, one.Entries)
}
