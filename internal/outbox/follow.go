package outbox

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/post"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// FollowUps makes the rows of what is done with a message afterwards.
// Nobody is written to because of old mail: it can be years old, and much.
func FollowUps(pr *plan.Rule, old bool, now time.Time) []store.FollowUp {
	rows := make([]store.FollowUp, 0, len(pr.Steps))
	for _, s := range pr.Steps {
		f := store.FollowUp{RuleID: pr.Rule.Rule.ID, RuleRevision: pr.Rule.Revision, Place: s.Place, Kind: string(s.Kind),
			What: s.What, State: store.Waiting, Reason: s.Reason, MadeAt: now}
		if old && s.Do && (s.Kind == rule.DoReply || s.Kind == rule.DoDraft || s.Kind == rule.DoTell) {
			s.Do, f.Reason = false, reason.OldMail()
		}
		if !s.Do {
			f.State, f.DoneAt = store.NotDone, &now
		}
		rows = append(rows, f)
	}
	return rows
}

// mostTries is how often a change in a mailbox is tried before a person is asked.
const mostTries = 8

// Changes are what is done in a mailbox.
type Changes struct {
	Mailbox *store.Mailbox
	Session source.Changer                                         // nil where the mailbox cannot be changed
	Find    func(ctx context.Context, name string) (string, error) // finds a folder by its path or role
	Begin   func()                                                 // is called before a folder is opened for changing
}

// FollowOne does one follow-up. The error, if any, is the mailbox's.
func (ob *Outbox) FollowOne(ctx context.Context, v *Changes, f *store.FollowUp) error {
	var r *rule.Compiled
	var why reason.Reason
	var err error
	if f.Kind != "return" && f.RuleID != store.ByHand {
		r, why, err = ob.mayFollow(ctx, f)
	}
	if err != nil {
		return err
	}
	if !why.IsZero() {
		f.State, f.Reason = store.NotDone, why
		return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
	}
	if r != nil && f.Kind == string(rule.DoDraft) {
		if done, err := ob.doneBefore(ctx, f, r); done || err != nil {
			return err
		}
	}
	err = ob.doFollow(ctx, v, f, r)
	if err == nil {
		ob.Log.Info("done with a message", "follow-up", f.Kind, "what", f.What, "state", f.State, "reason", f.Reason.String())
		return nil
	}
	var reach *source.Error
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, source.ErrGone):
		f.State, f.Reason = store.NotDone, reason.NotThere()
		return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
	case errors.Is(err, source.ErrNoLabels):
		f.State, f.Reason = store.NotDone, reason.NoLabels()
		if r == nil { // by hand: the person who asked sees it
			return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
		}
		if err := ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now()); err != nil {
			return err
		}
		return ob.noLabels(ctx, v.Mailbox, r)
	case errors.As(err, &reach) && reach.Step != source.Connection:
		// The server refuses this follow-up, and will refuse it again.
		f.Attempts++
		f.Reason = reason.Failing(reach.Problem)
		if f.Attempts >= mostTries || reach.Lasting {
			f.State, f.Reason = store.CouldNot, reason.StepRefused(reach.Problem)
			return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
		}
		next := ob.Now().Add(ob.Pause(f.Attempts))
		f.NextAt = &next
		return ob.Store.FollowUps.PutOffFollowUp(ctx, f)
	}
	return err
}

// mayFollow finds the rule of a follow-up as it was, and says why nothing is to
// be done, "" where it is.
func (ob *Outbox) mayFollow(ctx context.Context, f *store.FollowUp) (r *rule.Compiled, why reason.Reason, err error) {
	r, err = ob.office.Rule(ctx, f.RuleID, f.RuleRevision)
	if err != nil {
		return nil, why, err
	}
	if f.Place >= len(r.FollowUps()) || string(r.FollowUps()[f.Place].Kind) != f.Kind {
		return r, reason.NoSuchStep(), nil
	}
	if !r.TakesAttachments() {
		return r, why, nil
	}
	paths, err := ob.Store.FollowUps.FiledPaths(ctx, f.RuleID, f.MessageID)
	if err == nil && len(paths) == 0 {
		return r, reason.NothingWasFiled(), nil
	}
	return r, why, err
}

// asked is what a follow-up that moves nothing has in place of a folder once a person was asked about it.
const asked = "asked"

// doneBefore ends a follow-up that was done, or may have been, after the backup from which the records were restored.
// It says whether that is so.
func (ob *Outbox) doneBefore(ctx context.Context, f *store.FollowUp, r *rule.Compiled) (bool, error) {
	row, err := ob.Store.Messages.ByID(ctx, store.System, f.MessageID)
	if err != nil {
		return false, err
	}
	at, before := ob.Store.Restored.Before(row.ReceivedAt)
	if !before || f.FromFolder == asked {
		return false, nil
	}
	made := at.In(ob.Zone).Format("2006-01-02 15:04")
	filed, err := ob.Store.Restored.RecognisedOf(ctx, f.RuleID, f.MessageID)
	if err != nil {
		return false, err
	}
	switch waited, between := ob.Store.Restored.PerhapsDone(f, row.ReceivedAt); {
	case filed:
		f.State, f.Reason = store.NotDone, reason.DoneBeforeRestoring(made)
	case waited, between && !r.TakesAttachments(): // else it was not filed, and nothing is sent before that
		f.FromFolder = asked
		f.State, f.Reason = store.CouldNot, reason.PerhapsDoneBeforeRestoring(made)
	default:
		return false, nil
	}
	return true, ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
}

// noLabels tells once that a mailbox keeps no labels.
func (ob *Outbox) noLabels(ctx context.Context, m *store.Mailbox, r *rule.Compiled) error {
	err := ob.Store.Tray.Tell(ctx, &store.Notice{Kind: "labels", Object: m.ID + "/" + r.Rule.ID, MailboxID: m.ID,
		MadeAt: ob.Clock(),
		Text: fmt.Sprintf("The mail server of “%s” keeps no labels, so the rule “%s” cannot put them on. Everything else "+
			"is done.", m.Name, r.Rule.Name),
		Advice: "Take the labels out of the rule, or let it move the message instead."})
	ob.Events.Send(events.Event{Kind: "tray"})
	return err
}

// doFollow does one follow-up in the mailbox and records it.
func (ob *Outbox) doFollow(ctx context.Context, v *Changes, f *store.FollowUp, r *rule.Compiled) error {
	s := v.Session
	if s == nil {
		f.State, f.Reason = store.NotDone, reason.Unchangeable()
		return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
	}
	row, err := ob.Store.Messages.ByID(ctx, store.System, f.MessageID)
	if err != nil {
		return err
	}
	v.Begin()
	if f.Kind == "return" {
		return ob.move(ctx, s, f, &row)
	}
	step := &rule.FollowUp{Kind: rule.StepKind(f.Kind), Words: []string{f.What}} // by hand
	if r != nil {
		step = &r.FollowUps()[f.Place]
	}
	switch step.Kind {
	case rule.DoDraft:
		return ob.draft(ctx, v, f, r, &row)
	case rule.DoMove:
		return ob.move(ctx, s, f, &row)
	}
	if err := openFor(ctx, s, &row); err != nil {
		return err
	}
	var on, off []string
	for _, word := range step.Words {
		switch step.Kind {
		case rule.DoLabel:
			on = append(on, rule.Keyword(word))
		case rule.DoUnlabel:
			off = append(off, rule.Keyword(word))
		default:
			if flag, set := rule.Mark(word).Flag(); set {
				on = append(on, flag)
			} else {
				off = append(off, flag)
			}
		}
	}
	var before []source.Facts
	if r == nil { // by hand: what is changed can be taken back
		if before, err = s.Facts(ctx, []uint32{row.UID}); err != nil {
			return err
		}
	}
	if row.Flags, err = s.Mark(ctx, row.UID, on, off); err != nil {
		return err
	}
	f.State, f.Reason = store.DidIt, reason.Reason{}
	if len(before) == 1 && sameFlags(before[0].Flags, row.Flags) {
		f.State, f.Reason = store.NotDone, reason.SoAlready() // so taking it back changes nothing
	}
	return ob.Store.FollowUps.EndFollowUp(ctx, f, &row, ob.Now())
}

// openFor opens the folder of a message, for changing, and finds the
// message in it, also after the folder was renumbered or the server did not
// say under which number a moved message is.
func openFor(ctx context.Context, s source.Changer, row *store.Message) error {
	state, err := s.Write(ctx, row.Folder)
	var gone *source.Error
	if errors.As(err, &gone) && gone.Step == source.Folders && gone.Lasting {
		return source.ErrGone
	}
	if err != nil {
		return err
	}
	if row.UIDValidity == state.UIDValidity {
		there, err := s.UIDs(ctx, source.Query{From: row.UID, To: row.UID})
		if err == nil && len(there) == 0 {
			err = source.ErrGone
		}
		return err
	}
	uid, err := seek(ctx, s, row)
	if err != nil {
		return err
	}
	row.UIDValidity, row.UID = state.UIDValidity, uid
	return nil
}

// seek finds a message in the folder that is open, by its Message-ID and then
// by its fingerprint.
func seek(ctx context.Context, s source.Changer, row *store.Message) (uint32, error) {
	facts, err := row.Facts()
	if err != nil {
		return 0, err
	}
	id := facts.Message(row.Folder).Envelope.MessageID
	if id == "" {
		return 0, source.ErrGone
	}
	uids, err := s.Named(ctx, id)
	if err != nil || len(uids) == 0 {
		return 0, errors.Join(err, source.ErrGone)
	}
	found, err := s.Facts(ctx, uids)
	if err != nil {
		return 0, err
	}
	for i := range found {
		m := found[i].Message(row.Folder)
		if row.Is(m) {
			return found[i].UID, nil
		}
	}
	return 0, source.ErrGone
}

// move moves a message. It is recorded as begun first: after a crash the message
// is looked for at both places before anything is done again.
func (ob *Outbox) move(ctx context.Context, s source.Changer, f *store.FollowUp, row *store.Message) error {
	again := f.State == store.Begun
	done := func() error {
		f.State, f.Reason = store.DidIt, reason.Reason{}
		return ob.Store.FollowUps.EndFollowUp(ctx, f, row, ob.Now())
	}
	if strings.EqualFold(row.Folder, f.What) {
		return done() // it was met there
	}
	if f.FromFolder == "" {
		f.FromFolder = row.Folder
	}
	err := openFor(ctx, s, row)
	if err != nil && !(again && errors.Is(err, source.ErrGone)) {
		return err
	}
	if again {
		moved := *row
		moved.Folder, moved.UIDValidity = f.What, 0
		if there := openFor(ctx, s, &moved); there == nil {
			if err == nil { // a copy without its removal: a server without MOVE was interrupted
				if err := finishMove(ctx, s, row); err != nil {
					return err
				}
			}
			*row = moved
			return done()
		} else if !errors.Is(there, source.ErrGone) {
			return there
		}
		if err != nil {
			return err
		}
		if err := openFor(ctx, s, row); err != nil {
			return err
		}
	}
	f.FromValidity, f.FromUID = row.UIDValidity, row.UID
	if err := ob.Store.FollowUps.BeginFollowUp(ctx, f); err != nil {
		return err
	}
	place, err := s.Move(ctx, row.UID, f.What)
	if err != nil {
		return err
	}
	row.Folder, row.UIDValidity, row.UID = place.Folder, place.UIDValidity, place.UID
	return done()
}

// finishMove takes the first of two copies away.
func finishMove(ctx context.Context, s source.Changer, row *store.Message) error {
	if err := openFor(ctx, s, row); err != nil {
		return err
	}
	return s.Remove(ctx, row.UID)
}

// draft leaves a reply among the drafts. Its own Message-ID tells after a crash
// whether it is there already.
func (ob *Outbox) draft(ctx context.Context, v *Changes, f *store.FollowUp, r *rule.Compiled,
	row *store.Message) error {
	s := v.Session
	p, why, err := ob.replyOf(ctx, f, r, row)
	if err != nil {
		return err
	}
	if !why.IsZero() {
		f.State, f.Reason = store.NotDone, why
		return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
	}
	folder, err := v.Find(ctx, "drafts")
	if err != nil {
		return err
	}
	if folder == "" {
		folder = "Drafts"
	}
	if f.State == store.Begun {
		if _, err := s.Write(ctx, folder); err == nil {
			there, err := s.Named(ctx, strings.Trim(p.Event, "<>"))
			if err != nil {
				return err
			}
			if len(there) > 0 {
				f.State = store.DidIt
				return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
			}
		}
	}
	if err := ob.Store.FollowUps.BeginFollowUp(ctx, f); err != nil {
		return err
	}
	if err := s.Append(ctx, folder, p.Content, []string{`\Draft`, `\Seen`}); err != nil {
		return err
	}
	f.State, f.Reason = store.DidIt, reason.Reason{}
	return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
}

// replyOf writes the reply of a follow-up, or says why there is none.
func (ob *Outbox) replyOf(ctx context.Context, f *store.FollowUp, r *rule.Compiled, row *store.Message) (p store.Post,
	why reason.Reason, err error) {
	facts, err := row.Facts()
	if err != nil {
		return p, why, err
	}
	m := facts.Message(row.Folder)
	if robot := m.NoReply(); robot != "" {
		return p, reason.NoReply(robot), nil
	}
	box, err := ob.Store.Mailboxes.ByID(ctx, store.System, row.MailboxID)
	if err != nil {
		return p, why, err
	}
	out, err := ob.Outgoing(ctx)
	if err != nil {
		return p, why, err
	}
	from := out.From
	if a := mail.ParseAddresses(box.Username); len(a) == 1 && a[0].Domain != "" {
		from = a[0].String()
	}
	to := m.ReplyTo()
	if strings.EqualFold(to.String(), from) || strings.EqualFold(to.String(), out.From) {
		return p, reason.NoReply("it came from the office's own address"), nil
	}
	paths, err := ob.Store.FollowUps.FiledPaths(ctx, f.RuleID, f.MessageID)
	if err != nil {
		return p, why, err
	}
	read, err := ob.Store.FollowUps.FiledValues(ctx, f.RuleID, f.MessageID)
	if err != nil {
		return p, why, err
	}
	step := &r.FollowUps()[f.Place]
	subject, text := plan.Letter(r, step, m, ob.office.Settings().For(box.Name, ob.Now()), paths, read)
	p = store.Post{FollowUpID: f.ID, MessageID: f.MessageID, MailboxID: f.MailboxID, RuleID: f.RuleID, Purpose: "reply",
		Kind: "mail", Recipients: to.String(), Subject: subject,
		Event: fmt.Sprintf("<%s.%d.%d@%s>", ob.Installation, f.ID, f.MadeAt.Unix(), domainOf(from)), State: store.Waiting,
		MadeAt: ob.Clock().UTC()}
	inReplyTo, references := m.Thread()
	if from == "" {
		return p, reason.NoReply("the address that it comes from is missing"), nil
	}
	letter := post.Letter{From: from, Name: out.Name, To: []string{to.String()}, Subject: subject, Text: text, ID: p.Event,
		Date: ob.Now(), InReplyTo: inReplyTo, References: references, Auto: "auto-replied"}
	p.Content, err = letter.Bytes()
	return p, why, err
}

// sameFlags says whether two lists hold the same flags. What only a server sets for
// a session counts for nothing.
func sameFlags(a, b []string) bool {
	norm := func(list []string) []string {
		var out []string
		for _, f := range list {
			if !strings.EqualFold(f, `\Recent`) {
				out = append(out, strings.ToLower(f))
			}
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	return slices.Equal(norm(a), norm(b))
}
