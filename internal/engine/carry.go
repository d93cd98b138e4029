package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/post"
	"inktray.example/inktray/internal/store"
)

const (
	triesFor   = 24 * time.Hour // how long a mail or a call is tried again before a person is asked
	mostCarry  = 100
	sweepEvery = time.Hour
)

// Outgoing is how mail is sent.
func (e *Engine) Outgoing() (store.Outgoing, error) {
	o, _, err := e.Store.Outgoing()
	return o, err
}

// carry hands over and sends what leaves the service, tells what waits and what
// did not happen, and lets go of what is old, until the engine ends.
func (e *Engine) carry() {
	ticker := time.NewTicker(e.Beat)
	defer ticker.Stop()
	var swept time.Time
	for {
		for _, turn := range []struct {
			what string
			do   func() error
		}{{"noting the time", e.tick}, {"looking after the alarms", e.ring}, {"telling what waits", e.tell}, {"handing over what is to be sent", e.hand}, {"sending", e.send}} {
			if err := turn.do(); err != nil && e.ctx.Err() == nil {
				e.Log.Error(turn.what, "error", err)
			}
		}
		if now := e.Clock(); now.Sub(swept).Abs() > sweepEvery {
			swept = now
			if err := e.letGoOfOld(e.ctx); err != nil && e.ctx.Err() == nil {
				e.Log.Error("letting go of what is old", "error", err)
			}
		}
		select {
		case <-e.ctx.Done():
			return
		case <-ticker.C:
		case <-e.wake:
		}
	}
}

// hand puts replies and tidings that are due into the post.
func (e *Engine) hand() error {
	rows, err := e.Store.ReadyFollowUps("", e.Clock(), mostCarry)
	if err != nil {
		return err
	}
	for i := range rows {
		if err := e.handOne(&rows[i]); err != nil {
			return err
		}
		e.hub.send(Event{Kind: "message", ID: fmt.Sprint(rows[i].MessageID), Mailbox: rows[i].MailboxID})
	}
	return nil
}

func (e *Engine) handOne(f *store.FollowUp) error {
	not := func(why string) error {
		f.State, f.Reason = store.NotDone, why
		return e.Store.EndFollowUp(f, nil, e.now())
	}
	r, why, err := e.mayFollow(f)
	if err != nil {
		return err
	}
	if why != "" {
		return not(why)
	}
	row, err := e.Store.MessageByID(store.System, f.MessageID)
	if err != nil {
		return err
	}
	step := &r.FollowUps()[f.Place]
	if step.Kind == rule.DoReply {
		p, why, err := e.replyOf(f, r, &row)
		if err != nil {
			return err
		}
		if why != "" {
			return not(why)
		}
		sent, err := e.Store.Hand([]store.Post{p}, f, step.Once.Before(e.now()), e.now())
		if err == nil && !sent {
			return not(fmt.Sprintf("no reply: %s had one from this rule within %s", p.Recipients, step.Once))
		}
		return err
	}
	posts, err := e.tidings(f, r, step, &row)
	if err != nil {
		return err
	}
	_, err = e.Store.Hand(posts, f, time.Time{}, e.now())
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
func (e *Engine) tidings(f *store.FollowUp, r *rule.Compiled, step *rule.FollowUp, row *store.Message) ([]store.Post, error) {
	facts, err := row.Facts()
	if err != nil {
		return nil, err
	}
	m := facts.Message(row.Folder)
	paths, err := e.Store.FiledPaths(f.RuleID, f.MessageID)
	if err != nil {
		return nil, err
	}
	box, err := e.Store.MailboxByID(store.System, row.MailboxID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	subject, text := plan.Letter(r, step, m, e.setting(box.Name, e.now()), paths)
	data := filedData{Rule: r.Rule.Name, Mailbox: box.Name, Subject: row.Subject, Sender: row.SenderAddress, Received: row.ReceivedAt, Headline: subject, Text: text, Files: []filedFile{}}
	for _, p := range paths {
		folder := folderOf(p)
		data.Files = append(data.Files, filedFile{folder, strings.TrimPrefix(strings.TrimPrefix(p, folder), "/")})
	}
	var posts []store.Post
	for i, name := range step.Words {
		p, err := e.noteTo(name, subject, text, "message.filed", m.Envelope.MessageID, data, fmt.Sprintf("%d.%d", f.ID, i), f.MadeAt)
		if err != nil {
			return nil, err
		}
		p.FollowUpID, p.MessageID, p.MailboxID, p.RuleID, p.Purpose = f.ID, f.MessageID, f.MailboxID, f.RuleID, "tell"
		posts = append(posts, p)
	}
	return posts, nil
}

// noteTo writes a note to an addressee by name: a mail, or an event of a kind.
// key tells it from all others, at whatever time it is written.
func (e *Engine) noteTo(name, subject, text, kind, about string, data any, key string, made time.Time) (store.Post, error) {
	now := e.Clock().UTC()
	p := store.Post{Kind: "mail", Subject: subject, State: store.Waiting, MadeAt: now}
	a, err := e.Store.AddresseeNamed(name)
	if errors.Is(err, store.ErrNotFound) {
		p.Event = fmt.Sprintf("none-%s-%s-%d", e.mark, key, made.Unix())
		p.State, p.Cause, p.Reason, p.Advice, p.DoneAt = store.CouldNot, store.CauseSetting, fmt.Sprintf("nobody called “%s” can be told", name), "Add them in Settings, People who are told, or correct the name.", &now
		return p, nil
	}
	if err != nil {
		return p, err
	}
	p.AddresseeID, p.Kind = a.ID, a.Kind
	if a.Kind == "call" {
		event := post.Event{ID: fmt.Sprintf("%s-%s-%d", e.mark, key, made.Unix()), Source: "urn:inktray:" + e.mark, Type: "inktray." + kind, Subject: about, Time: made.UTC(), Data: data}
		p.Event, p.Recipients = event.ID, a.URL
		p.Content, err = event.Bytes()
		return p, err
	}
	out, err := e.Outgoing()
	if err != nil {
		return p, err
	}
	p.Event, p.Recipients = fmt.Sprintf("<%s.%s.%d@%s>", e.mark, key, made.Unix(), domainOf(out.From)), strings.Join(a.Addresses, "\n")
	letter := post.Letter{From: out.From, Name: out.Name, To: a.Addresses, Subject: subject, Text: text, ID: p.Event, Date: e.now(), Auto: "auto-generated"}
	p.Content, err = letter.Bytes()
	return p, err
}

// send sends what is due, one after another. A mail is recorded as begun first
// and sent at most once: what was begun when the program ended may have been
// sent, and a person decides. A call is made at least once, always with its own id.
func (e *Engine) send() error {
	rows, err := e.Store.DuePost(e.Clock(), mostCarry)
	if err != nil {
		return err
	}
	down := false
	for i := range rows {
		if e.ctx.Err() != nil {
			return nil
		}
		p := &rows[i]
		if p.Kind == "mail" && down {
			continue // the mail server is out of reach: the next round tries again
		}
		if p.Kind == "mail" && p.State == store.Begun {
			p.State, p.Cause = store.Unsure, store.CauseUnsure
			p.Reason, p.Advice = "the program ended while the mail was sent, so it may have been sent", "Ask the recipient. If it did not arrive, try again; else set it aside."
			if err := e.Store.SavePost(p, e.Clock()); err != nil {
				return err
			}
			e.hub.send(Event{Kind: "tray"})
			continue
		}
		if err := e.Store.BeginPost(p); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(e.ctx), time.Minute) // what is begun is finished
		if p.Kind == "mail" {
			err = e.sendMail(ctx, p)
		} else {
			err = e.makeCall(ctx, p)
		}
		cancel()
		var known *post.Error
		switch errors.As(err, &known); {
		case err == nil:
			p.State, p.Reason, p.Advice = store.DidIt, "", ""
			e.Log.Info("sent", "purpose", p.Purpose, "kind", p.Kind, "to", strings.ReplaceAll(p.Recipients, "\n", ", "))
		case known == nil:
			p.State, p.Cause, p.Reason, p.Advice = store.CouldNot, store.CauseUnsent, err.Error(), "Look at Settings, then try again."
		case known.Unsure && p.Kind == "mail":
			p.State, p.Cause, p.Reason, p.Advice = store.Unsure, store.CauseUnsure, known.Problem, known.Advice
		case known.Passing && e.Clock().Sub(p.MadeAt) < triesFor:
			p.Attempts++
			next := e.Clock().Add(e.Pause(p.Attempts))
			p.State, p.Reason, p.Advice, p.NextAt = store.Waiting, known.Problem, known.Advice, &next
			down = down || known.Server && p.Kind == "mail"
			e.Log.Warn("not sent yet", "purpose", p.Purpose, "to", p.Recipients, "problem", known.Problem, "again at", next)
		default:
			p.State, p.Cause, p.Reason, p.Advice = store.CouldNot, store.CauseUnsent, known.Problem, known.Advice
		}
		if err := e.Store.SavePost(p, e.Clock()); err != nil {
			return err
		}
		if p.MessageID > 0 {
			e.hub.send(Event{Kind: "message", ID: fmt.Sprint(p.MessageID), Mailbox: p.MailboxID})
		}
		e.hub.send(Event{Kind: "tray"})
	}
	return nil
}

func (e *Engine) sendMail(ctx context.Context, p *store.Post) error {
	out, password, err := e.Store.Outgoing()
	if err != nil {
		return err
	}
	if out.Host == "" {
		return &post.Error{Problem: "no mail can be sent: it is not said how", Advice: "Set up outgoing mail in Settings, then try again."}
	}
	server := post.Server{Host: out.Host, Port: out.Port, Encryption: out.Encryption, Username: out.Username, Password: password, RootCAs: e.RootCAs}
	to := strings.Split(p.Recipients, "\n")
	from := out.From
	if p.Purpose == "reply" {
		from = "" // RFC 3834 section 3.3: so that nobody's program answers it
	}
	err = server.Send(ctx, from, to, p.Content)
	var known *post.Error
	if from == "" && errors.As(err, &known) && known.Sender && !known.Passing {
		err = server.Send(ctx, out.From, to, p.Content) // many servers want the sender that signed in
	}
	return err
}

func (e *Engine) makeCall(ctx context.Context, p *store.Post) error {
	a, err := e.Store.AddresseeByID(p.AddresseeID)
	if errors.Is(err, store.ErrNotFound) {
		return &post.Error{Problem: "whom to call was removed", Advice: "Set it aside."}
	}
	if err != nil {
		return err
	}
	secret, err := e.Store.SecretOf(&a)
	if err != nil {
		return err
	}
	return post.Call(ctx, post.Target{URL: a.URL, Secret: secret, Inside: a.Inside}, p.Content, e.Clock())
}

// Trial sends an addressee a note at once and says how it went.
func (e *Engine) Trial(ctx context.Context, a *store.Addressee) error {
	text := "This is a trial from Ink Tray. Somebody asked for it in Settings.\n"
	p, err := e.noteTo(a.Name, "A trial from Ink Tray", text, "trial", "", map[string]string{"text": strings.TrimSpace(text)}, "trial."+store.NewID()[:10], e.Clock())
	if err != nil {
		return err
	}
	if p.Kind == "call" {
		return e.makeCall(ctx, &p)
	}
	return e.sendMail(ctx, &p)
}

// CheckOutgoing signs in at the server that takes mail.
func (e *Engine) CheckOutgoing(ctx context.Context) error {
	out, password, err := e.Store.Outgoing()
	if err != nil {
		return err
	}
	server := post.Server{Host: out.Host, Port: out.Port, Encryption: out.Encryption, Username: out.Username, Password: password, RootCAs: e.RootCAs}
	return server.Check(ctx)
}

// letGoOfOld removes history and kept files that are older than Settings say.
func (e *Engine) letGoOfOld(ctx context.Context) error {
	e.dropExports()
	limits, err := e.Store.Limits()
	if err != nil {
		return err
	}
	if steady, err := e.steady(); err != nil || !steady {
		return err
	}
	now := e.Clock()
	if limits.HistoryDays > 0 {
		if _, err := e.Store.ForgetPasses(now.AddDate(0, 0, -limits.HistoryDays)); err != nil {
			return err
		}
	}
	if limits.RegisterDays > 0 {
		erased, err := e.Store.EraseBefore(now.AddDate(0, 0, -limits.RegisterDays), now, 500)
		if err == nil && erased > 0 { // examples went with them
			err = e.LoadTopics("")
		}
		if err != nil {
			return err
		}
	}
	if limits.KeptDays == 0 {
		return nil
	}
	old, err := e.Store.KeptBefore(now.AddDate(0, 0, -limits.KeptDays), 1000)
	if err != nil {
		return err
	}
	for i := range old {
		g, err := e.gate(old[i].CabinetID)
		if err == nil {
			if err := g.ready(ctx); err != nil {
				continue // once the cabinet is back
			}
			if err := g.cabinet.Forget(ctx, old[i].KeptAs); err != nil {
				return err
			}
		}
		if err := e.Store.LetGo(&old[i]); err != nil {
			return err
		}
	}
	return nil
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
		if got := mail.ParseAddresses(a); len(got) != 1 || got[0].Domain == "" || got[0].Local == "" || strings.ContainsAny(a, "\r\n,;<>") {
			return fmt.Sprintf("%q is no mail address", a)
		}
	}
	return ""
}
