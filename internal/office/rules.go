package office

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// LoadRules reads the running rules again after a change.
func (o *Office) LoadRules(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx) // what was saved is taken up in any case
	err := o.change(func(next *Snapshot) error {
		rows, err := o.Store.Rules.Running(ctx)
		if err != nil {
			return err
		}
		if err := o.compileAll(ctx, rows); err != nil {
			return err
		}
		next.Rules = nil
		for i := range rows {
			c, err := o.Rule(ctx, rows[i].ID, rows[i].Revision)
			if err == nil {
				next.Rules = append(next.Rules, c)
				continue
			}
			if err := o.tellOfRule(ctx, &rows[i], err); err != nil {
				return err
			}
		}
		return nil
	})
	o.WakeAll()
	return err
}

// compileAll compiles what is not compiled yet of running rules, as at the start: read at once, and several beside one
// another. What cannot be compiled is left out; Rule says why.
func (o *Office) compileAll(ctx context.Context, rows []store.Rule) error {
	missing := 0
	for i := range rows {
		if _, ok := o.compiled.Load(revision{rows[i].ID, rows[i].Revision}); !ok {
			missing++
		}
	}
	if missing < 2 {
		return nil
	}
	all, err := o.Store.Rules.RunningRevisions(ctx)
	if err != nil {
		return err
	}
	var next atomic.Int64
	var beside sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(all)) {
		beside.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(all)); i = next.Add(1) - 1 {
				_, _ = o.compile(&all[i])
			}
		})
	}
	beside.Wait()
	return nil
}

// tellOfRule tells that a rule cannot run.
func (o *Office) tellOfRule(ctx context.Context, row *store.Rule, problem error) error {
	o.Log.Error("a rule cannot run", "rule", row.Name, "error", problem)
	return o.Store.Tray.Tell(ctx, &store.Notice{Kind: "rule", Object: row.ID, MadeAt: o.Clock(),
		Text: fmt.Sprintf("The rule “%s” cannot run: %v.", row.Name, problem), Advice: "Open the rule, correct it and save " +
			"it."})
}

// revision names one state of a rule.
type revision struct {
	rule   string
	number int
}

// mostCompiled bounds how many revisions of rules stay compiled in memory, about 10 kB each.
const mostCompiled = 5000

// Rule returns a rule as it was at a revision. It is compiled once.
func (o *Office) Rule(ctx context.Context, id string, number int) (*rule.Compiled, error) {
	key := revision{id, number}
	if c, ok := o.compiled.Load(key); ok {
		return c.(*rule.Compiled), nil
	}
	row, err := o.Store.Rules.Revision(ctx, id, number)
	if err != nil {
		return nil, err
	}
	return o.compile(&row)
}

func (o *Office) compile(row *store.RuleRevision) (*rule.Compiled, error) {
	key := revision{row.RuleID, row.Revision}
	if c, ok := o.compiled.Load(key); ok {
		return c.(*rule.Compiled), nil
	}
	document, err := rule.ParseRule([]byte(row.Document))
	if err != nil {
		return nil, err
	}
	c, err := rule.Compile(document, row.Revision, o.Zone)
	if err != nil {
		return nil, err
	}
	if o.compiling.Add(1)%mostCompiled == 0 { // those that are in use are compiled again
		o.compiled.Clear()
	}
	o.compiled.Store(key, c)
	return c, nil
}

// CheckRule compiles a rule and proves that its mailboxes and its cabinet are
// there, for somebody: of mailboxes that he may not see he learns nothing. The error,
// if any, is rule.Problems.
func (o *Office) CheckRule(ctx context.Context, v store.Viewer, document *rule.Rule) (*rule.Compiled, error) {
	c, err := rule.Compile(document, 0, o.Zone)
	var problems rule.Problems
	if err != nil && !errors.As(err, &problems) {
		return nil, err
	}
	cabinets, err := o.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, err
	}
	mailboxes, err := o.Store.Mailboxes.All(ctx, v)
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
	problems = append(problems, o.checkBook(c, document)...)
	problems = append(problems, o.checkWho(ctx, document)...)
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
func (o *Office) SaveRule(ctx context.Context, document *rule.Rule, revision int, actor string) (store.Rule, error) {
	if _, err := o.CheckRule(ctx, store.System, document); err != nil {
		return store.Rule{}, err
	}
	if revision == 0 {
		revision = document.Revision
	}
	document.Revision = 0 // the records count it by themselves
	row, err := o.Store.Rules.Save(ctx, document, revision, o.Clock().UTC(), actor)
	if errors.Is(err, store.ErrTaken) {
		return row, rule.Problems{{Place: "name", Text: fmt.Sprintf("there is a rule called “%s” already", document.Name)}}
	}
	if err != nil {
		return row, err
	}
	if _, err := o.Store.Tray.Settle(ctx, "rule", row.ID); err != nil {
		return row, err
	}
	return row, o.LoadRules(ctx)
}

// SwitchRule switches a rule on, from now on, or off.
func (o *Office) SwitchRule(ctx context.Context, id string, on bool, actor string) error {
	row, err := o.Store.Rules.ByID(ctx, id)
	if err != nil || row.Removed {
		return store.ErrNotFound
	}
	if !on {
		if err := o.Store.Rules.SwitchOff(ctx, id, actor); err != nil {
			return err
		}
		return o.LoadRules(ctx)
	}
	document, err := row.Parsed()
	if err != nil {
		return err
	}
	if _, err := o.CheckRule(ctx, store.System, document); err != nil {
		return err
	}
	mailboxes, err := o.Store.Mailboxes.All(ctx, store.System)
	if err != nil {
		return err
	}
	var places []store.Place
	for _, m := range mailboxes {
		if !document.Look.Looks(m.Name) {
			continue
		}
		known, err := o.Store.Mailboxes.FoldersOf(ctx, m.ID)
		if err != nil {
			return err
		}
		listing, err := o.Store.Mailboxes.Listing(ctx, m.ID)
		if err != nil {
			return err
		}
		for _, f := range known {
			if document.Look.LooksInto(listing, f.Path) {
				places = append(places, store.Place{MailboxID: m.ID, Folder: f.Path})
			}
		}
	}
	if err := o.Store.Rules.SwitchOn(ctx, id, places, o.Clock().UTC(), actor); err != nil {
		return err
	}
	return o.LoadRules(ctx)
}

// RemoveRule takes a rule away; what it filed stays.
func (o *Office) RemoveRule(ctx context.Context, id, actor string) error {
	if err := o.Store.Rules.Remove(ctx, id, actor); err != nil {
		return err
	}
	return o.LoadRules(ctx)
}

// UsedBy lists the names of the rules that use a mailbox or a cabinet.
func (o *Office) UsedBy(ctx context.Context, uses func(*rule.Rule) bool) ([]string, error) {
	rows, err := o.Store.Rules.All(ctx)
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

// repliesThemselves says whether the servers of all mailboxes of a rule send its replies: those read by JMAP do, if it
// is known which address they write from.
func repliesThemselves(ctx context.Context, o *Office, document *rule.Rule) bool {
	out, _, err := o.Store.Settings.Outgoing(ctx)
	if err != nil {
		return false
	}
	for _, name := range document.Look.Mailboxes {
		box, err := o.Store.Mailboxes.Named(ctx, store.System, name)
		if err != nil || box.Kind != "jmap" || out.From == "" && !strings.Contains(box.Username, "@") {
			return false
		}
	}
	return len(document.Look.Mailboxes) > 0
}

// checkWho proves that everyone whom a rule notifies is known, and that mail can
// be sent where the rule needs it.
func (o *Office) checkWho(ctx context.Context, document *rule.Rule) rule.Problems {
	var problems rule.Problems
	all, err := o.Store.Alarms.Addressees(ctx)
	if err != nil {
		return rule.Problems{{Text: err.Error()}}
	}
	var names []string
	mails := map[string]bool{}
	for i := range all {
		names = append(names, all[i].Name)
		mails[strings.ToLower(all[i].Name)] = all[i].Kind == "mail"
	}
	needs := ""
	for _, u := range document.Addressees() {
		if !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, u.Name) }) {
			text := fmt.Sprintf("there is no notification called “%s” in Settings", u.Name)
			if len(names) > 0 {
				text += "; there are: " + strings.Join(names, ", ")
			}
			problems = append(problems, rule.Problem{Place: u.Place, Text: text, Meant: pattern.Nearest(u.Name, names)})
		} else if mails[strings.ToLower(u.Name)] && needs == "" {
			needs = u.Place
		}
	}
	for i := range document.Afterwards {
		if document.Afterwards[i].Reply != nil && needs == "" && !repliesThemselves(ctx, o, document) {
			needs = fmt.Sprintf("afterwards[%d].reply", i)
		}
	}
	if needs != "" {
		if out, _, err := o.Store.Settings.Outgoing(ctx); err != nil || !out.Sends() {
			problems = append(problems, rule.Problem{Place: needs,
				Text: "Ink Tray cannot send mail yet: set up outgoing mail in Settings first"})
		}
	}
	return problems
}
