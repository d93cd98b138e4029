package outbox

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/texts"
)

// Gather is how long the tray is watched after something came before somebody is
// told at once, so that what goes wrong together is told together.
const Gather = 10 * time.Second

// Causes are the causes of entries in the tray, each with a heading and what a person can do.
var Causes = []struct {
	Cause       store.Cause
	Title, Help string
}{
	{store.CauseCap, "More than may be filed in an hour",
		"A rule or a sender filed a lot, so the rest waits for you. If that is right, let all of it go on."},
	{store.CauseEncrypted, "Encrypted",
		"The file needs a password. Enter the password of the correspondent in Settings and try again, or release the " +
			"file to file it as it is."},
	{store.CauseUnreadable, "Cannot be opened or drawn",
		"The file is broken, or exceeds a limit. Release it to file it as it is, or ask the sender for it again."},
	{store.CauseDisguised, "Not what its name says",
		"The content of the file does not fit its name. Ask the sender whether that is right. Only then release it."},
	{store.CauseTopic, "What is it about?",
		"Ink Tray is not sure whether these are about a topic. Say whether they are. Each answer teaches the topic."},
	{store.CauseVirus, "A virus", "The virus scanner found something in the file. Tell the sender, and set it aside. " +
		"Nothing was written."},
	{store.CauseUnscanned, "Not scanned for viruses",
		"The file is too large for the virus scanner. Check it in another way, or ask the sender. Then release it."},
	{store.CauseCaution, "Take care",
		"The file may hold a program, or cannot be checked. Ask the sender whether it is right. Then release it."},
	{store.CauseValue, "A value is not found", "A rule asks for a value that is not in the file. Release the " +
		"file and enter the value in the register, or correct the rule and try again."},
	{store.CauseRepeated, "The same value again",
		"An earlier message had a file with the same value, such as the number of an invoice. Compare the two. Release " +
			"the new one to file both, or set it aside."},
	{store.CauseDoubtful, "In doubt",
		"Ink Tray cannot tell whether the rule applies, because something cannot be read. Look at the message and decide."},
	{store.CauseUnread, "Messages that could not be read",
		"Ink Tray could not read these messages, so no rule has looked at them. Try again, or look at them in the mail " +
			"program and file them by hand."},
	{store.CauseGone, "No longer in the mailbox",
		"The message was moved or deleted before it was filed. Put it back and try again, or set it aside."},
	{store.CauseCabinet, "The cabinet refuses it", "Check the cabinet, then try again, or file it elsewhere."},
	{store.CauseMailbox, "Could not be read", "The mailbox failed again and again. Check the mailbox, then try again."},
	{store.CauseSetting, "Something is missing in Settings",
		"A rule names a cabinet or a notification that is not there. Correct the rule, then try again."},
	{store.CauseFollowUp, "Follow-up failed",
		"The files are filed. A step that the rule wants afterwards failed."},
	{store.CauseUnsure, "May have been sent",
		"Ink Tray does not know whether this mail was sent. Ask the recipient. If it did not arrive, try again; else set " +
			"it aside."},
	{store.CauseUnsent, "Could not be sent", "Check outgoing mail and the address in Settings, then try again."},
	{store.CauseMissing, "Filed, and no longer there",
		"The file is not where it was filed. Put it back and look again, file it again from its message, or accept the " +
			"loss by setting it aside."},
	{store.CauseChanged, "Filed, and changed since",
		"The file was changed after it was filed. If that was intended, accept it by setting it aside. Else put the right " +
			"file back and look again."},
	{store.CauseOther, "Other matters", "Look at the reason and decide."},
}

// trayData is what a call says of the tray.
type trayData struct {
	Waiting int          `json:"waiting"`
	Groups  []trayGroup  `json:"groups"`
	Notices []trayNotice `json:"notices"`
}

type trayGroup struct {
	Title string   `json:"title"`
	Count int      `json:"count"`
	Some  []string `json:"some"`
}

type trayNotice struct {
	Text   string `json:"text"`
	Advice string `json:"advice"`
}

// mostShown is how many matters of a kind a mail names.
const mostShown = 10

// Summary sums up what waits, in a language.
func Summary(n *store.News, in *texts.Catalogue) trayData {
	d := trayData{Waiting: n.Len(), Groups: []trayGroup{}, Notices: []trayNotice{}}
	for _, c := range Causes {
		g := trayGroup{Title: in.Say(c.Title), Some: []string{}}
		add := func(cause store.Cause, line string) {
			if cause != c.Cause {
				return
			}
			if g.Count++; g.Count <= mostShown {
				g.Some = append(g.Some, line)
			}
		}
		for i := range n.Entries {
			add(n.Entries[i].Cause, n.Entries[i].Name+": "+in.Say(n.Entries[i].Reason.String()))
		}
		for i := range n.FollowUps {
			add(n.FollowUps[i].Cause, in.Say(n.FollowUps[i].Kind)+" "+n.FollowUps[i].What+": "+
				in.Say(n.FollowUps[i].Reason.String()))
		}
		for i := range n.Posts {
			add(n.Posts[i].Cause, n.Posts[i].Subject+": "+in.Say(n.Posts[i].Reason.String()))
		}
		for i := range n.Filings {
			add(store.Cause(n.Filings[i].CheckState), n.Filings[i].Entry().String()+" "+
				path.Join(n.Filings[i].Folder, n.Filings[i].File))
		}
		for i := range n.Messages {
			add(n.Messages[i].Cause, n.Messages[i].Called()+": "+in.Say(n.Messages[i].Reason.String()))
		}
		if g.Count > 0 {
			d.Groups = append(d.Groups, g)
		}
	}
	for _, one := range n.Notices {
		d.Notices = append(d.Notices, trayNotice{in.Say(one.Text), in.Say(one.Advice)})
	}
	return d
}

// text writes a summary for a mail.
func (d *trayData) text(console string, in *texts.Catalogue) string {
	var b strings.Builder
	for _, n := range d.Notices {
		fmt.Fprintf(&b, "%s %s\n\n", n.Text, n.Advice)
	}
	for _, g := range d.Groups {
		fmt.Fprintf(&b, "%s (%d)\n", g.Title, g.Count)
		for _, line := range g.Some {
			fmt.Fprintf(&b, "  - %s\n", line)
		}
		if more := g.Count - len(g.Some); more > 0 {
			fmt.Fprintf(&b, in.Format("  - and %d more\n"), more)
		}
		b.WriteString("\n")
	}
	if console != "" {
		fmt.Fprintf(&b, in.Format("Open the tray: %s/tray\n"), strings.TrimRight(console, "/"))
	} else {
		b.WriteString(in.Say("Open Ink Tray and look into the tray.") + "\n")
	}
	return b.String()
}

// language is that of the mail and the calls of the office: those of its month names, where there are texts in it.
func (ob *Outbox) language() *texts.Catalogue { return texts.For(ob.Language.String()) }

// matters counts in words.
func matters(n int) string {
	if n == 1 {
		return "1 item waits in the tray"
	}
	return fmt.Sprintf("%d items wait in the tray", n)
}

// tell queues the mails and calls about the tray: at once for new entries, or once a day for all. Queueing and the note
// that it was done are one commit.
func (ob *Outbox) tell(ctx context.Context) error {
	all, err := ob.Store.Alarms.Addressees(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		a := &all[i]
		switch a.Tray {
		case "at once":
			err = ob.tellNow(ctx, a)
		case "daily":
			err = ob.tellDaily(ctx, a)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (ob *Outbox) tellNow(ctx context.Context, a *store.Addressee) error {
	now := ob.Clock()
	since := a.MadeAt
	if a.ToldAt != nil {
		since = *a.ToldAt
	}
	news, err := ob.Store.Alarms.NewsSince(ctx, since)
	if err != nil || news.Len() == 0 || now.Sub(news.Oldest()) < Gather {
		return err
	}
	return ob.tellOf(ctx, a, &news, "tray", now)
}

func (ob *Outbox) tellDaily(ctx context.Context, a *store.Addressee) error {
	now := ob.Now()
	due, ok := at(now, a.DailyAt)
	if now.Before(due) { // yesterday's may have been missed
		due = due.AddDate(0, 0, -1)
	}
	if !ok || a.ToldAt != nil && !a.ToldAt.Before(due) || a.MadeAt.After(due) {
		return nil
	}
	news, err := ob.Store.Alarms.NewsSince(ctx, time.Time{})
	if err != nil {
		return err
	}
	if news.Len() == 0 {
		return ob.Store.Alarms.Told(ctx, a, now, nil)
	}
	return ob.tellOf(ctx, a, &news, "digest", now)
}

func (ob *Outbox) tellOf(ctx context.Context, a *store.Addressee, news *store.News, purpose string,
	now time.Time) error {
	out, err := ob.Outgoing(ctx)
	if err != nil {
		return err
	}
	in := ob.language()
	d := Summary(news, in)
	subject := "Ink Tray: " + in.Say(matters(d.Waiting))
	if purpose == "tray" {
		subject = fmt.Sprintf(in.Format("Ink Tray: new in the tray: %d"), d.Waiting)
	}
	p, err := ob.noteTo(ctx, a.Name, subject, d.text(out.Console, in), "tray.waiting", "", d,
		fmt.Sprintf("%s.%s", purpose, a.ID[:8]), now)
	if err != nil {
		return err
	}
	p.Purpose = purpose
	return ob.Store.Alarms.Told(ctx, a, now, []store.Post{p})
}

// at is a time of the day, "08:00", on the day of a moment.
func at(day time.Time, clock string) (time.Time, bool) {
	t, err := time.Parse("15:04", clock)
	if err != nil {
		return time.Time{}, false
	}
	y, m, d := day.Date()
	return time.Date(y, m, d, t.Hour(), t.Minute(), 0, 0, day.Location()), true
}
