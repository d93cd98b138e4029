package outbox

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/post"
	"inktray.example/inktray/internal/store"
)

// WhySent says why something was not sent, and what to do.
func WhySent(err error) (problem, advice string) {
	var known *post.Error
	if errors.As(err, &known) {
		return known.Problem, known.Advice
	}
	return err.Error(), ""
}

// SetOutgoing sets how mail is sent.
func (ob *Outbox) SetOutgoing(ctx context.Context, o store.Outgoing, password *string, revision int,
	actor string) error {
	var problems rule.Problems
	if o.Host != "" && o.Mailbox != "" {
		problems = append(problems, rule.Problem{Place: "mailbox", Text: "mail is sent by a mail server or through a " +
			"mailbox; choose one"})
	}
	if o.Mailbox != "" {
		switch box, err := ob.Store.Mailboxes.ByID(ctx, store.System, o.Mailbox); {
		case err != nil:
			problems = append(problems, rule.Problem{Place: "mailbox", Text: "this mailbox is no longer there"})
		case box.Kind != "jmap":
			problems = append(problems, rule.Problem{Place: "mailbox", Text: fmt.Sprintf("“%s” is not read by JMAP, so "+
				"its server sends no mail for Ink Tray", box.Name)})
		}
	}
	if o.Sends() {
		if text := addresses([]string{o.From}); text != "" {
			problems = append(problems, rule.Problem{Place: "from", Text: text})
		}
		if strings.ContainsAny(o.Host, " /:@") {
			problems = append(problems, rule.Problem{Place: "host", Text: fmt.Sprintf("%q is not the name of a host; it "+
				"looks like smtp.brackwater.example", o.Host)})
		}
	}
	if o.Console != "" && !strings.HasPrefix(o.Console, "http://") && !strings.HasPrefix(o.Console, "https://") {
		problems = append(problems, rule.Problem{Place: "console", Text: "the address begins with http:// or https://"})
	}
	if len(problems) > 0 {
		return problems
	}
	err := ob.Store.Settings.SetOutgoing(ctx, o, password, revision, actor)
	if errors.Is(err, store.ErrRoute) {
		old, _, _ := ob.Store.Settings.Outgoing(ctx) // what is not readable differs anyway
		return anew("password", o.OtherRoute(&old))
	}
	return err
}

// SaveAddressee checks and keeps somebody who can be told.
func (ob *Outbox) SaveAddressee(ctx context.Context, a *store.Addressee, secret *string, actor string) error {
	var problems rule.Problems
	fail := func(place, format string, args ...any) {
		problems = append(problems, rule.Problem{Place: place, Text: fmt.Sprintf(format, args...)})
	}
	if a.Name == "" {
		fail("name", "the name is missing")
	}
	switch a.Kind {
	case "mail":
		a.URL, a.Inside = "", false
		if len(a.Addresses) == 0 {
			fail("addresses", "an address is missing")
		} else if text := addresses(a.Addresses); text != "" {
			fail("addresses", "%s", text)
		}
	default:
		a.Addresses = []string{}
		if err := post.CheckURL(a.URL); err != nil {
			fail("url", "%v", err)
		}
	}
	if _, ok := at(ob.Now(), a.DailyAt); a.Tray == "daily" && !ok {
		fail("daily_at", "a time of the day is written as 08:00")
	}
	if len(problems) > 0 {
		return problems
	}
	if a.Revision == 0 {
		a.MadeAt = ob.Clock().UTC()
	}
	err := ob.Store.Alarms.SaveAddressee(ctx, a, secret, actor)
	if errors.Is(err, store.ErrTaken) {
		return rule.Problems{{Place: "name", Text: fmt.Sprintf("there is a notification called “%s” already", a.Name)}}
	}
	if errors.Is(err, store.ErrRoute) {
		return anew("secret", []string{"address"})
	}
	return err
}

// anew says that a secret has to be given again, because it was given for another way to the server.
func anew(place string, differs []string) error {
	return rule.Problems{{Place: place, Text: Anew(place, differs)}}
}

// Anew says in a sentence that a secret has to be given again, and why.
func Anew(what string, differs []string) string {
	if len(differs) == 0 {
		differs = []string{"way to the server"}
	}
	return fmt.Sprintf("the %s was given for another %s; enter it again", what, strings.Join(differs, ", another "))
}

// RemoveAddressee removes somebody who is notified, unless a rule or an alarm names them.
func (ob *Outbox) RemoveAddressee(ctx context.Context, id, actor string) error {
	a, err := ob.Store.Alarms.AddresseeByID(ctx, id)
	if err != nil {
		return err
	}
	named := func(name string) bool { return strings.EqualFold(name, a.Name) }
	by, err := ob.office.UsedBy(ctx, func(r *rule.Rule) bool {
		return slices.ContainsFunc(r.Addressees(), func(u rule.CorrespondentUse) bool { return named(u.Name) })
	})
	if err != nil {
		return err
	}
	alarms, err := ob.Store.Alarms.All(ctx)
	if err != nil {
		return err
	}
	for i := range alarms {
		if slices.ContainsFunc(alarms[i].Who, named) {
			by = append(by, "the alarm “"+alarms[i].Name+"”")
		}
	}
	if len(by) > 0 {
		return &InUseError{Text: fmt.Sprintf("Ink Tray notifies “%s” by: %s", a.Name, strings.Join(by, ", "))}
	}
	return ob.Store.Alarms.RemoveAddressee(ctx, id, actor)
}

// InUseError says what still uses what was to be removed.
type InUseError struct{ Text string }

func (e *InUseError) Error() string { return e.Text }

// SaveAlarm checks and keeps an alarm. The rule, the mailbox and the cabinet are
// given by their names.
func (ob *Outbox) SaveAlarm(ctx context.Context, a *store.Alarm, ruleName, mailbox, cabinetName, actor string) error {
	var problems rule.Problems
	fail := func(place, format string, args ...any) {
		problems = append(problems, rule.Problem{Place: place, Text: fmt.Sprintf(format, args...)})
	}
	if a.Name == "" {
		fail("name", "the name is missing")
	}
	all, err := ob.Store.Alarms.Addressees(ctx)
	if err != nil {
		return err
	}
	if len(a.Who) == 0 {
		fail("who", "choose who gets it")
	}
	for _, name := range a.Who {
		if !slices.ContainsFunc(all, func(x store.Addressee) bool { return strings.EqualFold(x.Name, name) }) {
			fail("who", "there is no notification called “%s” in Settings", name)
		}
	}
	if a.Kind == "silence" {
		rows, err := ob.Store.Rules.All(ctx)
		if err != nil {
			return err
		}
		for i := range rows {
			if strings.EqualFold(rows[i].Name, ruleName) {
				a.RuleID = rows[i].ID
			}
		}
		if a.RuleID == "" {
			fail("rule", "there is no rule called “%s”", ruleName)
		}
		if _, ok := at(ob.Now(), a.ByTime); !ok {
			fail("by_time", "a time of the day is written as 10:00")
		}
	}
	if a.Kind == "out of reach" {
		a.ByTime, a.Weekdays = "", []string{}
		if mailbox != "" {
			m, err := ob.Store.Mailboxes.Named(ctx, store.System, mailbox)
			if err != nil {
				fail("mailbox", "there is no mailbox called “%s”", mailbox)
			}
			a.Object = m.ID
		}
		if cabinetName != "" {
			c, err := ob.Store.Cabinets.Named(ctx, cabinetName)
			if err != nil {
				fail("cabinet", "there is no cabinet called “%s”", cabinetName)
			}
			a.Object = c.ID
		}
	}
	if len(problems) > 0 {
		return problems
	}
	if a.Revision == 0 {
		a.MadeAt = ob.Clock().UTC()
	}
	err = ob.Store.Alarms.Save(ctx, a, actor)
	if errors.Is(err, store.ErrTaken) {
		return rule.Problems{{Place: "name", Text: fmt.Sprintf("there is an alarm called “%s” already", a.Name)}}
	}
	return err
}

// AlarmSentence says an alarm in words.
func (ob *Outbox) AlarmSentence(ctx context.Context, a *store.Alarm) string {
	who := strings.Join(a.Who, " and ")
	if a.Kind == "silence" {
		name := "a rule that is no longer there"
		if r, err := ob.Store.Rules.ByID(ctx, a.RuleID); err == nil && !r.Removed {
			name = "“" + r.Name + "”"
		}
		days := "every day"
		if len(a.Weekdays) > 0 && len(a.Weekdays) < 7 {
			var names []string
			for _, d := range a.Weekdays {
				names = append(names, strings.ToUpper(d[:1])+d[1:])
			}
			days = "on " + strings.Join(names, ", ")
		}
		return fmt.Sprintf("Tell %s at %s %s if %s filed fewer than %d in the %s before.", who, a.ByTime, days, name,
			a.AtLeast, span(a.WithinHours))
	}
	what := "a mailbox or a cabinet"
	if m, err := ob.Store.Mailboxes.ByID(ctx, store.System, a.Object); err == nil {
		what = "the mailbox “" + m.Name + "”"
	} else if c, err := ob.Store.Cabinets.ByID(ctx, a.Object); err == nil {
		what = "the cabinet “" + c.Name + "”"
	}
	long := fmt.Sprintf("%d minutes", a.AfterMinutes)
	if a.AfterMinutes%60 == 0 {
		long = span(a.AfterMinutes / 60)
		if a.AfterMinutes == 60 {
			long = "an hour"
		}
	}
	return fmt.Sprintf("Tell %s when %s has been out of reach for longer than %s.", who, what, long)
}
