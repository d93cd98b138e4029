// Package rehearsal says what rules would do with messages, and why, without doing it. It uses the same planning as
// filing. It writes nothing, neither in cabinets nor in mailboxes.
package rehearsal

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

const (
	rehearseLast    = 50   // messages of a rehearsal
	rehearseMatches = 10   // more of those that match, when the last ones hold few
	rehearseReach   = 1000 // how far back these are looked for
	rehearseShown   = 200  // messages that are shown one by one where nothing else is asked for
	rehearseBatch   = 500  // messages that are asked of a server at once
)

// Rehearser rehearses and explains. Its methods may be called by several goroutines at once.
type Rehearser struct {
	*base.Base
	office    *office.Office
	cabinets  *cabinets.Cabinets
	mailboxes *mailboxes.Mailboxes
	reader    *reading.Reader
}

// New makes a rehearser.
func New(b *base.Base, o *office.Office, c *cabinets.Cabinets, m *mailboxes.Mailboxes, r *reading.Reader) *Rehearser {
	return &Rehearser{Base: b, office: o, cabinets: c, mailboxes: m, reader: r}
}

// RehearsalOf says what is rehearsed on which messages.
type RehearsalOf struct {
	Rule     *rule.Rule // as it is in the editor; nil for all running rules together
	Last     int        // the last so many messages; 0 with nothing else said is the last 50, and 10 that match
	Since    time.Time  // received on this day or later
	Until    time.Time  // received before
	Message  int64      // one message
	Thorough bool       // read what the verdicts hang on, from the mail server
	Show     int        // how many messages are shown one by one; 0 for 200
}

// chosen says whether the messages were chosen, so that the mailbox is asked for
// what is not known of them.
func (o *RehearsalOf) chosen() bool { return o.Last > 0 || !o.Since.IsZero() || !o.Until.IsZero() }

// Rehearsal is what rules would do with messages that are there. Nothing is
// written to a cabinet, and nothing changes in the mailbox.
type Rehearsal struct {
	Messages  []Rehearsed // those shown, the newest first; counts are of all
	NotShown  int         // messages that are looked at and not shown
	Hidden    int         // files of messages that are not shown
	Looked    int
	Matching  int
	Unsettled int // messages whose verdict hangs on what was not read
	Files     int
	Bytes     int64 // estimated before contents are read
	Clashes   int
	Tree      []FolderSum
	Warnings  []Warning
}

// FolderSum is what would lie in one folder.
type FolderSum struct {
	Cabinet, Folder string
	Files           int
	Bytes           int64
}

// Warning is something about a rule that a person should know.
type Warning struct {
	Kind  string // "never", "same attachments", "hidden", "caught up"
	Place string // in the document, where it is about one
	Text  string
}

// Rehearsed is one message of a rehearsal.
type Rehearsed struct {
	Message store.Message // without an ID where it is not among the records
	Match   rule.Reason
	Items   []RehearsedItem
	Steps   []RehearsedStep
}

// RehearsedStep is one follow-up of a rehearsal.
type RehearsedStep struct {
	plan.Step
	Rule string // its name
}

// RehearsedItem is one attachment of a rehearsal.
type RehearsedItem struct {
	plan.Item
	Rule  string // its name
	Clash string // what happens to the name, "" where it is free
	As    string // the path that the file would have; "" where nothing would be filed
}

// rehearsing is a rehearsal in the making.
type rehearsing struct {
	owner  *Rehearser
	viewer store.Viewer
	of     RehearsalOf
	rules  []*rule.Compiled         // in order, with the one that is edited
	edited *rule.Compiled           // nil where all are rehearsed
	names  map[string]string        // of mailboxes, by their ids
	listed map[string][]mail.Folder // the folders of mailboxes, by their names
	would  map[string]*foreseen     // what would lie in each cabinet, by its name
	copies map[copyOf]string        // what was filed of each message in this rehearsal, and as what
	files  []taken                  // the last messages of which something is filed or that match
	others []taken                  // the last others
	tree   map[[2]string]*FolderSum
	same   map[string]int // attachments that another rule takes, too
	moved  map[string]int // messages that a move makes a rule miss, by the sentence that says so
	hidden map[string]int // messages that an earlier rule stops
	out    *Rehearsal
	extra  int
	mutex  sync.Mutex
	watch  map[[2]string][]*rule.Compiled // rules by mailbox and folder
}

// Rehearse plans messages under rules with the same code that files.
func (rh *Rehearser) Rehearse(ctx context.Context, v store.Viewer, of RehearsalOf) (*Rehearsal, error) {
	r := &rehearsing{owner: rh, viewer: v, of: of, names: map[string]string{}, listed: map[string][]mail.Folder{},
		would: map[string]*foreseen{}, copies: map[copyOf]string{}, tree: map[[2]string]*FolderSum{},
		same: map[string]int{}, moved: map[string]int{}, hidden: map[string]int{}, out: &Rehearsal{},
		watch: map[[2]string][]*rule.Compiled{}}
	if err := r.order(ctx); err != nil {
		return nil, err
	}
	mailboxes, err := rh.Store.Mailboxes.All(ctx, v)
	if err != nil {
		return nil, err
	}
	var looked []store.Mailbox
	for _, m := range mailboxes {
		r.names[m.ID] = m.Name
		if r.listed[m.Name], err = rh.Store.Mailboxes.Listing(ctx, m.ID); err != nil {
			return nil, err
		}
		if slices.ContainsFunc(r.looking(), func(c *rule.Compiled) bool { return c.Rule.Look.Looks(m.Name) }) {
			looked = append(looked, m)
		}
	}
	if !v.All { // rules that look into other mailboxes only are nothing to this viewer
		r.rules = slices.DeleteFunc(slices.Clone(r.rules), func(c *rule.Compiled) bool {
			return c != r.edited && !slices.ContainsFunc(mailboxes,
				func(m store.Mailbox) bool { return c.Rule.Look.Looks(m.Name) })
		})
	}
	if r.of.Show == 0 {
		r.of.Show = rehearseShown
	}
	switch {
	case of.Message > 0:
		err = r.one(ctx, v)
	case of.chosen() || of.Thorough:
		for i := range looked {
			if err = r.mailbox(ctx, &looked[i]); err != nil {
				break
			}
		}
	default:
		err = r.known(ctx, v, looked)
	}
	if err != nil {
		return nil, err
	}
	return r.out, r.finish()
}

// order puts the rule that is edited into its place among the running ones.
func (r *rehearsing) order(ctx context.Context) error {
	running := r.owner.office.Settings().Rules
	if r.of.Rule == nil {
		r.rules = running
		return nil
	}
	c, err := rule.Compile(r.of.Rule, 0, r.owner.Zone)
	if err != nil {
		return err
	}
	r.edited = c
	place := -1
	if row, err := r.owner.Store.Rules.ByID(ctx, r.of.Rule.ID); err == nil && r.of.Rule.ID != "" {
		place = row.Place
	}
	placed := false
	for _, other := range running {
		if other.Rule.ID == r.of.Rule.ID && other.Rule.ID != "" {
			r.rules, placed = append(r.rules, c), true
			continue
		}
		if !placed && place >= 0 {
			if row, err := r.owner.Store.Rules.ByID(ctx, other.Rule.ID); err == nil && row.Place > place {
				r.rules, placed = append(r.rules, c), true
			}
		}
		r.rules = append(r.rules, other)
	}
	if !placed {
		r.rules = append(r.rules, c)
	}
	return nil
}

// looking are the rules whose messages are looked at.
func (r *rehearsing) looking() []*rule.Compiled {
	if r.edited != nil {
		return []*rule.Compiled{r.edited}
	}
	return r.rules
}

func (r *rehearsing) looksAt(mailbox, folder string) bool {
	rules := r.rulesFor(mailbox, folder)
	return slices.ContainsFunc(r.looking(), func(c *rule.Compiled) bool { return slices.Contains(rules, c) })
}

// planned is one message with its plan.
type planned struct {
	row   store.Message
	facts *source.Facts // of a message that is not among the records; the row is made of them
	same  same
	plan  plan.Plan
}

// taken is a message that was counted, with what would become of its files.
type taken struct {
	planned
	order int // among all that were looked at
	files []RehearsedItem
	full  bool // the plan has all reasons
}

// copyOf is an item of a message, wherever the message is.
type copyOf struct {
	print      [32]byte
	likeness   bool // print is the likeness of a message that has another fingerprint, too
	rule, item string
}

// same recognises a message elsewhere, by whichever protocol it was read there.
type same struct{ fingerprint, likeness [32]byte }

func sameAs(m *mail.Message) same { return same{m.Fingerprint(), m.Likeness()} }

// keys are those under which an item of the message is kept, and sought those under which it may be found.
func (s same) keys(rule, item string) [2]copyOf {
	return [2]copyOf{{s.fingerprint, false, rule, item}, {s.likeness, true, rule, item}}
}

func (s same) sought(rule, item string) [2]copyOf {
	return [2]copyOf{{s.fingerprint, false, rule, item}, {s.likeness, s.fingerprint == s.likeness, rule, item}}
}

// either finds what is kept under one of two keys.
func either[V any](kept map[copyOf]V, keys [2]copyOf) (found V, ok bool) {
	if found, ok = kept[keys[0]]; !ok {
		found, ok = kept[keys[1]]
	}
	return found, ok
}

// known rehearses on what is known of the last messages.
func (r *rehearsing) known(ctx context.Context, v store.Viewer, mailboxes []store.Mailbox) error {
	ids := []string{}
	place := map[string]int{}
	for i, m := range mailboxes {
		ids = append(ids, m.ID)
		place[m.ID] = i
	}
	rows, err := r.owner.Store.Messages.Find(ctx, v, store.MessageQuery{Mailboxes: ids, Most: rehearseReach})
	if err != nil {
		return err
	}
	rows = slices.DeleteFunc(rows, func(m store.Message) bool { return !r.looksAt(r.names[m.MailboxID], m.Folder) })
	var chosen []planned
	for at := 0; at < len(rows) && r.extra < rehearseMatches; at += rehearseLast {
		some := rows[at:min(at+rehearseLast, len(rows))]
		all, err := r.planAll(asPlanned(some))
		if err != nil {
			return err
		}
		for i := range all {
			if at > 0 { // beyond the last ones only what matches
				if r.extra == rehearseMatches || r.matches(&all[i]) != rule.Yes {
					continue
				}
				r.extra++
			}
			chosen = append(chosen, all[i])
		}
	}
	// In the order in which a pass files them.
	slices.SortStableFunc(chosen, func(a, b planned) int {
		return cmp.Or(place[a.row.MailboxID]-place[b.row.MailboxID], strings.Compare(a.row.Folder, b.row.Folder),
			cmp.Compare(a.row.UIDValidity, b.row.UIDValidity), cmp.Compare(a.row.UID, b.row.UID))
	})
	return r.takeAll(ctx, chosen)
}

// planAll plans messages whose facts are known, on all cores.
func (r *rehearsing) planAll(all []planned) ([]planned, error) {
	errs := make([]error, len(all))
	var workers sync.WaitGroup
	n := min(runtime.GOMAXPROCS(0), max(1, len(all)/50))
	for w := range n {
		workers.Go(func() {
			for i := w; i < len(all); i += n {
				row := &all[i].row
				var m *mail.Message
				if f := all[i].facts; f != nil {
					m = f.Message(row.Folder)
					m.SetReceived(f.Stored, r.owner.Clock())
					*row = store.Shown(row.MailboxID, row.Folder, row.UIDValidity, f, m)
				} else {
					facts, err := row.Facts()
					if err != nil {
						errs[i] = err
						continue
					}
					m = facts.Message(row.Folder)
				}
				all[i].plan = r.make(m, r.names[row.MailboxID], row.Folder, false)
				if r.filesAny(&all[i]) {
					all[i].same = sameAs(m)
				}
			}
		})
	}
	workers.Wait()
	return all, errors.Join(errs...)
}

func asPlanned(rows []store.Message) []planned {
	all := make([]planned, len(rows))
	for i := range rows {
		all[i].row = rows[i]
	}
	return all
}

func (r *rehearsing) rulesFor(mailbox, folder string) []*rule.Compiled {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	key := [2]string{mailbox, folder}
	if rules, ok := r.watch[key]; ok {
		return rules
	}
	var rules []*rule.Compiled
	for _, c := range r.rules {
		if c.Rule.Look.Looks(mailbox) && c.Rule.Look.LooksInto(r.listed[mailbox], folder) {
			rules = append(rules, c)
		}
	}
	r.watch[key] = rules
	return rules
}

// make plans a message; explain asks for all reasons, which takes longer.
func (r *rehearsing) make(m *mail.Message, mailbox, folder string, explain bool) plan.Plan {
	r.owner.office.Settings().NoteReport(m)
	return plan.Make(r.rulesFor(mailbox, folder), m, r.setting(mailbox, explain))
}

func (r *rehearsing) setting(mailbox string, explain bool) plan.Setting {
	s := r.owner.office.Settings().For(mailbox, r.owner.Now())
	s.Explain, s.Beyond = explain, r.edited != nil
	return s
}

// one rehearses on one message.
func (r *rehearsing) one(ctx context.Context, v store.Viewer) error {
	row, err := r.owner.Store.Messages.ByID(ctx, v, r.of.Message)
	if err != nil {
		return err
	}
	if !r.of.Thorough {
		all, err := r.planAll(asPlanned([]store.Message{row}))
		if err != nil {
			return err
		}
		return r.takeAll(ctx, all)
	}
	return r.owner.reader.WithMessage(ctx, v, &row, func(s source.Session, l *reading.Message) error {
		p, err := r.owner.reader.Plan(ctx, s, l, r.rulesFor(l.Mailbox, row.Folder), r.setting(l.Mailbox, true))
		if err != nil {
			return err
		}
		return r.takeAll(ctx, []planned{{row: row, same: sameAs(l.Mail), plan: p}})
	})
}

// mailbox rehearses on messages of a mailbox: what is known of them is taken
// from the records, the rest is asked of the server while the first ones are
// planned.
func (r *rehearsing) mailbox(ctx context.Context, m *store.Mailbox) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	return r.owner.mailboxes.With(ctx, m, func(s source.Session) error {
		folders, err := s.Folders(ctx)
		if err != nil {
			return err
		}
		done := map[string]bool{}
		for _, c := range r.looking() {
			if !c.Rule.Look.Looks(m.Name) {
				continue
			}
			paths, _ := c.Rule.Look.Resolve(folders)
			for _, folder := range paths {
				if done[folder] {
					continue
				}
				done[folder] = true
				if err := r.folder(ctx, s, m, folder); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func (r *rehearsing) folder(ctx context.Context, s source.Session, m *store.Mailbox, folder string) error {
	state, err := s.Open(ctx, folder)
	if err != nil {
		return err
	}
	uids, err := s.UIDs(ctx, source.Query{Since: r.of.Since})
	if err != nil {
		return err
	}
	last := r.of.Last
	if !r.of.chosen() {
		last = rehearseLast
	}
	if last > 0 && len(uids) > last {
		uids = uids[len(uids)-last:]
	}
	// Reading runs ahead of planning by one batch, on the connection that only it uses.
	type read struct {
		rows []planned
		err  error
	}
	ahead := make(chan read, 1)
	reading := false
	ctx, cancel := context.WithCancel(ctx)
	defer func() {
		cancel()
		for reading { // the connection is given back only once nobody reads from it
			_, reading = <-ahead
		}
	}()
	if r.of.Thorough {
		for len(uids) > 0 {
			some := uids[:min(rehearseBatch, len(uids))]
			uids = uids[len(some):]
			rows, err := r.rows(ctx, s, m, folder, state.UIDValidity, some)
			if err != nil {
				return err
			}
			for i := range rows {
				if err := r.thorough(ctx, s, m, &rows[i]); err != nil {
					return err
				}
			}
			if err := r.takeAll(ctx, rows); err != nil {
				return err
			}
		}
		return nil
	}
	reading = true
	go func() {
		defer close(ahead)
		for len(uids) > 0 {
			some := uids[:min(rehearseBatch, len(uids))]
			uids = uids[len(some):]
			rows, err := r.rows(ctx, s, m, folder, state.UIDValidity, some)
			select {
			case ahead <- read{rows, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	for some := range ahead {
		if some.err != nil {
			return some.err
		}
		all, err := r.planAll(some.rows)
		if err != nil {
			return err
		}
		if err := r.takeAll(ctx, all); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// rows gives what is known of messages, asking the server for the others.
func (r *rehearsing) rows(ctx context.Context, s source.Session, m *store.Mailbox, folder string, validity uint32,
	uids []uint32) ([]planned, error) {
	known, err := r.owner.Store.Messages.ByUID(ctx, m.ID, folder, validity, uids)
	if err != nil {
		return nil, err
	}
	var missing []uint32
	for _, u := range uids {
		if _, ok := known[u]; !ok {
			missing = append(missing, u)
		}
	}
	found := map[uint32]planned{}
	if len(missing) > 0 {
		slices.Sort(missing)
		facts, err := s.Facts(ctx, missing)
		if err != nil {
			return nil, err
		}
		for i := range facts {
			one := planned{
				row:   store.Message{MailboxID: m.ID, Folder: folder, UIDValidity: validity, ReceivedAt: facts[i].Received},
				facts: &facts[i]}
			if r.of.Thorough { // which reads the facts from the row
				whole, _, err := store.NewMessage(m.ID, folder, validity, &facts[i], r.owner.Clock())
				if err != nil {
					return nil, err
				}
				one = planned{row: *whole}
			}
			found[facts[i].UID] = one
		}
	}
	var rows []planned
	for _, u := range uids {
		one, ok := found[u]
		if row, is := known[u]; is {
			one, ok = planned{row: row}, true
		}
		if !ok || !r.of.Since.IsZero() && one.row.ReceivedAt.Before(r.of.Since) || !r.of.Until.IsZero() &&
			!one.row.ReceivedAt.Before(r.of.Until) {
			continue
		}
		rows = append(rows, one)
	}
	return rows, nil
}

func (r *rehearsing) thorough(ctx context.Context, s source.Session, m *store.Mailbox, p *planned) error {
	facts, err := p.row.Facts()
	if err != nil {
		return err
	}
	l := &reading.Message{Row: &p.row, Facts: facts, Mail: facts.Message(p.row.Folder), Mailbox: m.Name}
	defer l.Close()
	p.same = sameAs(l.Mail)
	p.plan, err = r.owner.reader.Plan(ctx, s, l, r.rulesFor(m.Name, p.row.Folder), r.setting(m.Name, true))
	return err
}

// mine finds the plan of the rule that is edited.
func (r *rehearsing) mine(p *planned) *plan.Rule {
	for i := range p.plan.Rules {
		if p.plan.Rules[i].Rule == r.edited {
			return &p.plan.Rules[i]
		}
	}
	return nil
}

// matches is the answer of the rule that is edited, or the best one of all.
func (r *rehearsing) matches(p *planned) rule.Answer {
	best := rule.No
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if r.edited != nil && pr.Rule != r.edited || pr.Stopped != "" {
			continue
		}
		switch a := pr.Match.Answer; {
		case a == rule.Yes:
			best = a
		case a != rule.No && best == rule.No:
			best = a
		}
	}
	return best
}

// takeAll counts messages in their order, and keeps the last ones for showing.
func (r *rehearsing) takeAll(ctx context.Context, all []planned) error {
	before, err := r.before(ctx, all)
	if err != nil {
		return err
	}
	for i := range all {
		r.take(ctx, &all[i], before)
	}
	return nil
}

// decided is what the journal knows of the items of some messages.
type decided struct {
	entries map[store.ItemOf]map[string]*store.Entry // by rule
	copies  map[copyOf]string                        // what was filed of the same message at another place, and as what
	sums    map[copyOf]cabinet.Content               // the contents of items that any rule filed; of no rule
}

func (r *rehearsing) before(ctx context.Context, all []planned) (decided, error) {
	d := decided{map[store.ItemOf]map[string]*store.Entry{}, map[copyOf]string{}, map[copyOf]cabinet.Content{}}
	var rules []string
	for _, c := range r.looking() {
		rules = append(rules, c.Rule.ID)
	}
	var ids []int64
	var prints [][]byte
	for i := range all {
		if !r.filesAny(&all[i]) {
			continue
		}
		if all[i].row.ID > 0 {
			ids = append(ids, all[i].row.ID)
		}
		prints = append(prints, all[i].same.fingerprint[:], all[i].same.likeness[:])
	}
	if len(prints) == 0 {
		return d, nil
	}
	entries, err := r.owner.Store.Journal.DecidedBy(ctx, rules, ids)
	if err != nil {
		return d, err
	}
	for i := range entries {
		e := &entries[i]
		key := store.ItemOf{MessageID: e.MessageID, Item: e.Item}
		if d.entries[key] == nil {
			d.entries[key] = map[string]*store.Entry{}
		}
		d.entries[key][e.RuleID] = e // of several rounds the last
	}
	copies, err := r.owner.Store.Journal.FiledCopies(ctx, prints)
	for _, c := range copies {
		of := same{fingerprint: [32]byte(c.Fingerprint)}
		if of.likeness = of.fingerprint; len(c.Likeness) > 0 {
			of.likeness = [32]byte(c.Likeness)
		}
		for _, key := range of.keys(c.RuleID, c.Item) {
			if c.Filed {
				d.copies[key] = c.Path
			}
			key.rule = ""
			d.sums[key] = cabinet.Content{Size: c.Size, SHA256: [32]byte(c.SHA256)}
		}
	}
	return d, err
}

// filesAny says whether a plan files something for the rules that are rehearsed.
func (r *rehearsing) filesAny(p *planned) bool {
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if r.edited != nil && pr.Rule != r.edited {
			continue
		}
		if slices.ContainsFunc(pr.Items, func(i plan.Item) bool { return i.Verdict == plan.Filed }) {
			return true
		}
	}
	return false
}

// take counts one message.
func (r *rehearsing) take(ctx context.Context, p *planned, before decided) {
	r.out.Looked++
	answer := r.matches(p)
	switch answer {
	case rule.Yes:
		r.out.Matching++
	case rule.NotYet, rule.Unknowable:
		r.out.Unsettled++
	}
	one := taken{planned: *p, order: r.out.Looked, full: r.of.Thorough}
	filed := 0
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if r.edited != nil && pr.Rule != r.edited {
			continue
		}
		if pr.Stopped != "" {
			r.hidden[pr.Stopped]++
		}
		for k := range pr.Items {
			if pr.Items[k].Verdict == plan.Filed {
				item := r.item(ctx, p, pr, &pr.Items[k], before)
				one.files = append(one.files, item)
				if item.Verdict == plan.Filed {
					filed++
				}
			}
		}
	}
	if r.edited != nil {
		r.overlaps(p)
		r.moves(p)
	}
	list := &r.others
	if len(one.files) > 0 || answer != rule.No {
		list = &r.files
	}
	r.out.Hidden += filed
	*list = append(*list, one)
	if len(*list) >= 2*r.of.Show+100 { // the earlier ones are counted, and not shown
		*list = slices.Clone((*list)[len(*list)-r.of.Show:])
	}
}

// shown gives a message as it is shown, with all reasons.
func (r *rehearsing) shown(t *taken) (Rehearsed, error) {
	p := &t.planned
	if !t.full {
		row := &p.row
		facts := p.facts
		if facts == nil {
			var err error
			if facts, err = row.Facts(); err != nil {
				return Rehearsed{}, err
			}
		}
		m := facts.Message(row.Folder)
		if p.facts != nil {
			m.SetReceived(facts.Stored, r.owner.Clock())
		}
		p.plan = r.make(m, r.names[row.MailboxID], row.Folder, true)
	}
	one := Rehearsed{Message: p.row}
	one.Match.Answer = r.matches(p)
	files := t.files
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if r.edited != nil && pr.Rule != r.edited {
			continue
		}
		if pr.Match.Answer == one.Match.Answer && one.Match.Text == "" {
			one.Match.Text, one.Match.Place = pr.Match.Text, pr.Match.Place
		}
		for k := range pr.Items {
			item := RehearsedItem{Item: pr.Items[k], Rule: pr.Rule.Rule.Name}
			if item.Verdict == plan.Filed && len(files) > 0 {
				item, files = files[0], files[1:]
			}
			one.Items = append(one.Items, item)
			if item.Verdict == plan.Filed {
				r.out.Hidden--
			}
		}
		for _, s := range pr.Steps {
			one.Steps = append(one.Steps, RehearsedStep{s, pr.Rule.Rule.Name})
		}
	}
	return one, nil
}

// item says what would become of an attachment that a rule takes.
func (r *rehearsing) item(ctx context.Context, p *planned, pr *plan.Rule, item *plan.Item,
	before decided) RehearsedItem {
	out := RehearsedItem{Item: *item, Rule: pr.Rule.Rule.Name}
	if e := before.entries[store.ItemOf{MessageID: p.row.ID, Item: item.Item.ID}][pr.Rule.Rule.ID]; e != nil &&
		p.row.ID > 0 {
		if verdict, why := already(e, pr.Rule); verdict != "" {
			out.Verdict, out.Reason = verdict, why
			return out
		}
	}
	sought := p.same.sought(pr.Rule.Rule.ID, item.Item.ID)
	if as, ok := either(before.copies, sought); ok {
		out.Verdict, out.Reason = plan.There, reason.FiledBefore(as)
		return out
	}
	if as, ok := either(r.copies, sought); ok {
		out.Verdict, out.Reason = plan.There, reason.OtherFolder(as)
		return out
	}
	cabinet := item.Target.Cabinet
	would := r.would[cabinet]
	if would == nil {
		would = foresee(ctx, r.owner, r.viewer, cabinet)
		r.would[cabinet] = would
	}
	content, _ := either(before.sums, p.same.sought("", item.Item.ID))
	would.place(ctx, &out, p.row.ReceivedAt, content)
	if out.Clash != "" {
		r.out.Clashes++
	}
	if out.Verdict != plan.Filed {
		return out
	}
	for _, key := range p.same.keys(pr.Rule.Rule.ID, item.Item.ID) {
		r.copies[key] = out.As
	}
	r.out.Files++
	r.out.Bytes += item.Item.Size
	folder := path.Dir(out.As)
	if folder == "." {
		folder = ""
	}
	key := [2]string{cabinet, folder}
	sum := r.tree[key]
	if sum == nil {
		sum = &FolderSum{Cabinet: cabinet, Folder: folder}
		r.tree[key] = sum
	}
	sum.Files++
	sum.Bytes += item.Item.Size
	return out
}

// already says what the journal says of an item that a rule would take; no verdict where
// the rule as it is now decides again.
func already(e *store.Entry, c *rule.Compiled) (plan.Verdict, reason.Reason) {
	switch {
	case e.Undo == store.Undone:
		return plan.LeftOut, reason.TakenBackEarlier()
	case e.State == store.Filed || e.State == store.There:
		return plan.There, reason.FiledAlready(e.Path)
	case e.State == store.Planned || e.State == store.Staged:
		return plan.There, reason.BeingFiled()
	case e.State == store.Held || e.State == store.Failed:
		return plan.Held, reason.WaitsInTray(e.Reason)
	case e.State == store.LeftOut && e.RuleRevision != c.Revision:
		return "", reason.Reason{} // under an earlier state of the rule
	case e.State == store.LeftOut:
		return plan.LeftOut, e.Reason
	}
	return plan.LeftOut, reason.SetAside()
}

// overlaps counts attachments that another rule files, too.
func (r *rehearsing) overlaps(p *planned) {
	mine := r.mine(p)
	if mine == nil {
		return
	}
	takes := map[string]bool{}
	for i := range mine.Items {
		if mine.Items[i].Verdict == plan.Filed {
			takes[mine.Items[i].Item.ID] = true
		}
	}
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if pr.Rule == r.edited {
			continue
		}
		for k := range pr.Items {
			if pr.Items[k].Verdict == plan.Filed && takes[pr.Items[k].Item.ID] {
				r.same[pr.Rule.Rule.Name]++
			}
		}
	}
}

// moves counts what a move of this rule, or of another, makes one of them miss.
func (r *rehearsing) moves(p *planned) {
	mine := r.mine(p)
	if mine == nil {
		return
	}
	moves := func(pr *plan.Rule) (does, loses bool) {
		for _, s := range pr.Steps {
			does = does || s.Kind == rule.DoMove && s.Do
			loses = loses || s.Kind == rule.DoMove && s.Moved
		}
		return does, loses
	}
	does, loses := moves(mine)
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if pr.Rule == r.edited {
			continue
		}
		theirs, lost := moves(pr)
		switch {
		case does && lost:
			r.moved["Both move \x00: this rule does, and “"+pr.Rule.Rule.Name+"” comes later and does not."]++
		case loses && theirs:
			r.moved["Both move \x00: the earlier rule “"+pr.Rule.Rule.Name+"” does, and this one does not."]++
		}
	}
	if !does {
		return
	}
	// A label that is put on later is looked for only where a rule looks.
	box := r.names[p.row.MailboxID]
	for _, other := range r.owner.office.Settings().Rules {
		l := &other.Rule.Look
		if other.Rule.ID == r.edited.Rule.ID || len(other.Rule.Labels()) == 0 || !l.Looks(box) ||
			!l.LooksInto(r.listed[box], p.row.Folder) {
			continue
		}
		for _, s := range mine.Steps {
			if s.Kind == rule.DoMove && s.Do && !l.LooksInto(r.listed[box], s.What) {
				r.moved["The rule “"+other.Rule.Name+"” waits for a label and does not look into “"+s.What+
					"”, so it misses \x00 once this rule has moved them."]++
			}
		}
	}
}

func (r *rehearsing) finish() error {
	show := r.files[max(0, len(r.files)-r.of.Show):]
	if room := r.of.Show - len(show); room > 0 {
		show = append(slices.Clone(show), r.others[max(0, len(r.others)-room):]...)
	}
	slices.SortFunc(show, func(a, b taken) int { return b.order - a.order })
	for i := range show {
		one, err := r.shown(&show[i])
		if err != nil {
			return err
		}
		r.out.Messages = append(r.out.Messages, one)
	}
	r.out.NotShown = r.out.Looked - len(r.out.Messages)
	for _, sum := range r.tree {
		r.out.Tree = append(r.out.Tree, *sum)
	}
	slices.SortFunc(r.out.Tree, func(a, b FolderSum) int {
		return strings.Compare(a.Cabinet+"\x00"+a.Folder, b.Cabinet+"\x00"+b.Folder)
	})
	if r.edited == nil {
		return nil
	}
	for _, text := range r.owner.office.RuleNotes(r.edited.Rule) {
		r.out.Warnings = append(r.out.Warnings, Warning{"verified senders", "afterwards", text})
	}
	for _, p := range r.edited.Never() {
		r.out.Warnings = append(r.out.Warnings, Warning{"never", p.Place, p.Text})
	}
	for _, name := range sorted(r.same) {
		text := fmt.Sprintf("The rule “%s” files %d of these attachments, too.", name, r.same[name])
		if r.same[name] == 1 {
			text = fmt.Sprintf("The rule “%s” files one of these attachments, too.", name)
		}
		r.out.Warnings = append(r.out.Warnings, Warning{"same attachments", "attachments", text})
	}
	for _, text := range sorted(r.moved) {
		n := "one of these messages"
		if r.moved[text] > 1 {
			n = fmt.Sprintf("%d of these messages", r.moved[text])
		}
		r.out.Warnings = append(r.out.Warnings, Warning{"moved", "afterwards", strings.Replace(text, "\x00", n, 1)})
	}
	for _, name := range sorted(r.hidden) {
		text := fmt.Sprintf("The earlier rule “%s” keeps %d of these messages from this one.", name, r.hidden[name])
		if r.hidden[name] == 1 {
			text = fmt.Sprintf("The earlier rule “%s” keeps one of these messages from this one.", name)
		}
		r.out.Warnings = append(r.out.Warnings, Warning{"hidden", "match", text})
	}
	return nil
}

func sorted(m map[string]int) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}
