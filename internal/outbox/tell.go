package outbox

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/store"
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
		"A rule or a sender filed so much that it waits for you. If it is meant, let all of it go on."},
	{store.CauseEncrypted, "Encrypted",
		"It cannot be opened without a password. Keep the correspondent's password in Settings and try again, or release " +
			"it to be filed as it is."},
	{store.CauseUnreadable, "Cannot be opened or drawn",
		"It is broken, or goes beyond a limit. Release it to be filed as it is, or ask the sender for it anew."},
	{store.CauseDisguised, "Not what its name says",
		"Its content and its name do not agree. Ask the sender whether it is meant; only then release it."},
	{store.CauseTopic, "What is it about?",
		"It is not sure whether these are about a topic. Say whether they are: each answer teaches it."},
	{store.CauseVirus, "A virus", "The virus scanner found something in it. Tell the sender, and set it aside; nothing " +
		"was written."},
	{store.CauseUnscanned, "Not scanned for viruses",
		"It is larger than the virus scanner takes. Look at it by other means, or ask the sender; then release it."},
	{store.CauseCaution, "Take care",
		"It may hold a program, or nobody can look into it. Ask the sender whether it is meant; then release it."},
	{store.CauseValue, "A value is not found", "A rule asks for something that is not in the file. Release it to be " +
		"filed without it and enter it in the register, or correct the rule and try again."},
	{store.CauseRepeated, "The same value again",
		"An earlier message had a file with the same value, such as the number of an invoice. Compare the two; release it " +
			"to be filed beside the other, or set it aside."},
	{store.CauseDoubtful, "In doubt",
		"Whether the rule is for the message hangs on something that cannot be read. Look at the message and decide."},
	{store.CauseUnread, "Messages that could not be read",
		"Ink Tray could not read these messages, so no rule has looked at them. Try again, or look at them in the mail " +
			"program and file them by hand."},
	{store.CauseGone, "No longer in the mailbox",
		"The message was moved or deleted before it was filed. Put it back and try again, or set it aside."},
	{store.CauseCabinet, "The cabinet refuses it", "Look at the cabinet, then try again, or file it elsewhere."},
	{store.CauseMailbox, "Could not be read", "The mailbox failed again and again. Look at the mailbox, then try again."},
	{store.CauseSetting, "Something is missing in Settings",
		"A rule names a cabinet or a person that is not there. Correct it, then try again."},
	{store.CauseFollowUp, "Not done with the message",
		"The files are filed. What was to be done with the message afterwards could not be done."},
	{store.CauseUnsure, "May have been sent",
		"Nobody can say whether this mail was sent. Ask the recipient; if it did not arrive, try again, else set it aside."},
	{store.CauseUnsent, "Could not be sent", "Look at outgoing mail and at the address in Settings, then try again."},
	{store.CauseMissing, "Filed, and no longer there",
		"The file is not where it was filed. Put it back and look again, let it be filed again from its message, or accept " +
			"it by setting it aside."},
	{store.CauseChanged, "Filed, and changed since",
		"The file has another content than when it was filed. If somebody meant it, accept it by setting it aside; else " +
			"put the right one back and look again."},
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

// Summary sums up what waits.
func Summary(n *store.News) trayData {
	d := trayData{Waiting: n.Len(), Groups: []trayGroup{}, Notices: []trayNotice{}}
	for _, c := range Causes {
		g := trayGroup{Title: c.Title, Some: []string{}}
		add := func(cause store.Cause, line string) {
			if cause != c.Cause {
				return
			}
			if g.Count++; g.Count <= mostShown {
				g.Some = append(g.Some, line)
			}
		}
		for i := range n.Entries {
			add(n.Entries[i].Cause, n.Entries[i].Name+": "+n.Entries[i].Reason.String())
		}
		for i := range n.FollowUps {
			add(n.FollowUps[i].Cause, n.FollowUps[i].Kind+" "+n.FollowUps[i].What+": "+n.FollowUps[i].Reason.String())
		}
		for i := range n.Posts {
			add(n.Posts[i].Cause, n.Posts[i].Subject+": "+n.Posts[i].Reason.String())
		}
		for i := range n.Filings {
			add(store.Cause(n.Filings[i].CheckState), n.Filings[i].Entry().String()+" "+
				path.Join(n.Filings[i].Folder, n.Filings[i].File))
		}
		for i := range n.Messages {
			add(n.Messages[i].Cause, n.Messages[i].Called()+": "+n.Messages[i].Reason.String())
		}
		if g.Count > 0 {
			d.Groups = append(d.Groups, g)
		}
	}
	for _, one := range n.Notices {
		d.Notices = append(d.Notices, trayNotice{one.Text, one.Advice})
	}
	return d
}

// text writes a summary for a mail.
func (d *trayData) text(console string) string {
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
			fmt.Fprintf(&b, "  - and %d more\n", more)
		}
		b.WriteString("\n")
	}
	if console != "" {
		fmt.Fprintf(&b, "Open the tray: %s/tray\n", strings.TrimRight(console, "/"))
	} else {
		b.WriteString("Open Ink Tray and look into the tray.\n")
	}
	return b.String()
}

// matters counts in words.
func matters(n int) string {
	if n == 1 {
		return "1 matter waits in the tray"
	}
	return fmt.Sprintf("%d matters wait in the tray", n)
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
	d := Summary(news)
	subject := "Ink Tray: " + matters(d.Waiting)
	if purpose == "tray" {
		subject = "Ink Tray: new in the tray: " + fmt.Sprint(d.Waiting)
	}
	p, err := ob.noteTo(ctx, a.Name, subject, d.text(out.Console), "tray.waiting", "", d,
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
