package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/topic"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// JudgeMessage says what each topic makes of a message, with its text.
func (dk *Desk) JudgeMessage(ctx context.Context, v store.Viewer, messageID int64) ([]Judged, error) {
	row, err := dk.Store.Messages.ByID(ctx, v, messageID)
	if err != nil {
		return nil, err
	}
	topics, err := dk.Store.Topics.All(ctx)
	if err != nil || len(topics) == 0 {
		return nil, err
	}
	var is topic.Mail
	var said func(string) (bool, bool)
	settings := dk.office.Settings()
	err = dk.reader.WithMessage(ctx, v, &row, func(s source.Session, l *reading.Message) error {
		said = settings.Said(l.Mail)
		if !l.Mail.Encrypted() {
			if err := dk.reader.ReadText(ctx, s, l); err != nil {
				return err
			}
		}
		is = topic.Of(l.Mail)
		return nil
	})
	if err != nil {
		return nil, err
	}
	features := topic.Read(&is)
	var all []Judged
	for _, t := range topics {
		one := Judged{Topic: t}
		if learned := settings.Topic(t.Name); learned != nil && learned.Ready() {
			one.Ready, one.Likely, one.Why = true, learned.Judge(&features), learned.Why(&is, 8)
			one.Decision = topic.Decide(one.Likely, topic.DefaultConfidence)
		}
		if about, ok := said(t.Name); ok {
			one.Said = &about
		}
		all = append(all, one)
	}
	return all, nil
}

// mostMarked bounds how many messages are marked at once.
const mostMarked = 200

// Judged is what a topic makes of a message.
type Judged struct {
	Topic    store.Topic
	Ready    bool    // it has examples enough
	Likely   float64 // from 0 to 1
	Decision topic.Decision
	Why      []topic.Evidence
	Said     *bool // a person said whether it is about it
}

// Mark says of messages whether they are about a topic, which learns from them. The
// error, if any, may be rule.Problems.
func (dk *Desk) Mark(ctx context.Context, v store.Viewer, topicID string, messages []int64, about bool,
	origin string) (int, error) {
	t, err := dk.Store.Topics.ByID(ctx, topicID)
	if err != nil {
		return 0, err
	}
	if len(messages) == 0 || len(messages) > mostMarked {
		return 0, rule.Problems{{Place: "messages", Text: fmt.Sprintf("choose between one message and %d", mostMarked)}}
	}
	rows, err := dk.handed(ctx, v, messages)
	if err != nil {
		return 0, err
	}
	var examples []store.Example
	for i := range rows {
		row := &rows[i]
		err := dk.reader.WithMessage(ctx, v, row, func(s source.Session, l *reading.Message) error {
			if !l.Mail.Encrypted() {
				if err := dk.reader.ReadText(ctx, s, l); err != nil {
					return err
				}
			}
			if l.Mail.Text == nil {
				return rule.Problems{{Place: "messages", Text: fmt.Sprintf("the text of “%s” cannot be read, so nothing can be "+
					"learned from it", l.Mail.Envelope.Subject)}}
			}
			is := topic.Of(l.Mail)
			fingerprint := l.Mail.Fingerprint()
			examples = append(examples,
				store.Example{Fingerprint: fingerprint[:], MessageID: row.ID, MailboxID: row.MailboxID, About: about,
					Subject: is.Subject, Text: is.Text,
					SenderName: is.Sender.Name, SenderAddress: is.Sender.String(), Names: append([]string{}, is.Names...),
					Origin: origin, MarkedBy: v.Name, MarkedAt: dk.Clock().UTC()})
			return nil
		})
		if errors.Is(err, source.ErrGone) {
			return 0, rule.Problems{{Place: "messages", Text: fmt.Sprintf("the message “%s” is no longer in its folder, so "+
				"nothing can be learned from it", row.Subject)}}
		}
		if err != nil {
			return 0, err
		}
	}
	if err := dk.Store.Topics.Mark(ctx, &t, examples, v.Name); err != nil {
		return 0, err
	}
	return len(examples), dk.office.LoadTopics(ctx, t.ID)
}

// AnswerTopics says of doubtful items whether their messages are about the topic,
// which learns from it; then they go on under their rule.
func (dk *Desk) AnswerTopics(ctx context.Context, v store.Viewer, items []int64, about bool) (int, error) {
	entries, err := dk.Store.Tray.Doubtful(ctx, v, items)
	if err != nil {
		return 0, err
	}
	if len(entries) == 0 {
		return 0, rule.Problems{{Place: "ids", Text: "none of these waits because a topic is in doubt"}}
	}
	topics, err := dk.Store.Topics.All(ctx)
	if err != nil {
		return 0, err
	}
	byTopic := map[string][]int64{}
	for _, entry := range entries {
		at := slices.IndexFunc(topics, func(t store.Topic) bool { return office.Key(t.Name) == office.Key(entry.Topic) })
		if at < 0 {
			return 0, rule.Problems{
				{Place: "ids", Text: fmt.Sprintf("there is no topic called “%s” any more; try the item again", entry.Topic)}}
		}
		if id := topics[at].ID; !slices.Contains(byTopic[id], entry.MessageID) {
			byTopic[id] = append(byTopic[id], entry.MessageID)
		}
	}
	for id, messages := range byTopic {
		if _, err := dk.Mark(ctx, v, id, messages, about, "tray"); err != nil {
			return 0, err
		}
	}
	// Everything of these messages that waits for the same answer goes on.
	again, err := dk.Store.Tray.DoubtfulLike(ctx, v, entries)
	if err != nil {
		return 0, err
	}
	n, err := dk.Store.Tray.Again(ctx, v, store.Matters{Items: again}, store.Decision{Given: "again"})
	if err != nil {
		return n, err
	}
	// What the topic learned may answer other questions that wait: these are asked again.
	var learned []string
	for i := range entries {
		if !slices.Contains(learned, entries[i].Topic) {
			learned = append(learned, entries[i].Topic)
		}
	}
	others, err := dk.Store.Tray.DoubtfulOf(ctx, learned, askedAnew)
	if err == nil && len(others) > 0 {
		_, err = dk.Store.Tray.Again(ctx, store.System, store.Matters{Items: others}, store.Decision{Given: "again"})
	}
	return dk.decided(n, err)
}

// askedAnew is how many waiting questions of a topic are asked again when it has learned, the
// newest first: each has its message read again.
const askedAnew = 200
