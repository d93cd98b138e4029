package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// CheckRule compiles a rule and proves that its mailboxes and its cabinet are
// there. The error, if any, is rule.Problems.
func (e *Engine) CheckRule(document *rule.Rule) (*rule.Compiled, error) {
	c, err := rule.Compile(document, 0, e.Zone)
	var problems rule.Problems
	if err != nil && !errors.As(err, &problems) {
		return nil, err
	}
	cabinets, err := e.Store.Cabinets()
	if err != nil {
		return nil, err
	}
	mailboxes, err := e.Store.Mailboxes(store.System)
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
	if _, err := e.CheckRule(document); err != nil {
		return store.Rule{}, err
	}
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
	if _, err := e.CheckRule(document); err != nil {
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

// Again lets items of the tray be tried again, under their rules as they are now.
func (e *Engine) Again(v store.Viewer, ids []int64) (int, error) {
	entries, err := e.Store.Again(v, ids)
	e.hub.send(Event{Kind: "tray"})
	e.WakeAll()
	return len(entries), err
}

// SetAside takes items out of the tray for good.
func (e *Engine) SetAside(v store.Viewer, ids []int64) (int, error) {
	n, err := e.Store.SetAside(v, ids, "set aside by "+v.Name, e.Clock())
	e.hub.send(Event{Kind: "tray"})
	return n, err
}

// AddCabinet makes a place into a cabinet, proves that it can be written to, and
// keeps it.
func (e *Engine) AddCabinet(ctx context.Context, c *store.Cabinet, actor string) error {
	var err error
	if c.Identity, err = e.Prepare(c, e.Clock()); err != nil {
		return err
	}
	rows, err := e.Store.Cabinets()
	if err != nil {
		return err
	}
	for _, other := range rows {
		if other.Identity == c.Identity {
			return &CabinetError{Problem: fmt.Sprintf("this folder is the cabinet “%s” already", other.Name), Advice: "Choose another folder.", Lasting: true}
		}
	}
	probe, err := e.OpenCabinet(c)
	if err != nil {
		return err
	}
	defer probe.Close()
	if err := probe.Check(ctx); err != nil {
		return err
	}
	return e.Store.AddCabinet(c, actor)
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
