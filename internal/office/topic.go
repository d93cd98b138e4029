package office

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
	"inktray.example/inktray/internal/store"
)

const (
	proposalReach = 1000 // how far back messages are looked for that would teach most
	mostImported  = 2000 // examples of an import
	tooAlike      = 0.6  // of two messages that are so alike one teaches as much as both
)

// Topics keep what people teach about topics. They are part of the office.
type Topics struct{ *Office }

// knowledge is the trained topics, and the answers that people gave for single messages.
type knowledge struct {
	topics map[string]*topic.Topic // by name
	panel  *topic.Panel
	said   map[string]map[[32]byte]bool // by folded name and the message's fingerprint
	// weighting is with what all topics were learned.
	weighting *topic.Weighting
}

// LoadTopics learns the topics again after a change. Only the one that changed is
// learned; "" is all of them.
func (o *Office) LoadTopics(ctx context.Context, changed string) error {
	ctx = context.WithoutCancel(ctx) // what was saved is taken up in any case
	o.learning.Lock()
	defer o.learning.Unlock()
	rows, err := o.Store.Topics.All(ctx)
	if err != nil {
		return err
	}
	marked, err := o.Store.Topics.MarkedMessages(ctx)
	if err != nil {
		return err
	}
	said := map[string]map[[32]byte]bool{}
	names := map[string]string{}
	for _, t := range rows {
		names[t.ID] = t.Name
		said[Key(t.Name)] = map[[32]byte]bool{}
	}
	for i := range marked {
		one := &marked[i]
		name, known := names[one.TopicID] // unknown if the topic is made or removed while both are read
		if known && len(one.Fingerprint) == 32 {
			said[Key(name)][[32]byte(one.Fingerprint)] = one.About
		}
	}
	before := o.Settings().topics
	k := &knowledge{topics: map[string]*topic.Topic{}, said: said, weighting: o.common.now()}
	for _, t := range rows {
		if known := before.topic(t.Name); known != nil && changed != "" && changed != t.ID &&
			before.weighting == k.weighting {
			k.topics[t.Name] = known
			continue
		}
		rows, err := o.Store.Topics.ExamplesOf(ctx, t.ID)
		if err != nil {
			return err
		}
		examples := make([]topic.Example, len(rows))
		for i := range rows {
			examples[i] = rows[i].Learned()
		}
		k.topics[t.Name] = topic.Learn(examples, k.weighting)
	}
	k.panel = topic.NewPanel(k.topics)
	return o.change(func(next *Snapshot) error {
		next.topics = k
		return nil
	})
}

// Topic is what a topic has learned; nil where there is no topic of that name.
func (s *Snapshot) Topic(name string) *topic.Topic { return s.topics.topic(name) }

// Said returns what people said about a message: whether it is about a topic, by the topic's name.
func (s *Snapshot) Said(m *mail.Message) func(name string) (about, said bool) {
	return s.topics.saidOf(m)
}

func (k *knowledge) topic(name string) *topic.Topic {
	if k == nil {
		return nil
	}
	return k.topics[name]
}

// Learned is what a topic knows.
func (o *Topics) Learned(name string) *topic.Topic {
	if t := o.Settings().topics.topic(name); t != nil {
		return t
	}
	return &topic.Topic{}
}

// saidOf gives what people said of a message, by the topic's name.
func (k *knowledge) saidOf(m *mail.Message) func(name string) (about, said bool) {
	return func(name string) (about, said bool) {
		marks := k.said[Key(name)]
		if len(marks) == 0 {
			return false, false
		}
		about, said = marks[m.Fingerprint()]
		return about, said
	}
}

// Names lists the topics' names.
func (o *Topics) Names() []string {
	names := []string{}
	for name := range o.Settings().topics.topics {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Save checks and keeps a topic's name. The error, if any, may be rule.Problems.
func (o *Topics) Save(ctx context.Context, t *store.Topic, revision int, actor string) error {
	t.Name = strings.Join(strings.Fields(t.Name), " ")
	if t.Name == "" || len(t.Name) > 100 {
		return rule.Problems{{Place: "name", Text: "a topic has a name of up to 100 characters, such as Berth requests"}}
	}
	if t.ID != "" {
		was, err := o.Store.Topics.ByID(ctx, t.ID)
		if err != nil {
			return err
		}
		if !strings.EqualFold(was.Name, t.Name) {
			if err := o.topicInUse(ctx, was.Name); err != nil {
				return err
			}
		}
	}
	err := o.Store.Topics.Save(ctx, t, revision, o.Clock().UTC(), actor)
	if errors.Is(err, store.ErrTaken) {
		return rule.Problems{{Place: "name", Text: fmt.Sprintf("there is a topic called “%s” already", t.Name)}}
	}
	if err != nil {
		return err
	}
	return o.LoadTopics(ctx, t.ID)
}

// Remove forgets a topic that no rule names, with its examples.
func (o *Topics) Remove(ctx context.Context, id, actor string) error {
	t, err := o.Store.Topics.ByID(ctx, id)
	if err != nil {
		return err
	}
	if err := o.topicInUse(ctx, t.Name); err != nil {
		return err
	}
	if err := o.Store.Topics.Remove(ctx, id, actor); err != nil {
		return err
	}
	return o.LoadTopics(ctx, id)
}

// Uses lists the rules that ask for each topic, by its folded name.
func (o *Topics) Uses(ctx context.Context) (map[string][]string, error) {
	uses := map[string][]string{}
	_, err := o.UsedBy(ctx, func(r *rule.Rule) bool {
		for _, u := range r.Topics() {
			if key := Key(u.Name); !slices.Contains(uses[key], r.Name) {
				uses[key] = append(uses[key], r.Name)
			}
		}
		return false
	})
	return uses, err
}

func (o *Topics) topicInUse(ctx context.Context, name string) error {
	used, err := o.UsedBy(ctx, func(r *rule.Rule) bool {
		return slices.ContainsFunc(r.Topics(), func(u rule.TopicUse) bool { return Key(u.Name) == Key(name) })
	})
	if err != nil || len(used) == 0 {
		return err
	}
	return rule.Problems{
		{Place: "name",
			Text: fmt.Sprintf("the rule “%s” asks for the topic “%s”; change the rule first", strings.Join(used, "”, “"), name)}}
}

// Unmark takes examples back.
func (o *Topics) Unmark(ctx context.Context, v store.Viewer, topicID string, ids []int64) (int, error) {
	t, err := o.Store.Topics.ByID(ctx, topicID)
	if err != nil {
		return 0, err
	}
	n, err := o.Store.Topics.Unmark(ctx, v, &t, ids)
	if err != nil || n == 0 {
		return n, err
	}
	return n, o.LoadTopics(ctx, t.ID)
}

// ImportExamples lets a topic learn from another one's examples.
func (o *Topics) ImportExamples(ctx context.Context, v store.Viewer, topicID string, list []topic.Example) (int,
	error) {
	t, err := o.Store.Topics.ByID(ctx, topicID)
	if err != nil {
		return 0, err
	}
	if len(list) == 0 || len(list) > mostImported {
		return 0, rule.Problems{
			{Place: "examples", Text: fmt.Sprintf("give a topic between one example and %d at a time", mostImported)}}
	}
	var examples []store.Example
	for i, one := range list {
		m := &one.Mail
		if strings.TrimSpace(m.Subject+m.Text+strings.Join(m.Names, "")) == "" {
			return 0, rule.Problems{{Place: fmt.Sprintf("examples[%d]", i), Text: "the example has neither a subject nor a " +
				"text nor names, so nothing can be learned from it"}}
		}
		sum := sha256.Sum256([]byte("import\x00" + m.Subject + "\x00" + m.Text + "\x00" + m.Sender.String() + "\x00" +
			strings.Join(m.Names, "\x00")))
		examples = append(examples,
			store.Example{Fingerprint: sum[:], About: one.About, Subject: m.Subject, Text: m.Text[:min(len(m.Text), 8000)],
				SenderName: m.Sender.Name, SenderAddress: m.Sender.String(),
				Names: orEmpty(m.Names), Origin: "import", MarkedBy: v.Name, MarkedAt: o.Clock().UTC()})
	}
	if err := o.Store.Topics.Mark(ctx, &t, examples, v.Name); err != nil {
		return 0, err
	}
	return len(examples), o.LoadTopics(ctx, t.ID)
}

// ImportTopic lets the topic of a name learn from examples; it is made if there is none.
func (o *Topics) ImportTopic(ctx context.Context, v store.Viewer, name string, list []topic.Example) (id string,
	err error) {
	topics, err := o.Store.Topics.All(ctx)
	if err != nil {
		return "", err
	}
	at := slices.IndexFunc(topics, func(t store.Topic) bool { return Key(t.Name) == Key(name) })
	if at >= 0 {
		_, err := o.ImportExamples(ctx, v, topics[at].ID, list)
		return topics[at].ID, err
	}
	t := store.Topic{Name: name}
	if err := o.Save(ctx, &t, 0, v.Name); err != nil {
		return "", err
	}
	if _, err := o.ImportExamples(ctx, v, t.ID, list); err != nil {
		return "", errors.Join(err, o.Remove(ctx, t.ID, v.Name)) // nothing is kept of an import that fails
	}
	return t.ID, nil
}

// Teaching is a message whose answer would teach a topic much.
type Teaching struct {
	Message store.Message
	Likely  float64 // by subject, sender and the names of its attachments
	seen    topic.Features
}

// Teachings lists known messages whose answer would teach a topic most: those about
// which it is least sure first, and of those that are alike only one.
func (o *Topics) Teachings(ctx context.Context, v store.Viewer, topicID string, most int) ([]Teaching, error) {
	t, err := o.Store.Topics.ByID(ctx, topicID)
	if err != nil {
		return nil, err
	}
	rows, err := o.Store.Messages.Find(ctx, v, store.MessageQuery{Most: proposalReach})
	if err != nil {
		return nil, err
	}
	k := o.Settings().topics
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
func (o *Topics) PastRule(ctx context.Context, topicID string, confidence int) (*rule.Rule, error) {
	t, err := o.Store.Topics.ByID(ctx, topicID)
	if err != nil {
		return nil, err
	}
	cabinets, err := o.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, err
	}
	cabinet := "none"
	if len(cabinets) > 0 {
		cabinet = cabinets[0].Name
	}
	return &rule.Rule{Name: t.Name, Cabinet: cabinet,
		Look: rule.Look{Mailboxes: rule.Names{"all"}, Folders: rule.Names{"all"}},
		Match: rule.Match{
			Condition: rule.Condition{Topic: &rule.TopicTest{Is: rule.Names{t.Name}, Confidence: rule.Percent(confidence)}}},
		Attachments: []rule.Selection{{Take: &rule.Take{Everything: true}, Folder: "<sender.domain>"}}}, nil
}
