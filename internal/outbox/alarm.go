package outbox

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// Weekdays are the days of the week as alarms name them.
var Weekdays = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}

// alarmData is what a call says of an alarm.
type alarmData struct {
	Alarm string `json:"alarm"`
	Text  string `json:"text"`
}

// ring looks after every alarm.
func (ob *Outbox) ring(ctx context.Context) error {
	alarms, err := ob.Store.Alarms.All(ctx)
	if err != nil || len(alarms) == 0 {
		return err
	}
	outages, err := ob.Store.Alarms.Outages(ctx)
	if err != nil {
		return err
	}
	for i := range alarms {
		a := &alarms[i]
		if a.Kind == "silence" {
			err = ob.ringSilence(ctx, a)
		} else {
			err = ob.ringReach(ctx, a, outages)
		}
		if err != nil {
			return fmt.Errorf("the alarm “%s”: %w", a.Name, err)
		}
	}
	return nil
}

// due is the last moment at which a silence alarm had to be looked at.
func due(a *store.Alarm, now time.Time) (time.Time, bool) {
	for back := range 8 {
		day := now.AddDate(0, 0, -back)
		t, ok := at(day, a.ByTime)
		if !ok {
			return t, false
		}
		weekday := strings.ToLower(day.Weekday().String())
		if !t.After(now) && (len(a.Weekdays) == 0 || slices.Contains(a.Weekdays, weekday)) {
			return t, true
		}
	}
	return time.Time{}, false
}

// ringSilence looks whether a rule filed enough, at the alarm's time of the day,
// also when the service was off at that time.
func (ob *Outbox) ringSilence(ctx context.Context, a *store.Alarm) error {
	now := ob.Now()
	t, ok := due(a, now)
	if !ok || !t.After(a.MadeAt) || a.CheckedAt != nil && !a.CheckedAt.Before(t) {
		return nil
	}
	r, err := ob.Store.Rules.ByID(ctx, a.RuleID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	n, err := ob.Store.Alarms.CountFiledBy(ctx, a.RuleID, t.Add(-time.Duration(a.WithinHours)*time.Hour), t)
	if err != nil {
		return err
	}
	checked := t.UTC()
	a.CheckedAt = &checked
	if n >= a.AtLeast {
		if _, err := ob.Store.Tray.Settle(ctx, "alarm", a.ID); err != nil {
			return err
		}
		return ob.Store.Alarms.Ring(ctx, a, nil, nil)
	}
	rang := now.UTC()
	a.RangAt = &rang
	text := fmt.Sprintf("The rule “%s” filed %s in %s, until %s. It should file %s or more.", r.Name,
		phrase.Count(n, "file", "files"), lasting(a.WithinHours), t.Format("15:04 on Monday 2 January 2006"),
		phrase.Count(a.AtLeast, "file", "files"))
	advice := "Check whether its mail arrived, and what the tray says."
	if r.Removed || r.ID == "" {
		text, advice = fmt.Sprintf("The alarm “%s” is for a rule that is no longer there.", a.Name),
			"Remove the alarm, or choose another rule."
	} else if !r.Running {
		advice = "The rule is switched off."
	}
	posts, err := ob.alarmPosts(ctx, a, text, advice, t)
	if err != nil {
		return err
	}
	ob.Events.Send(events.Event{Kind: "tray"})
	return ob.Store.Alarms.Ring(ctx, a, posts,
		&store.Notice{Kind: "alarm", Object: a.ID, Text: text, Advice: advice, MadeAt: ob.Clock()})
}

// span says hours in words, after "in the" and before "before".
func span(hours int) string {
	switch hours {
	case 1:
		return "hour"
	case 24:
		return "day"
	}
	return lasting(hours)
}

// lasting says hours in words, with their number.
func lasting(hours int) string {
	if hours%24 == 0 {
		return phrase.Count(hours/24, "day", "days")
	}
	return phrase.Count(hours, "hour", "hours")
}

func (ob *Outbox) alarmPosts(ctx context.Context, a *store.Alarm, text, advice string, about time.Time) ([]store.Post,
	error) {
	in := ob.language()
	text = in.Say(text) + " " + in.Say(advice)
	var posts []store.Post
	for i, name := range a.Who {
		p, err := ob.noteTo(ctx, name, "Ink Tray: "+a.Name, text+"\n", "alarm", "", alarmData{a.Name, text},
			fmt.Sprintf("alarm.%s.%d", a.ID[:8], i), about)
		if err != nil {
			return nil, err
		}
		p.Purpose = "alarm"
		posts = append(posts, p)
	}
	return posts, nil
}

// ringReach looks whether a mailbox or a cabinet has been out of reach for too long.
func (ob *Outbox) ringReach(ctx context.Context, a *store.Alarm, outages []store.Outage) error {
	now := ob.Clock()
	for i := range outages {
		o := &outages[i]
		if a.Object != "" && a.Object != o.Object || now.Sub(o.Since) < time.Duration(a.AfterMinutes)*time.Minute ||
			slices.Contains(o.Told, a.ID) {
			continue
		}
		name, says := o.Object, "The cabinet “%s” has been out of reach since %s."
		if o.Kind == "mailbox" {
			says = "The mailbox “%s” has been out of reach since %s."
			if m, err := ob.Store.Mailboxes.ByID(ctx, store.System, o.Object); err == nil {
				name = m.Name
			}
		} else if c, err := ob.Store.Cabinets.ByID(ctx, o.Object); err == nil {
			name = c.Name
		}
		since := o.Since.In(ob.Zone).Format("15:04 on Monday 2 January 2006")
		text := fmt.Sprintf(says, name, since)
		advice := "Nothing is lost: once it is back, Ink Tray files what arrived meanwhile."
		posts, err := ob.alarmPosts(ctx, a, text, advice, o.Since)
		if err != nil {
			return err
		}
		rang := now.UTC()
		a.RangAt = &rang
		n := &store.Notice{Kind: "alarm", Object: a.ID + "/" + o.Kind + "/" + o.Object, Text: text, Advice: advice,
			MadeAt: now}
		if o.Kind == "mailbox" {
			n.MailboxID = o.Object
		}
		if err := ob.Store.Alarms.TellOutage(ctx, o, a, posts, n); err != nil {
			return err
		}
		ob.Events.Send(events.Event{Kind: "tray"})
	}
	return nil
}
