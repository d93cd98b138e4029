package api

import (
	"context"
	"math"
	"strings"
	"unicode/utf8"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/topic"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/store"
)

// percent is a likelihood; nothing learned is ever wholly certain.
func percent(x float64) int { return min(99, max(1, int(math.Round(100*x)))) }

func topicOf(t *store.Topic, learned *topic.Topic, uses map[string][]string) Topic {
	out := Topic{ID: t.ID, Name: t.Name, Revision: t.Revision, About: learned.Yes, Others: learned.No,
		Ready: learned.Ready(), Needs: topic.MinExamples, Rules: []string{}}
	q := learned.Quality(topic.DefaultConfidence)
	out.Sentence = q.Sentence()
	if learned.Ready() {
		out.Quality = &TopicQuality{Examples: q.Examples, About: q.About, Found: q.Found, Missed: q.Missed, Wrong: q.Wrong,
			Asked: q.Asked}
	} else {
		out.Sentence = "It does not judge yet: " + learned.Missing() + "."
	}
	out.Rules = append(out.Rules, uses[strings.ToLower(t.Name)]...)
	return out
}

func (s *topicHandlers) topic(ctx context.Context, t *store.Topic) (Topic, error) {
	uses, err := s.Engine.Office.Topics.Uses(ctx)
	return topicOf(t, s.Engine.Office.Topics.Learned(t.Name), uses), err
}

func (s *topicHandlers) topicByID(ctx context.Context, id string) (Topic, error) {
	t, err := s.Store.Topics.ByID(ctx, id)
	if err != nil {
		return Topic{}, err
	}
	return s.topic(ctx, &t)
}

// ListTopics lists the topics.
func (s *topicHandlers) ListTopics(ctx context.Context, _ ListTopicsRequestObject) (ListTopicsResponseObject, error) {
	rows, err := s.Store.Topics.All(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := s.Engine.Office.Topics.Uses(ctx)
	out := ListTopics200JSONResponse{}
	for i := range rows {
		out = append(out, topicOf(&rows[i], s.Engine.Office.Topics.Learned(rows[i].Name), uses))
	}
	return inOrder(out, func(one *Topic) string { return one.Name }), err
}

// AddTopic makes a topic.
func (s *topicHandlers) AddTopic(ctx context.Context, r AddTopicRequestObject) (AddTopicResponseObject, error) {
	t := store.Topic{Name: r.Body.Name}
	if err := s.Engine.Office.Topics.Save(ctx, &t, 0, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.topic(ctx, &t)
	return AddTopic201JSONResponse(out), err
}

// ChangeTopic gives a topic another name.
func (s *topicHandlers) ChangeTopic(ctx context.Context, r ChangeTopicRequestObject) (ChangeTopicResponseObject,
	error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	t := store.Topic{ID: r.ID, Name: r.Body.Name}
	if err := s.Engine.Office.Topics.Save(ctx, &t, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.topic(ctx, &t)
	return ChangeTopic200JSONResponse(out), err
}

// RemoveTopic removes a topic.
func (s *topicHandlers) RemoveTopic(ctx context.Context, r RemoveTopicRequestObject) (RemoveTopicResponseObject,
	error) {
	return RemoveTopic204Response{}, s.Engine.Office.Topics.Remove(ctx, r.ID, viewerOf(ctx).Name)
}

// ListExamples lists by what a topic was taught.
func (s *topicHandlers) ListExamples(ctx context.Context, r ListExamplesRequestObject) (ListExamplesResponseObject,
	error) {
	v := viewerOf(ctx)
	t, err := s.Store.Topics.ByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Topics.Examples(ctx, v, t.ID)
	if err != nil {
		return nil, err
	}
	out := ListExamples200JSONResponse{}
	for i := range rows {
		e := &rows[i]
		one := TopicExample{ID: e.ID, About: e.About, Subject: e.Subject, Sender: e.SenderAddress, Names: list(e.Names),
			Text: rule.Short(strings.Join(strings.Fields(e.Text), " ")), Origin: e.Origin, MarkedBy: e.MarkedBy,
			MarkedAt: e.MarkedAt}
		if e.MessageID > 0 {
			one.Message = &e.MessageID
		}
		out = append(out, one)
	}
	return out, s.Store.People.Record(ctx, v, "read examples", t.Name)
}

// MarkMessages teaches a topic.
func (s *topicHandlers) MarkMessages(ctx context.Context, r MarkMessagesRequestObject) (MarkMessagesResponseObject,
	error) {
	origin := "mail"
	if r.Body.Origin != nil {
		origin = string(*r.Body.Origin)
	}
	if _, err := s.Engine.Desk.Mark(ctx, viewerOf(ctx), r.ID, r.Body.Messages, r.Body.About, origin); err != nil {
		return nil, err
	}
	out, err := s.topicByID(ctx, r.ID)
	return MarkMessages200JSONResponse(out), err
}

// TakeExamplesBack lets a topic forget examples.
func (s *topicHandlers) TakeExamplesBack(ctx context.Context,
	r TakeExamplesBackRequestObject) (TakeExamplesBackResponseObject, error) {
	n, err := s.Engine.Office.Topics.Unmark(ctx, viewerOf(ctx), r.ID, r.Params.ID)
	if err == nil && n == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	out, err := s.topicByID(ctx, r.ID)
	return TakeExamplesBack200JSONResponse(out), err
}

// ListTeachings lists what would teach a topic most.
func (s *topicHandlers) ListTeachings(ctx context.Context, r ListTeachingsRequestObject) (ListTeachingsResponseObject,
	error) {
	v := viewerOf(ctx)
	found, err := s.Engine.Office.Topics.Teachings(ctx, v, r.ID, number(r.Params.Most, 20))
	if err != nil {
		return nil, err
	}
	n, err := s.names(ctx, v)
	out := ListTeachings200JSONResponse{}
	for i := range found {
		out = append(out, Teaching{Message: n.message(&found[i].Message), Likely: percent(found[i].Likely)})
	}
	return out, err
}

// RehearseTopic says what a topic would take of the past.
func (s *topicHandlers) RehearseTopic(ctx context.Context, r RehearseTopicRequestObject) (RehearseTopicResponseObject,
	error) {
	document, err := s.Engine.Office.Topics.PastRule(ctx, r.ID, number(r.Params.Confidence, 0))
	if err != nil {
		return nil, err
	}
	out, err := s.rehearsal(ctx, rehearsal.RehearsalOf{Rule: document, Last: number(r.Params.Last, 100), Thorough: true},
		s.sentence(document))
	return RehearseTopic200JSONResponse(out), err
}

// ExportTopic gives a topic as a file.
func (s *topicHandlers) ExportTopic(ctx context.Context, r ExportTopicRequestObject) (ExportTopicResponseObject,
	error) {
	v := viewerOf(ctx)
	t, err := s.Store.Topics.ByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Topics.Examples(ctx, v, t.ID)
	if err != nil {
		return nil, err
	}
	out := TopicDocument{Format: 1, Name: t.Name, Examples: []TopicDocumentExample{}}
	for i := range rows {
		e := &rows[i]
		names := list(e.Names)
		out.Examples = append(out.Examples,
			TopicDocumentExample{About: e.About, Subject: e.Subject, Text: e.Text, Sender: optional(e.SenderAddress),
				Names: &names})
	}
	return ExportTopic200JSONResponse(out), s.Store.People.Record(ctx, v, "export topic", t.Name)
}

// ImportTopic lets a topic learn from a file.
func (s *topicHandlers) ImportTopic(ctx context.Context, r ImportTopicRequestObject) (ImportTopicResponseObject,
	error) {
	v := viewerOf(ctx)
	if r.Body.Format != 1 {
		return nil, rule.Problems{{Place: "format", Text: "the file has a format that this version does not read; it reads " +
			"format 1", Meant: "1"}}
	}
	var examples []topic.Example
	for _, e := range r.Body.Examples {
		one := topic.Example{About: e.About, Mail: topic.Mail{Subject: e.Subject, Text: e.Text, Names: listed(e.Names)}}
		if e.Sender != nil {
			if a := mail.ParseAddresses(*e.Sender); len(a) > 0 {
				one.Mail.Sender = a[0]
			}
		}
		examples = append(examples, one)
	}
	id, err := s.Engine.Office.Topics.ImportTopic(ctx, v, r.Body.Name, examples)
	if err != nil {
		return nil, err
	}
	out, err := s.topicByID(ctx, id)
	return ImportTopic200JSONResponse(out), err
}

// JudgeMessage says what the topics make of a message.
func (s *topicHandlers) JudgeMessage(ctx context.Context, r JudgeMessageRequestObject) (JudgeMessageResponseObject,
	error) {
	all, err := s.Engine.Desk.JudgeMessage(ctx, viewerOf(ctx), r.Number)
	out := JudgeMessage200JSONResponse{}
	for _, j := range all {
		one := TopicVerdict{ID: j.Topic.ID, Topic: j.Topic.Name, Ready: j.Ready, Decision: NotLearned, For: []string{},
			Against: []string{}, Said: j.Said}
		if j.Ready {
			likely := percent(j.Likely)
			one.Likely = &likely
			one.Decision = map[topic.Decision]TopicVerdictDecision{topic.About: About, topic.NotAbout: NotAbout,
				topic.Doubtful: InDoubt}[j.Decision]
		}
		for _, e := range j.Why {
			if utf8.RuneCountInString(e.Word) < 3 {
				continue
			}
			if e.Weight > 0 {
				one.For = append(one.For, e.Word)
			} else if e.Weight < 0 {
				one.Against = append(one.Against, e.Word)
			}
		}
		out = append(out, one)
	}
	return out, err
}

// ProveMessage says whether it is proven who sent a message.
func (s *topicHandlers) ProveMessage(ctx context.Context, r ProveMessageRequestObject) (ProveMessageResponseObject,
	error) {
	p, err := s.Engine.Reader.ProveMessage(ctx, viewerOf(ctx), r.Number)
	out := Proof{State: ProofStateNotVerified, Text: p.Text}
	switch {
	case p.Unknown:
		out.State = ProofStateNotKnown
	case p.Proven:
		out.State = ProofStateVerified
	}
	return ProveMessage200JSONResponse(out), err
}

func (s *topicHandlers) trust(ctx context.Context) (Trust, error) {
	t := s.Engine.Office.Settings().Trust
	revision, err := s.Store.Settings.RevisionOf(ctx, store.TrustSetting)
	if err != nil {
		return Trust{}, err
	}
	out := Trust{Revision: revision, Servers: list(t.Servers), Replies: t.Replies, Correspondents: t.Correspondents}
	if s.Engine.Scanner != nil {
		says, err := s.Engine.Scanner.Ping(ctx)
		answers := err == nil
		if err != nil {
			says = err.Error()
		}
		out.Scanner, out.ScannerSays, out.ScannerAnswers = &s.Engine.Scanner.Address, &says, &answers
	}
	return out, nil
}

// GetTrust says which servers and senders the office trusts.
func (s *topicHandlers) GetTrust(ctx context.Context, _ GetTrustRequestObject) (GetTrustResponseObject, error) {
	out, err := s.trust(ctx)
	return GetTrust200JSONResponse(out), err
}

// SetTrust sets it.
func (s *topicHandlers) SetTrust(ctx context.Context, r SetTrustRequestObject) (SetTrustResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Engine.Office.SetTrust(ctx, office.Trust{Servers: r.Body.Servers, Replies: r.Body.Replies,
		Correspondents: r.Body.Correspondents}, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.trust(ctx)
	return SetTrust200JSONResponse(out), err
}

// AnswerTopics answers what waits because a topic is in doubt.
func (s *topicHandlers) AnswerTopics(ctx context.Context, r AnswerTopicsRequestObject) (AnswerTopicsResponseObject,
	error) {
	v := viewerOf(ctx)
	m, err := s.chosen(ctx, v, &r.Body.Matters, nil)
	if err != nil {
		return nil, err
	}
	n, err := s.Engine.Desk.AnswerTopics(ctx, v, m.Items, r.Body.About)
	return AnswerTopics200JSONResponse{Count: n}, err
}

func (s *topicHandlers) scans(ctx context.Context) (Scans, error) {
	now, err := s.Engine.Reader.ScansSetting(ctx)
	if err != nil {
		return Scans{}, err
	}
	revision, err := s.Store.Settings.RevisionOf(ctx, store.ScansSetting)
	out := Scans{Read: !now.Off, Languages: list(now.Languages), Pages: now.Pages, Revision: revision,
		Installed: []string{}, Used: list(now.Reads)}
	if now.Tesseract != nil {
		out.Tesseract, out.Installed = now.Tesseract.Version, list(now.Tesseract.Languages)
	} else {
		out.Absent = &now.Absent
	}
	return out, err
}

// GetScans says how scans are read.
func (s *topicHandlers) GetScans(ctx context.Context, _ GetScansRequestObject) (GetScansResponseObject, error) {
	out, err := s.scans(ctx)
	return GetScans200JSONResponse(out), err
}

// SetScans sets it.
func (s *topicHandlers) SetScans(ctx context.Context, r SetScansRequestObject) (SetScansResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	now, err := s.scans(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.Engine.Office.SetScans(ctx, office.Scans{Off: !r.Body.Read, Languages: r.Body.Languages,
		Pages: r.Body.Pages}, now.Installed, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.scans(ctx)
	return SetScans200JSONResponse(out), err
}
