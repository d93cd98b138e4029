package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/topic"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

const (
	mostMarked    = 200  // messages that are marked at once
	proposalReach = 1000 // how far back messages are looked for that would teach most
	mostImported  = 2000 // examples of an import
	tooAlike      = 0.6  // of two messages that are so alike one teaches as much as both
)

// knowledge is what the topics know: what they learned, and what people said of
// single messages.
type knowledge struct {
	topics map[string]*topic.Topic // by name
	panel  *topic.Panel
	said   map[string]map[[32]byte]bool // by folded name and the message's fingerprint
}

// LoadTopics learns the topics anew after a change. Only the one that changed is
// learned; "" is all of them.
func (e *Engine) LoadTopics(changed string) error {
	e.learning.Lock()
	defer e.learning.Unlock()
	rows, err := e.Store.Topics()
	if err != nil {
		return err
	}
	marked, err := e.Store.MarkedMessages()
	if err != nil {
		return err
	}
	said := map[string]map[[32]byte]bool{}
	names := map[string]string{}
	for _, t := range rows {
		names[t.ID] = t.Name
		said[lookupKey(t.Name)] = map[[32]byte]bool{}
	}
	for i := range marked {
		if one := &marked[i]; len(one.Fingerprint) == 32 {
			said[lookupKey(names[one.TopicID])][[32]byte(one.Fingerprint)] = one.About
		}
	}
	e.mutex.Lock()
	before := e.knowledge
	e.mutex.Unlock()
	k := &knowledge{topics: map[string]*topic.Topic{}, said: said}
	for _, t := range rows {
		if known := before.topic(t.Name); known != nil && changed != "" && changed != t.ID {
			k.topics[t.Name] = known
			continue
		}
		rows, err := e.Store.ExamplesOf(t.ID)
		if err != nil {
			return err
		}
		examples := make([]topic.Example, len(rows))
		for i := range rows {
			examples[i] = rows[i].Learned()
		}
		k.topics[t.Name] = topic.Learn(examples)
	}
	k.panel = topic.NewPanel(k.topics)
	e.mutex.Lock()
	e.knowledge = k
	e.mutex.Unlock()
	e.hub.send(Event{Kind: "rules"})
	return nil
}

func (k *knowledge) topic(name string) *topic.Topic {
	if k == nil {
		return nil
	}
	return k.topics[name]
}

func (e *Engine) known() *knowledge {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if e.knowledge == nil {
		return &knowledge{}
	}
	return e.knowledge
}

// Learned is what a topic knows.
func (e *Engine) Learned(name string) *topic.Topic {
	if t := e.known().topic(name); t != nil {
		return t
	}
	return &topic.Topic{}
}

// saidOf gives what people said of a message, by the topic's name.
func (k *knowledge) saidOf(m *mail.Message) func(name string) (about, said bool) {
	return func(name string) (about, said bool) {
		marks := k.said[lookupKey(name)]
		if len(marks) == 0 {
			return false, false
		}
		about, said = marks[m.Fingerprint()]
		return about, said
	}
}

// TopicNames lists the topics' names.
func (e *Engine) TopicNames() []string {
	names := []string{}
	for name := range e.known().topics {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// SaveTopic checks and keeps a topic's name. The error, if any, may be rule.Problems.
func (e *Engine) SaveTopic(t *store.Topic, revision int, actor string) error {
	t.Name = strings.Join(strings.Fields(t.Name), " ")
	if t.Name == "" || len(t.Name) > 100 {
		return rule.Problems{{Place: "name", Text: "a topic has a name of up to 100 characters, such as Berth requests"}}
	}
	if t.ID != "" {
		was, err := e.Store.TopicByID(t.ID)
		if err != nil {
			return err
		}
		if !strings.EqualFold(was.Name, t.Name) {
			if err := e.topicInUse(was.Name); err != nil {
				return err
			}
		}
	}
	err := e.Store.SaveTopic(t, revision, e.Clock().UTC(), actor)
	if errors.Is(err, store.ErrTaken) {
		return rule.Problems{{Place: "name", Text: fmt.Sprintf("there is a topic called “%s” already", t.Name)}}
	}
	if err != nil {
		return err
	}
	return e.LoadTopics(t.ID)
}

// RemoveTopic forgets a topic that no rule names, with its examples.
func (e *Engine) RemoveTopic(id, actor string) error {
	t, err := e.Store.TopicByID(id)
	if err != nil {
		return err
	}
	if err := e.topicInUse(t.Name); err != nil {
		return err
	}
	if err := e.Store.RemoveTopic(id, actor); err != nil {
		return err
	}
	return e.LoadTopics(id)
}

// TopicUses lists the rules that ask for each topic, by its folded name.
func (e *Engine) TopicUses() (map[string][]string, error) {
	uses := map[string][]string{}
	_, err := e.UsedBy(func(r *rule.Rule) bool {
		for _, u := range r.Topics() {
			if key := lookupKey(u.Name); !slices.Contains(uses[key], r.Name) {
				uses[key] = append(uses[key], r.Name)
			}
		}
		return false
	})
	return uses, err
}

func (e *Engine) topicInUse(name string) error {
	used, err := e.UsedBy(func(r *rule.Rule) bool {
		return slices.ContainsFunc(r.Topics(), func(u rule.TopicUse) bool { return lookupKey(u.Name) == lookupKey(name) })
	})
	if err != nil || len(used) == 0 {
		return err
	}
	return rule.Problems{{Place: "name", Text: fmt.Sprintf("the rule “%s” asks for the topic “%s”; change the rule first", strings.Join(used, "”, “"), name)}}
}

// Mark says of messages whether they are about a topic, which learns from them. The
// error, if any, may be rule.Problems.
func (e *Engine) Mark(ctx context.Context, v store.Viewer, topicID string, messages []int64, about bool, origin string) (int, error) {
	t, err := e.Store.TopicByID(topicID)
	if err != nil {
		return 0, err
	}
	if len(messages) == 0 || len(messages) > mostMarked {
		return 0, rule.Problems{{Place: "messages", Text: fmt.Sprintf("choose between one message and %d", mostMarked)}}
	}
	rows, err := e.handed(v, messages)
	if err != nil {
		return 0, err
	}
	var examples []store.Example
	for i := range rows {
		row := &rows[i]
		err := e.withMessage(ctx, v, row, func(s source.Session, l *letter) error {
			if !l.message.Encrypted() {
				if err := e.text(ctx, s, l); err != nil {
					return err
				}
			}
			if l.message.Text == nil {
				return rule.Problems{{Place: "messages", Text: fmt.Sprintf("the text of “%s” cannot be read, so nothing can be learned from it", l.message.Envelope.Subject)}}
			}
			is := topic.Of(l.message)
			fingerprint := l.message.Fingerprint()
			examples = append(examples, store.Example{Fingerprint: fingerprint[:], MessageID: row.ID, MailboxID: row.MailboxID, About: about, Subject: is.Subject, Text: is.Text,
				SenderName: is.Sender.Name, SenderAddress: is.Sender.String(), Names: orEmpty(is.Names), Origin: origin, MarkedBy: v.Name, MarkedAt: e.Clock().UTC()})
			return nil
		})
		if errors.Is(err, source.ErrGone) {
			return 0, rule.Problems{{Place: "messages", Text: fmt.Sprintf("the message “%s” is no longer in its folder, so nothing can be learned from it", row.Subject)}}
		}
		if err != nil {
			return 0, err
		}
	}
	if err := e.Store.Mark(&t, examples, v.Name); err != nil {
		return 0, err
	}
	return len(examples), e.LoadTopics(t.ID)
}

// Unmark takes examples back.
func (e *Engine) Unmark(v store.Viewer, topicID string, ids []int64) (int, error) {
	t, err := e.Store.TopicByID(topicID)
	if err != nil {
		return 0, err
	}
	n, err := e.Store.Unmark(v, &t, ids)
	if err != nil || n == 0 {
		return n, err
	}
	return n, e.LoadTopics(t.ID)
}

// ImportExamples lets a topic learn from another one's examples.
func (e *Engine) ImportExamples(v store.Viewer, topicID string, list []topic.Example) (int, error) {
	t, err := e.Store.TopicByID(topicID)
	if err != nil {
		return 0, err
	}
	if len(list) == 0 || len(list) > mostImported {
		return 0, rule.Problems{{Place: "examples", Text: fmt.Sprintf("a topic takes between one example and %d at once", mostImported)}}
	}
	var examples []store.Example
	for i, one := range list {
		m := &one.Mail
		if strings.TrimSpace(m.Subject+m.Text+strings.Join(m.Names, "")) == "" {
			return 0, rule.Problems{{Place: fmt.Sprintf("examples[%d]", i), Text: "the example has neither a subject nor a text nor names, so nothing can be learned from it"}}
		}
		sum := sha256.Sum256([]byte("import\x00" + m.Subject + "\x00" + m.Text + "\x00" + m.Sender.String() + "\x00" + strings.Join(m.Names, "\x00")))
		examples = append(examples, store.Example{Fingerprint: sum[:], About: one.About, Subject: m.Subject, Text: m.Text[:min(len(m.Text), 8000)], SenderName: m.Sender.Name, SenderAddress: m.Sender.String(),
			Names: orEmpty(m.Names), Origin: "import", MarkedBy: v.Name, MarkedAt: e.Clock().UTC()})
	}
	if err := e.Store.Mark(&t, examples, v.Name); err != nil {
		return 0, err
	}
	return len(examples), e.LoadTopics(t.ID)
}

// ImportTopic lets the topic of a name learn from examples; it is made if there is none.
func (e *Engine) ImportTopic(v store.Viewer, name string, list []topic.Example) (id string, err error) {
	topics, err := e.Store.Topics()
	if err != nil {
		return "", err
	}
	at := slices.IndexFunc(topics, func(t store.Topic) bool { return lookupKey(t.Name) == lookupKey(name) })
	if at >= 0 {
		_, err := e.ImportExamples(v, topics[at].ID, list)
		return topics[at].ID, err
	}
	t := store.Topic{Name: name}
	if err := e.SaveTopic(&t, 0, v.Name); err != nil {
		return "", err
	}
	if _, err := e.ImportExamples(v, t.ID, list); err != nil {
		return "", errors.Join(err, e.RemoveTopic(t.ID, v.Name)) // nothing is kept of an import that fails
	}
	return t.ID, nil
}

// Judged is what a topic makes of a message.
type Judged struct {
	Topic    store.Topic
	Ready    bool    // it has examples enough
	Likely   float64 // from 0 to 1
	Decision topic.Decision
	Why      []topic.Evidence
	Said     *bool // a person said whether it is about it
}

// JudgeMessage says what each topic makes of a message, with its text.
func (e *Engine) JudgeMessage(ctx context.Context, v store.Viewer, messageID int64) ([]Judged, error) {
	row, err := e.Store.MessageByID(v, messageID)
	if err != nil {
		return nil, err
	}
	topics, err := e.Store.Topics()
	if err != nil || len(topics) == 0 {
		return nil, err
	}
	var is topic.Mail
	var said func(string) (bool, bool)
	k := e.known()
	err = e.withMessage(ctx, v, &row, func(s source.Session, l *letter) error {
		said = k.saidOf(l.message)
		if !l.message.Encrypted() {
			if err := e.text(ctx, s, l); err != nil {
				return err
			}
		}
		is = topic.Of(l.message)
		return nil
	})
	if err != nil {
		return nil, err
	}
	features := topic.Read(&is)
	var all []Judged
	for _, t := range topics {
		one := Judged{Topic: t}
		if learned := k.topic(t.Name); learned != nil && learned.Ready() {
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

// Teaching is a message whose answer would teach a topic much.
type Teaching struct {
	Message store.Message
	Likely  float64 // by subject, sender and the names of its attachments
	seen    topic.Features
}

// Teachings lists known messages whose answer would teach a topic most: those about
// which it is least sure first, and of those that are alike only one.
func (e *Engine) Teachings(v store.Viewer, topicID string, most int) ([]Teaching, error) {
	t, err := e.Store.TopicByID(topicID)
	if err != nil {
		return nil, err
	}
	rows, err := e.Store.Messages(v, store.MessageQuery{Most: proposalReach})
	if err != nil {
		return nil, err
	}
	k := e.known()
	learned := k.topic(t.Name)
	var all []Teaching
	for i := range rows {
		facts, err := rows[i].Facts()
		if err != nil || rows[i].ErasedAt != nil {
			continue
		}
		m := facts.Message(rows[i].Folder)
		if _, said := k.saidOf(m)(t.Name); said {
			continue
		}
		is := topic.Of(m)
		one := Teaching{Message: rows[i], Likely: 0.5, seen: topic.Read(&is)}
		if learned != nil && learned.Ready() {
			one.Likely = learned.Judge(&one.seen)
		}
		all = append(all, one)
	}
	slices.SortStableFunc(all, func(a, b Teaching) int {
		return int(math.Copysign(1, math.Abs(a.Likely-.5)-math.Abs(b.Likely-.5)))
	})
	var out []Teaching
	for _, one := range all {
		if len(out) == most {
			break
		}
		if !slices.ContainsFunc(out, func(other Teaching) bool { return one.seen.Alike(&other.seen) > tooAlike }) {
			out = append(out, one)
		}
	}
	return out, nil
}

// PastRule is a rule that asks for a topic and nothing else, to rehearse what it
// would have taken of the past.
func (e *Engine) PastRule(topicID string, confidence int) (*rule.Rule, error) {
	t, err := e.Store.TopicByID(topicID)
	if err != nil {
		return nil, err
	}
	cabinets, err := e.Store.Cabinets()
	if err != nil {
		return nil, err
	}
	cabinet := "none"
	if len(cabinets) > 0 {
		cabinet = cabinets[0].Name
	}
	return &rule.Rule{Name: t.Name, Cabinet: cabinet, Look: rule.Look{Mailboxes: rule.Names{"all"}, Folders: rule.Names{"all"}},
		Match:       rule.Match{Condition: rule.Condition{Topic: &rule.TopicTest{Is: rule.Names{t.Name}, Confidence: rule.Percent(confidence)}}},
		Attachments: []rule.Selection{{Take: &rule.Take{Everything: true}, Folder: "<sender.domain>"}}}, nil
}

// AnswerTopics says of doubtful items whether their messages are about the topic,
// which learns from it; then they go on under their rule.
func (e *Engine) AnswerTopics(ctx context.Context, v store.Viewer, items []int64, about bool) (int, error) {
	entries, err := e.Store.Doubtful(v, items)
	if err != nil {
		return 0, err
	}
	if len(entries) == 0 {
		return 0, rule.Problems{{Place: "ids", Text: "none of these waits because a topic is in doubt"}}
	}
	topics, err := e.Store.Topics()
	if err != nil {
		return 0, err
	}
	byTopic := map[string][]int64{}
	for _, entry := range entries {
		at := slices.IndexFunc(topics, func(t store.Topic) bool { return lookupKey(t.Name) == lookupKey(entry.Topic) })
		if at < 0 {
			return 0, rule.Problems{{Place: "ids", Text: fmt.Sprintf("there is no topic called “%s” any more; try the item again", entry.Topic)}}
		}
		if id := topics[at].ID; !slices.Contains(byTopic[id], entry.MessageID) {
			byTopic[id] = append(byTopic[id], entry.MessageID)
		}
	}
	for id, messages := range byTopic {
		if _, err := e.Mark(ctx, v, id, messages, about, "tray"); err != nil {
			return 0, err
		}
	}
	// Everything of these messages that waits for the same answer goes on.
	again, err := e.Store.DoubtfulLike(v, entries)
	if err != nil {
		return 0, err
	}
	n, err := e.Store.Again(v, store.Matters{Items: again}, store.Decision{Given: "again"})
	if err != nil {
		return n, err
	}
	// What the topic learned may answer other questions that wait: these are asked anew.
	var learned []string
	for i := range entries {
		if !slices.Contains(learned, entries[i].Topic) {
			learned = append(learned, entries[i].Topic)
		}
	}
	others, err := e.Store.DoubtfulOf(learned, askedAnew)
	if err == nil && len(others) > 0 {
		_, err = e.Store.Again(store.System, store.Matters{Items: others}, store.Decision{Given: "again"})
	}
	return e.decided(n, err)
}

// askedAnew is how many waiting questions of a topic are asked anew when it has learned, the
// newest first: each has its message read again.
const askedAnew = 200
