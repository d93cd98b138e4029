package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/topic"
)

// Topic is a subject matter that is learned from examples.
type Topic struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Revision int
	MadeAt   time.Time
}

// Example is a message about which a person said whether it is about a topic.
type Example struct {
	ID            int64 `gorm:"primaryKey"`
	TopicID       string
	Fingerprint   []byte
	MessageID     int64  // 0 where it came with an import
	MailboxID     string // "" where it came with an import
	About         bool
	Subject       string
	Text          string
	SenderName    string
	SenderAddress string
	Names         []string `gorm:"serializer:json"`
	Origin        string   // "mail", "rehearsal", "tray", "proposal" or "import"
	MarkedBy      string
	MarkedAt      time.Time
}

// TableName says of what.
func (Example) TableName() string { return "topic_examples" }

// Learned is the example as it is learned from.
func (e *Example) Learned() topic.Example {
	local, domain, _ := strings.Cut(e.SenderAddress, "@")
	return topic.Example{About: e.About,
		Mail: topic.Mail{Subject: e.Subject, Text: e.Text,
			Sender: mail.Address{Name: e.SenderName, Local: local, Domain: strings.ToLower(domain)}, Names: e.Names}}
}

// All lists the topics.
func (s *Topics) All(ctx context.Context) ([]Topic, error) {
	return list[Topic](s.reading(ctx).Order("name"))
}

// ByID finds one.
func (s *Topics) ByID(ctx context.Context, id string) (Topic, error) {
	return first[Topic](s.reading(ctx).Where("id = ?", id))
}

// Save keeps a topic; one without an id is new. revision is the one that was
// changed, 0 for whatever is there.
func (s *Topics) Save(ctx context.Context, t *Topic, revision int, now time.Time, actor string) error {
	fresh := t.ID == ""
	if fresh {
		t.ID, t.MadeAt, t.Revision = NewID(), now, 1
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		if fresh {
			if err := tx.Create(t).Error; err != nil {
				return err
			}
			return note(tx, actor, "add topic", t.Name)
		}
		was, err := first[Topic](tx.Where("id = ?", t.ID))
		if err != nil {
			return err
		}
		if revision > 0 && was.Revision != revision {
			return ErrChanged
		}
		t.Revision, t.MadeAt = was.Revision+1, was.MadeAt
		if err := tx.Save(t).Error; err != nil {
			return err
		}
		return note(tx, actor, "change topic", t.Name)
	})
}

// Remove forgets a topic with its examples.
func (s *Topics) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		t, err := first[Topic](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Where("topic_id = ?", id).Delete(&Example{}).Error; err != nil {
			return err
		}
		if err := tx.Delete(&t).Error; err != nil {
			return err
		}
		return note(tx, actor, "remove topic", t.Name)
	})
}

// ExamplesOf lists a topic's examples as they were marked, for learning from them.
func (s *Topics) ExamplesOf(ctx context.Context, topicID string) ([]Example, error) {
	return list[Example](s.reading(ctx).Where("topic_id = ?", topicID).Order("marked_at, id"))
}

// MarkedMessages lists what people said of which messages, without their texts.
func (s *Topics) MarkedMessages(ctx context.Context) ([]Example, error) {
	return list[Example](s.reading(ctx).Where("origin <> 'import'").Select("topic_id", "fingerprint", "about"))
}

// Examples lists a topic's examples that somebody may see, the newest first. Those
// of an import are of no mailbox, and everybody's who may see all mailboxes.
func (s *Topics) Examples(ctx context.Context, v Viewer, topicID string) ([]Example, error) {
	return list[Example](
		v.sees(s.reading(ctx), "mailbox_id").Where("topic_id = ? AND (mailbox_id <> '' OR ?)", topicID,
			v.All).Order("marked_at DESC, id DESC"),
	)
}

// Mark keeps examples of a topic; one that is there already is changed.
func (s *Topics) Mark(ctx context.Context, t *Topic, examples []Example, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if _, err := first[Topic](tx.Where("id = ?", t.ID)); err != nil {
			return err
		}
		for i := range examples {
			e := &examples[i]
			e.TopicID = t.ID
			what := "mark as not about " + t.Name
			if e.About {
				what = "mark as about " + t.Name
			}
			err := tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "topic_id"}, {Name: "fingerprint"}},
				DoUpdates: clause.AssignmentColumns([]string{"about", "subject", "text", "sender_name", "sender_address", "names",
					"origin", "marked_by", "marked_at", "message_id", "mailbox_id"})}).Create(e).Error
			if err != nil {
				return err
			}
			if e.Origin != "import" {
				if err := note(tx, actor, what, ""); err != nil {
					return err
				}
			}
		}
		if len(examples) > 0 && examples[0].Origin == "import" {
			return note(tx, actor, "import examples", t.Name)
		}
		return nil
	})
}

// Unmark takes examples back and says how many there were.
func (s *Topics) Unmark(ctx context.Context, v Viewer, t *Topic, ids []int64) (n int, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		done := v.sees(tx, "mailbox_id").Where("topic_id = ? AND id IN ? AND (mailbox_id <> '' OR ?)", t.ID, ids,
			v.All).Delete(&Example{})
		n = int(done.RowsAffected)
		if done.Error != nil || n == 0 {
			return done.Error
		}
		return note(tx, v.Name, "take examples back", t.Name)
	})
	return n, err
}

// MarksOf says of a message by which topics it is an example, by their id.
func (s *Topics) MarksOf(ctx context.Context, v Viewer, fingerprint []byte) (map[string]Example, error) {
	found, err := list[Example](v.sees(s.reading(ctx), "mailbox_id").Where("fingerprint = ?", fingerprint))
	out := map[string]Example{}
	for _, e := range found {
		out[e.TopicID] = e
	}
	return out, err
}

// Doubtful lists items that are held because a topic is in doubt.
func (s *Tray) Doubtful(ctx context.Context, v Viewer, ids []int64) ([]Entry, error) {
	return list[Entry](v.seesFiled(s.reading(ctx)).Where("id IN ? AND state = 'held' AND topic <> ''", ids))
}

// DoubtfulOf lists the newest items that wait because one of these topics is in doubt.
func (s *Tray) DoubtfulOf(ctx context.Context, topics []string, most int) (ids []int64, err error) {
	err = s.reading(ctx).Model(&Entry{}).Where("topic IN ? AND state = 'held'", topics).Order(
		"id DESC",
	).Limit(most).Pluck("id", &ids).Error
	return ids, err
}

// DoubtfulLike lists the items that wait for the same answer as these: of the same
// messages and topics.
func (s *Tray) DoubtfulLike(ctx context.Context, v Viewer, of []Entry) (ids []int64, err error) {
	for i := range of {
		var some []int64
		err := v.seesFiled(s.reading(ctx).Model(&Entry{})).Where("message_id = ? AND topic = ? AND state = 'held'",
			of[i].MessageID, of[i].Topic).Pluck("id", &some).Error
		if err != nil {
			return nil, err
		}
		ids = append(ids, some...)
	}
	return ids, nil
}

// Common gives the counts of features that KeepCommon kept; nil where there are none.
func (s *Topics) Common(ctx context.Context) (counts []byte, err error) {
	err = s.reading(ctx).Raw("SELECT counts FROM topic_common").Row().Scan(&counts)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return counts, err
}

// KeepCommon keeps counts of features.
func (s *Topics) KeepCommon(ctx context.Context, counts []byte) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO topic_common VALUES (1, ?) ON CONFLICT DO UPDATE SET counts = excluded.counts",
			counts).Error
	})
}
