package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/store"
)

// CheckRule compiles a rule and proves that its mailboxes and its cabinet are
// there, for somebody: of mailboxes that he may not see he learns nothing. The error,
// if any, is rule.Problems.
func (e *Engine) CheckRule(v store.Viewer, document *rule.Rule) (*rule.Compiled, error) {
	c, err := rule.Compile(document, 0, e.Zone)
	var problems rule.Problems
	if err != nil && !errors.As(err, &problems) {
		return nil, err
	}
	cabinets, err := e.Store.Cabinets()
	if err != nil {
		return nil, err
	}
	mailboxes, err := e.Store.Mailboxes(v)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range cabinets {
		names = append(names, c.Name)
	}
	for i, name := range document.Cabinets() {
		place := "cabinet"
		if i > 0 {
			place = "attachments"
			for k := range document.Attachments {
				if document.Attachments[k].Cabinet == name {
					place = fmt.Sprintf("attachments[%d].cabinet", k)
				}
			}
		}
		if name != "" {
			problems = append(problems, missing(place, "cabinet", name, names)...)
		}
	}
	problems = append(problems, e.checkBook(c, document)...)
	problems = append(problems, e.checkWho(document)...)
	names = nil
	for _, m := range mailboxes {
		names = append(names, m.Name)
	}
	for _, name := range document.Look.Mailboxes {
		if name != "all" {
			problems = append(problems, missing("look.mailboxes", "mailbox", name, names)...)
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return c, nil
}

func missing(place, what, name string, names []string) rule.Problems {
	for _, n := range names {
		if strings.EqualFold(n, name) {
			return nil
		}
	}
	text := fmt.Sprintf("there is no %s called “%s”", what, name)
	if len(names) > 0 {
		text += "; there are: " + strings.Join(names, ", ")
	}
	return rule.Problems{{Place: place, Text: text, Meant: pattern.Nearest(name, names)}}
}

// SaveRule checks and keeps a rule, and lets it run as it is now if it is on.
func (e *Engine) SaveRule(document *rule.Rule, revision int, actor string) (store.Rule, error) {
	if _, err := e.CheckRule(store.System, document); err != nil {
		return store.Rule{}, err
	}
	if revision == 0 {
		revision = document.Revision
	}
	document.Revision = 0 // the records count it by themselves
	row, err := e.Store.SaveRule(document, revision, e.Clock().UTC(), actor)
	if errors.Is(err, store.ErrTaken) {
		return row, rule.Problems{{Place: "name", Text: fmt.Sprintf("there is a rule called “%s” already", document.Name)}}
	}
	if err != nil {
		return row, err
	}
	if _, err := e.Store.Settle("rule", row.ID); err != nil {
		return row, err
	}
	return row, e.LoadRules()
}

// SwitchRule switches a rule on, from now on, or off.
func (e *Engine) SwitchRule(ctx context.Context, id string, on bool, actor string) error {
	row, err := e.Store.RuleByID(id)
	if err != nil || row.Removed {
		return store.ErrNotFound
	}
	if !on {
		if err := e.Store.SwitchOff(id, actor); err != nil {
			return err
		}
		return e.LoadRules()
	}
	document, err := row.Parsed()
	if err != nil {
		return err
	}
	if _, err := e.CheckRule(store.System, document); err != nil {
		return err
	}
	mailboxes, err := e.Store.Mailboxes(store.System)
	if err != nil {
		return err
	}
	var places []store.Place
	for _, m := range mailboxes {
		if !document.Look.Looks(m.Name) {
			continue
		}
		known, err := e.Store.FoldersOf(m.ID)
		if err != nil {
			return err
		}
		for _, f := range known {
			if inFolders(&document.Look, f.Path) {
				places = append(places, store.Place{MailboxID: m.ID, Folder: f.Path})
			}
		}
	}
	if err := e.Store.SwitchOn(id, places, e.Clock().UTC(), actor); err != nil {
		return err
	}
	return e.LoadRules()
}

// RemoveRule takes a rule away; what it filed stays.
func (e *Engine) RemoveRule(id, actor string) error {
	if err := e.Store.RemoveRule(id, actor); err != nil {
		return err
	}
	return e.LoadRules()
}

// MattersOf is what a person chose in the tray: single matters, or all of a cause.
func (e *Engine) MattersOf(v store.Viewer, m store.Matters, cause store.Cause) (store.Matters, error) {
	if cause == "" {
		return m, nil
	}
	return e.Store.OfCause(v, cause)
}

// Again lets what waits in the tray be tried again, under the rules as they are now.
func (e *Engine) Again(v store.Viewer, m store.Matters) (int, error) {
	looked, out := 0, error(nil)
	for _, id := range m.Filings { // they are looked at again
		f, err := e.Store.FilingOf(id)
		if err == nil {
			f, err = e.Store.FilingByNumber(v, f.Year, f.Number)
		}
		if err == nil {
			err = e.VerifyFiling(e.ctx, &f)
		}
		if err != nil { // one cabinet that is out of reach does not stop the others
			out = err
			continue
		}
		looked++
	}
	n, err := e.decided(e.Store.Again(v, m, store.Decision{Given: "again"}))
	if err == nil && n+looked == 0 {
		err = out
	}
	return n + looked, err
}

// Release lets held items be filed as they are.
func (e *Engine) Release(v store.Viewer, m store.Matters) (int, error) {
	return e.decided(e.Store.Again(v, m, store.Decision{Given: "release"}))
}

// Elsewhere lets items of the tray be filed in a folder that a person names.
func (e *Engine) Elsewhere(v store.Viewer, m store.Matters, cabinet, folder string) (int, error) {
	c, err := e.Store.CabinetNamed(cabinet)
	if err != nil {
		return 0, rule.Problems{{Place: "cabinet", Text: fmt.Sprintf("there is no cabinet called “%s”", cabinet)}}
	}
	segments := segments(folder)
	if len(segments) == 0 {
		return 0, rule.Problems{{Place: "folder", Text: "name the folder in which to file, such as Sorted by hand/2026", Meant: "Sorted by hand"}}
	}
	return e.decided(e.Store.Again(v, m, store.Decision{Given: "elsewhere", CabinetID: c.ID, Path: func(entry *store.Entry) string {
		ext := mail.Extension(entry.Name)
		return path.Join(path.Join(segments...), safename.File(strings.TrimSuffix(entry.Name, ext), ext))
	}}))
}

// SetAside takes matters out of the tray for good, with a note.
func (e *Engine) SetAside(v store.Viewer, m store.Matters, note string) (int, error) {
	reason := "set aside by " + v.Name
	if note = strings.Join(strings.Fields(note), " "); note != "" {
		reason += ": " + note
	}
	return e.decided(e.Store.SetAside(v, m, reason, e.Clock()))
}

func (e *Engine) decided(n int, err error) (int, error) {
	e.hub.send(Event{Kind: "tray"})
	e.WakeAll()
	e.hasten()
	return n, err
}

// hasten lets what is to be sent be looked at now.
func (e *Engine) hasten() {
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

// AddCabinet makes a place into a cabinet, proves that it can be written to, and
// keeps it.
func (e *Engine) AddCabinet(ctx context.Context, c *store.Cabinet, actor string) error {
	err := e.mayBeCabinet(c)
	if err != nil {
		return err
	}
	if c.Identity, err = e.Prepare(ctx, c, e.Clock()); err != nil {
		return err
	}
	rows, err := e.Store.Cabinets()
	if err != nil {
		return err
	}
	for _, other := range rows {
		if other.Identity == c.Identity {
			return &CabinetError{Problem: fmt.Sprintf("this place is the cabinet “%s” already", other.Name), Advice: "Choose another place.", Lasting: true}
		}
	}
	if err := e.proved(ctx, c); err != nil {
		return err
	}
	return e.Store.AddCabinet(c, actor)
}

// proved proves that a place keeps what cabinets promise, as it is reached now.
func (e *Engine) proved(ctx context.Context, c *store.Cabinet) error {
	probe, err := e.OpenCabinet(c)
	if err != nil {
		return err
	}
	_, err = probe.Prove(ctx)
	return errors.Join(err, probe.Close())
}

// ChangeCabinet changes how a cabinet is reached, once it was proved that it can be
// reached so and is the same.
func (e *Engine) ChangeCabinet(ctx context.Context, c *store.Cabinet, reached bool, revision int, actor string) error {
	if reached {
		if err := e.proved(ctx, c); err != nil {
			return err
		}
	}
	if err := e.Store.ChangeCabinet(c, revision, actor); err != nil {
		return err
	}
	if reached {
		e.ForgetCabinet(c.ID)
		e.WakeAll()
	}
	return nil
}

// Cabinet gives a cabinet for reading. It stays the engine's: nobody else closes it.
func (e *Engine) Cabinet(id string) (cabinet.Cabinet, error) {
	g, err := e.gate(id)
	if err != nil {
		return nil, err
	}
	return g.cabinet, nil
}

// Proof is what was found out about a cabinet.
type Proof struct {
	Holds []string // what it promises, in words
	Room  int64    // octets left, -1 where it is not known
}

// ProveCabinet looks at a cabinet now and tries out its promises.
func (e *Engine) ProveCabinet(ctx context.Context, id string) (Proof, error) {
	out := Proof{Room: -1}
	if err := e.CheckCabinet(ctx, id); err != nil {
		return out, err
	}
	g, err := e.gate(id)
	if err != nil {
		return out, err
	}
	if out.Holds, err = g.cabinet.Prove(ctx); err != nil {
		return out, err
	}
	if roomy, ok := g.plain().(cabinet.Roomy); ok {
		out.Room, err = roomy.Room(ctx)
	}
	return out, err
}

// RemoveMailbox forgets a mailbox and, once the records have forgotten it, deletes the
// messages that only Ink Tray keeps. Where the records fail, the mailbox and its
// messages stay.
func (e *Engine) RemoveMailbox(id, actor string) error {
	e.Unwatch(id)
	e.asked.Add(1)
	if err := e.Store.RemoveMailbox(id, actor); err != nil {
		e.Watch(id)
		return err
	}
	return e.ForgetMail(id)
}

// MailboxRemains is what stays, and what does not, when a mailbox is removed.
type MailboxRemains struct {
	Filed    int // filings in the register, with their files
	Waiting  int // items and messages that wait to be filed, or in the tray
	OnlyHere int // messages that only Ink Tray keeps; they are deleted
}

// RemainsOfMailbox says what remains when a mailbox is removed, before it is.
func (e *Engine) RemainsOfMailbox(v store.Viewer, m *store.Mailbox) (out MailboxRemains, err error) {
	if out.Filed, err = e.Store.CountFilings(v, register.Query{MailboxID: m.ID}); err != nil {
		return out, err
	}
	if out.Waiting, err = e.Store.WaitingIn(m.ID); err != nil || !OwnMail(m) {
		return out, err
	}
	out.OnlyHere, err = mailfile.Count(e.MailFolder(m.ID))
	return out, err
}

// UsedBy lists the names of the rules that use a mailbox or a cabinet.
func (e *Engine) UsedBy(uses func(*rule.Rule) bool) ([]string, error) {
	rows, err := e.Store.Rules()
	if err != nil {
		return nil, err
	}
	var names []string
	for i := range rows {
		document, err := rows[i].Parsed()
		if err == nil && uses(document) {
			names = append(names, rows[i].Name)
		}
	}
	return names, nil
}

// Today is the beginning of this day in the service's zone.
func (e *Engine) Today() time.Time {
	y, m, d := e.now().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, e.Zone)
}
