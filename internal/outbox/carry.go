// Package outbox carries out what happens after filing: labels, marks, moves and drafts in the mailbox, replies,
// notices to people, calls to other programs, and alarms. It guarantees that a mail is sent at most once, that a call
// is made at least once with one id, and that nothing is done for a message before all its items are decided.
package outbox

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/post"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

const (
	triesFor  = 24 * time.Hour // how long a mail or a call is tried again before a person is asked
	mostCarry = 100
	together  = 100 * time.Millisecond // between two looks at what is to be sent
)

// Outbox does what leaves the service. Its methods may be called by several goroutines at once; Carry runs once.
type Outbox struct {
	*base.Base
	Through Through // sends through mailboxes
	office  *office.Office
	rootCAs *x509.CertPool
	wake    chan struct{}
}

// Through sends mail through a mailbox whose server also takes mail to send.
type Through interface {
	// Submit sends a message; see source.Submitter.
	Submit(ctx context.Context, m *store.Mailbox, l source.Letter) error
	// CheckSubmit says why the mailbox sends no mail; nil where it does.
	CheckSubmit(ctx context.Context, m *store.Mailbox) error
}

// New makes an outbox. rootCAs are trusted where mail is sent; nil for the system's.
func New(b *base.Base, o *office.Office, rootCAs *x509.CertPool) *Outbox {
	return &Outbox{Base: b, office: o, rootCAs: rootCAs, wake: make(chan struct{}, 1)}
}

// Outgoing is how mail is sent.
func (ob *Outbox) Outgoing(ctx context.Context) (store.Outgoing, error) {
	o, _, err := ob.Store.Settings.Outgoing(ctx)
	return o, err
}

// Carry hands over and sends what leaves the service, and tells what waits and what did not happen, until the service
// ends.
func (ob *Outbox) Carry(ctx context.Context) {
	ticker := time.NewTicker(ob.Beat)
	defer ticker.Stop()
	for {
		for _, turn := range []struct {
			what string
			do   func(ctx context.Context) error
		}{{"looking after the alarms", ob.ring}, {"telling what waits", ob.tell},
			{"handing over what is to be sent", ob.hand}, {"sending", ob.send}} {
			if err := turn.do(ctx); err != nil && ctx.Err() == nil {
				ob.Log.Error(turn.what, "error", err)
			}
		}
		select { // many messages that are filed at once are looked at together
		case <-ctx.Done():
			return
		case <-time.After(min(together, ob.Beat)):
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		case <-ob.wake:
		}
	}
}

// Hasten lets what is to be sent be looked at now.
func (ob *Outbox) Hasten() {
	select {
	case ob.wake <- struct{}{}:
	default:
	}
}

// hand puts replies and tidings that are due into the post.
func (ob *Outbox) hand(ctx context.Context) error {
	rows, err := ob.Store.FollowUps.Ready(ctx, "", ob.Clock(), mostCarry)
	if err != nil {
		return err
	}
	for i := range rows {
		if err := ob.handOne(ctx, &rows[i]); err != nil {
			return err
		}
		ob.Events.Send(events.Event{Kind: "message", ID: fmt.Sprint(rows[i].MessageID), Mailbox: rows[i].MailboxID})
	}
	return nil
}

func (ob *Outbox) handOne(ctx context.Context, f *store.FollowUp) error {
	not := func(why reason.Reason) error {
		f.State, f.Reason = store.NotDone, why
		return ob.Store.FollowUps.EndFollowUp(ctx, f, nil, ob.Now())
	}
	r, why, err := ob.mayFollow(ctx, f)
	if err != nil {
		return err
	}
	if !why.IsZero() {
		return not(why)
	}
	if done, err := ob.doneBefore(ctx, f, r); done || err != nil {
		return err
	}
	row, err := ob.Store.Messages.ByID(ctx, store.System, f.MessageID)
	if err != nil {
		return err
	}
	step := &r.FollowUps()[f.Place]
	if step.Kind == rule.DoReply {
		p, why, err := ob.replyOf(ctx, f, r, &row)
		if err != nil {
			return err
		}
		if !why.IsZero() {
			return not(why)
		}
		sent, err := ob.Store.FollowUps.Hand(ctx, []store.Post{p}, f, step.Once.Before(ob.Now()), ob.Now())
		if err == nil && !sent {
			return not(reason.RepliedAlready(p.Recipients, step.Once.String()))
		}
		return err
	}
	posts, err := ob.tidings(ctx, f, r, step, &row)
	if err != nil {
		return err
	}
	_, err = ob.Store.FollowUps.Hand(ctx, posts, f, time.Time{}, ob.Now())
	return err
}

// filedFile is one file in a call's data.
type filedFile struct {
	Folder string `json:"folder"`
	File   string `json:"file"`
}

// filedData is what a call says of a message whose attachments were filed.
type filedData struct {
	Rule     string      `json:"rule"`
	Mailbox  string      `json:"mailbox"`
	Subject  string      `json:"subject"`
	Sender   string      `json:"sender"`
	Received time.Time   `json:"received"`
	Headline string      `json:"headline"`
	Text     string      `json:"text"`
	Files    []filedFile `json:"files"`
}

// tidings writes what a rule tells of a message, for each addressee.
func (ob *Outbox) tidings(ctx context.Context, f *store.FollowUp, r *rule.Compiled, step *rule.FollowUp,
	row *store.Message) ([]store.Post,
	error) {
	facts, err := row.Facts()
	if err != nil {
		return nil, err
	}
	m := facts.Message(row.Folder)
	paths, err := ob.Store.FollowUps.FiledPaths(ctx, f.RuleID, f.MessageID)
	if err != nil {
		return nil, err
	}
	read, err := ob.Store.FollowUps.FiledValues(ctx, f.RuleID, f.MessageID)
	if err != nil {
		return nil, err
	}
	box, err := ob.Store.Mailboxes.ByID(ctx, store.System, row.MailboxID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	said := step.In(ob.language().Say)
	subject, text := plan.Letter(r, &said, m, ob.office.Settings().For(box.Name, ob.Now()), paths, read)
	data := filedData{Rule: r.Rule.Name, Mailbox: box.Name, Subject: row.Subject, Sender: row.SenderAddress,
		Received: row.ReceivedAt, Headline: subject, Text: text, Files: []filedFile{}}
	for _, p := range paths {
		folder, file := path.Split(p)
		data.Files = append(data.Files, filedFile{strings.TrimSuffix(folder, "/"), file})
	}
	var posts []store.Post
	for i, name := range step.Words {
		p, err := ob.noteTo(ctx, name, subject, text, "message.filed", m.Envelope.MessageID, data, fmt.Sprintf("%d.%d",
			f.ID, i),
			f.MadeAt)
		if err != nil {
			return nil, err
		}
		p.FollowUpID, p.MessageID, p.MailboxID, p.RuleID, p.Purpose = f.ID, f.MessageID, f.MailboxID, f.RuleID, "tell"
		posts = append(posts, p)
	}
	return posts, nil
}

// noteTo makes a note to an addressee by name: a mail, or an event of a kind.
// key identifies the note: the same note has the same key whenever it is made.
func (ob *Outbox) noteTo(ctx context.Context, name, subject, text, kind, about string, data any, key string,
	made time.Time) (store.Post,
	error) {
	now := ob.Clock().UTC()
	p := store.Post{Kind: "mail", Subject: subject, State: store.Waiting, MadeAt: now}
	a, err := ob.Store.Alarms.AddresseeNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		p.Event = fmt.Sprintf("none-%s-%s-%d", ob.Installation, key, made.Unix())
		p.State, p.Reason, p.DoneAt = store.CouldNot, reason.NoAddressee(name), &now
		p.Cause = p.Reason.Cause()
		return p, nil
	}
	if err != nil {
		return p, err
	}
	p.AddresseeID, p.Kind = a.ID, a.Kind
	if a.Kind == "call" {
		event := post.Event{ID: fmt.Sprintf("%s-%s-%d", ob.Installation, key, made.Unix()), Source: "urn:inktray:" +
			ob.Installation, Type: "inktray." + kind, Subject: about, Time: made.UTC(), Data: data}
		p.Event, p.Recipients = event.ID, a.URL
		p.Content, err = event.Bytes()
		return p, err
	}
	out, err := ob.Outgoing(ctx)
	if err != nil {
		return p, err
	}
	p.Event, p.Recipients = fmt.Sprintf("<%s.%s.%d@%s>", ob.Installation, key, made.Unix(), domainOf(out.From)),
		strings.Join(a.Addresses, "\n")
	letter := post.Letter{From: out.From, Name: out.Name, To: a.Addresses, Subject: subject, Text: text, ID: p.Event,
		Date: ob.Now(), Auto: "auto-generated"}
	p.Content, err = letter.Bytes()
	return p, err
}

// send sends what is due, one after another. A mail is recorded as begun first
// and sent at most once: what was begun when the program ended may have been
// sent, and a person decides. A call is made at least once, always with its own id.
func (ob *Outbox) send(ctx context.Context) error {
	rows, err := ob.Store.FollowUps.Due(ctx, ob.Clock(), mostCarry)
	if err != nil {
		return err
	}
	down := false
	for i := range rows {
		if ctx.Err() != nil {
			return nil
		}
		p := &rows[i]
		if p.Kind == "mail" && down {
			continue // the mail server is out of reach: the next round tries again
		}
		if p.Kind == "mail" && p.State == store.Begun {
			p.State, p.Reason = store.Unsure, reason.MayBeSent()
			if err := ob.Store.FollowUps.Save(ctx, p, ob.Clock()); err != nil {
				return err
			}
			ob.Events.Send(events.Event{Kind: "tray"})
			continue
		}
		if err := ob.Store.FollowUps.Begin(ctx, p); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute) // what is begun is finished
		if p.Kind == "mail" {
			err = ob.sendMail(ctx, p)
		} else {
			err = ob.makeCall(ctx, p)
		}
		cancel()
		var known *post.Error
		switch errors.As(err, &known); {
		case err == nil:
			p.State, p.Reason = store.DidIt, reason.Reason{}
			ob.Log.Info("sent", "purpose", p.Purpose, "kind", p.Kind, "to", strings.ReplaceAll(p.Recipients, "\n", ", "))
		case known == nil:
			p.State, p.Reason = store.CouldNot, reason.Unsent(err.Error(), "Look at Settings, then try again.")
		case known.Unsure && p.Kind == "mail":
			p.State, p.Reason = store.Unsure, reason.Unsure(known.Problem, known.Advice)
		case known.Passing && ob.Clock().Sub(p.MadeAt) < triesFor:
			p.Attempts++
			next := ob.Clock().Add(ob.Pause(p.Attempts))
			p.State, p.Reason, p.NextAt = store.Waiting, reason.NotSentYet(known.Problem, known.Advice), &next
			down = down || known.Server && p.Kind == "mail"
			ob.Log.Warn("not sent yet", "purpose", p.Purpose, "to", p.Recipients, "problem", known.Problem, "again at", next)
		default:
			p.State, p.Reason = store.CouldNot, reason.Unsent(known.Problem, known.Advice)
		}
		if err := ob.Store.FollowUps.Save(ctx, p, ob.Clock()); err != nil {
			return err
		}
		if p.MessageID > 0 {
			ob.Events.Send(events.Event{Kind: "message", ID: fmt.Sprint(p.MessageID), Mailbox: p.MailboxID})
		}
		ob.Events.Send(events.Event{Kind: "tray"})
	}
	return nil
}

func (ob *Outbox) sendMail(ctx context.Context, p *store.Post) error {
	out, password, err := ob.Store.Settings.Outgoing(ctx)
	if err != nil {
		return err
	}
	to := strings.Split(p.Recipients, "\n")
	from := out.From
	if p.Purpose == "reply" {
		from = "" // RFC 3834 section 3.3: so that nobody's program answers it
	}
	if box, err := ob.sendsThrough(ctx, &out, p); err != nil {
		return err
	} else if box != nil {
		sender := mail.ParseAddresses(mail.Parse(p.Content).Message.Header.Get("From"))
		l := source.Letter{Bounces: from, To: to, Content: p.Content}
		if len(sender) == 1 {
			l.Sender = sender[0].String()
		}
		return submitted(ob.Through.Submit(ctx, box, l))
	}
	if out.Host == "" {
		return &post.Error{Problem: "Ink Tray cannot send mail, because outgoing mail is not set up",
			Advice: "Set up outgoing mail in Settings, then try again."}
	}
	server := post.Server{Host: out.Host, Port: out.Port, Encryption: out.Encryption, Username: out.Username,
		Password: password, RootCAs: ob.rootCAs}
	err = server.Send(ctx, from, to, p.Content)
	var known *post.Error
	if from == "" && errors.As(err, &known) && known.Sender && !known.Passing {
		err = server.Send(ctx, out.From, to, p.Content) // many servers want the sender that signed in
	}
	return err
}

// sendsThrough is the mailbox through which a mail is sent; nil where a mail server takes it. Without a mail server, a
// reply goes through the mailbox to which the message came, if it is read by JMAP.
func (ob *Outbox) sendsThrough(ctx context.Context, out *store.Outgoing, p *store.Post) (*store.Mailbox, error) {
	if out.Host != "" {
		return nil, nil
	}
	for _, id := range []string{p.MailboxID, out.Mailbox} {
		if id == "" || id == p.MailboxID && p.Purpose != "reply" && id != out.Mailbox {
			continue
		}
		box, err := ob.Store.Mailboxes.ByID(ctx, store.System, id)
		switch {
		case errors.Is(err, store.ErrNotFound):
		case err != nil:
			return nil, err
		case box.Kind == "jmap":
			return &box, nil
		}
	}
	if out.Mailbox != "" {
		return nil, &post.Error{Problem: "the mailbox through which mail is sent is no longer there",
			Advice: "Choose another way in Settings, Notifications, Outgoing mail."}
	}
	return nil, nil
}

// submitted makes the error of a mailbox's server into one of sending.
func submitted(err error) error {
	var known *source.Error
	switch {
	case err == nil:
		return nil
	case errors.Is(err, source.ErrUnsure):
		return &post.Error{Problem: "the connection to the mail server ended before it said whether it has the mail, so it " +
			"may have been sent", Advice: "Ask the recipient; if it did not arrive, try again.", Unsure: true, Err: err}
	case errors.As(err, &known):
		return &post.Error{Problem: known.Problem, Advice: known.Advice, Passing: !known.Lasting,
			Server: known.Step == source.Connection, Err: err}
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return &post.Error{Problem: "the mail server did not answer in time", Advice: "Ink Tray tries again.", Passing: true,
			Err: err}
	}
	return err
}

func (ob *Outbox) makeCall(ctx context.Context, p *store.Post) error {
	a, err := ob.Store.Alarms.AddresseeByID(ctx, p.AddresseeID)
	if errors.Is(err, store.ErrNotFound) {
		return &post.Error{Problem: "the address to call was removed", Advice: "Set it aside."}
	}
	if err != nil {
		return err
	}
	secret, err := ob.Store.Alarms.SecretOf(&a)
	if err != nil {
		return err
	}
	return post.Call(ctx, post.Target{URL: a.URL, Secret: secret, Inside: a.Inside}, p.Content, ob.Clock())
}

// Trial sends an addressee a note at once and says how it went.
func (ob *Outbox) Trial(ctx context.Context, a *store.Addressee) error {
	in := ob.language()
	text := in.Say("This is a trial from Ink Tray. A person asked for it in Settings.")
	p, err := ob.noteTo(ctx, a.Name, in.Say("A trial from Ink Tray"), text+"\n", "trial", "",
		map[string]string{"text": text}, "trial."+store.NewID()[:10], ob.Clock())
	if err != nil {
		return err
	}
	if p.Kind == "call" {
		return ob.makeCall(ctx, &p)
	}
	return ob.sendMail(ctx, &p)
}

// CheckOutgoing signs in at the server that takes mail.
func (ob *Outbox) CheckOutgoing(ctx context.Context) error {
	out, password, err := ob.Store.Settings.Outgoing(ctx)
	if err != nil {
		return err
	}
	if box, err := ob.sendsThrough(ctx, &out, &store.Post{}); err != nil {
		return err
	} else if box != nil {
		return submitted(ob.Through.CheckSubmit(ctx, box))
	}
	server := post.Server{Host: out.Host, Port: out.Port, Encryption: out.Encryption, Username: out.Username,
		Password: password, RootCAs: ob.rootCAs}
	return server.Check(ctx)
}

// domainOf is the part of an address after the @, for identities.
func domainOf(address string) string {
	if _, after, ok := strings.Cut(address, "@"); ok {
		return after
	}
	return "inktray.invalid"
}

// addresses says what is wrong with addresses of people to be told.
func addresses(list []string) string {
	for _, a := range list {
		if got := mail.ParseAddresses(a); len(got) != 1 || got[0].Domain == "" || got[0].Local == "" ||
			strings.ContainsAny(a, "\r\n,;<>") {
			return fmt.Sprintf("%q is not a mail address", a)
		}
	}
	return ""
}
