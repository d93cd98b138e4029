package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

const (
	rehearseLast    = 50     // messages of a rehearsal
	rehearseMatches = 10     // more of those that match, when the last ones hold few
	rehearseReach   = 1000   // how far back these are looked for
	rehearseMost    = 50_000 // messages of any rehearsal
	rehearseShown   = 200    // messages that are shown one by one
	rehearseBatch   = 500    // messages that are asked of a server at once
)

// RehearsalOf says what is rehearsed on which messages.
type RehearsalOf struct {
	Rule     *rule.Rule // as it stands in the editor; nil for all running rules together
	Last     int        // the last so many messages; 0 with nothing else said is the last 50, and 10 that match
	Since    time.Time  // received on this day or later
	Until    time.Time  // received before
	Message  int64      // one message
	Thorough bool       // read what the verdicts hang on, from the mail server
}

// chosen says whether the messages were chosen, so that the mailbox is asked for
// what is not known of them.
func (o *RehearsalOf) chosen() bool { return o.Last > 0 || !o.Since.IsZero() || !o.Until.IsZero() }

// Rehearsal is what rules would do with messages that are there. Nothing is
// written to a cabinet, and nothing changes in the mailbox.
type Rehearsal struct {
	Messages  []Rehearsed // those shown; counts are of all
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
}

// rehearsal is one in the making.
type rehearsal struct {
	engine  *Engine
	of      RehearsalOf
	rules   []*rule.Compiled // in order, with the one that is edited
	edited  *rule.Compiled   // nil where all are rehearsed
	names   map[string]string
	filed   map[string]map[store.ItemOf]string
	wanted  map[string]bool // paths that were given already
	tree    map[[2]string]*FolderSum
	same    map[string]int // attachments that another rule takes, too
	moved   map[string]int // messages that a move makes a rule miss, by the sentence that says so
	hidden  map[string]int // messages that an earlier rule stops
	out     *Rehearsal
	extra   int
	cabinet map[string]*gate
	mutex   sync.Mutex
	watch   map[[2]string][]*rule.Compiled // rules by mailbox and folder
}

// Rehearse plans messages under rules with the same code that files.
func (e *Engine) Rehearse(ctx context.Context, v store.Viewer, of RehearsalOf) (*Rehearsal, error) {
	r := &rehearsal{engine: e, of: of, names: map[string]string{}, filed: map[string]map[store.ItemOf]string{}, wanted: map[string]bool{}, tree: map[[2]string]*FolderSum{},
		same: map[string]int{}, moved: map[string]int{}, hidden: map[string]int{}, out: &Rehearsal{}, cabinet: map[string]*gate{}, watch: map[[2]string][]*rule.Compiled{}}
	if err := r.order(); err != nil {
		return nil, err
	}
	mailboxes, err := e.Store.Mailboxes(v)
	if err != nil {
		return nil, err
	}
	var looked []store.Mailbox
	for _, m := range mailboxes {
		r.names[m.ID] = m.Name
		if slices.ContainsFunc(r.looking(), func(c *rule.Compiled) bool { return c.Rule.Look.Looks(m.Name) }) {
			looked = append(looked, m)
		}
	}
	for _, c := range r.looking() {
		if r.filed[c.Rule.ID], err = e.Store.FiledBy(c.Rule.ID); err != nil {
			return nil, err
		}
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
		err = r.known(v, looked)
	}
	if err != nil {
		return nil, err
	}
	r.finish()
	return r.out, nil
}

// order puts the rule that is edited into its place among the running ones.
func (r *rehearsal) order() error {
	running := r.engine.running()
	if r.of.Rule == nil {
		r.rules = running
		return nil
	}
	c, err := rule.Compile(r.of.Rule, 0, r.engine.Zone)
	if err != nil {
		return err
	}
	r.edited = c
	place := -1
	if row, err := r.engine.Store.RuleByID(r.of.Rule.ID); err == nil && r.of.Rule.ID != "" {
		place = row.Place
	}
	placed := false
	for _, other := range running {
		if other.Rule.ID == r.of.Rule.ID && other.Rule.ID != "" {
			r.rules, placed = append(r.rules, c), true
			continue
		}
		if !placed && place >= 0 {
			if row, err := r.engine.Store.RuleByID(other.Rule.ID); err == nil && row.Place > place {
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
func (r *rehearsal) looking() []*rule.Compiled {
	if r.edited != nil {
		return []*rule.Compiled{r.edited}
	}
	return r.rules
}

func (r *rehearsal) looksAt(mailbox, folder string) bool {
	return slices.ContainsFunc(r.looking(), func(c *rule.Compiled) bool { return c.Rule.Look.Looks(mailbox) && inFolders(&c.Rule.Look, folder) })
}

// planned is one message with its plan.
type planned struct {
	row   store.Message
	facts *source.Facts // of a message that is not among the records; the row is made of them
	plan  plan.Plan
}

// known rehearses on what is known of the last messages.
func (r *rehearsal) known(v store.Viewer, mailboxes []store.Mailbox) error {
	ids := []string{}
	for _, m := range mailboxes {
		ids = append(ids, m.ID)
	}
	rows, err := r.engine.Store.Messages(v, store.MessageQuery{Mailboxes: ids, Most: rehearseReach})
	if err != nil {
		return err
	}
	rows = slices.DeleteFunc(rows, func(m store.Message) bool { return !r.looksAt(r.names[m.MailboxID], m.Folder) })
	for at := 0; at < len(rows); at += rehearseLast {
		some := rows[at:min(at+rehearseLast, len(rows))]
		all, err := r.planAll(asPlanned(some))
		if err != nil {
			return err
		}
		for i := range all {
			if at > 0 { // beyond the last ones only what matches
				if r.matches(&all[i]) != rule.Yes {
					continue
				}
				if r.extra++; r.extra > rehearseMatches {
					return nil
				}
			}
			r.take(&all[i])
		}
	}
	return nil
}

// planAll plans messages whose facts are known, on all cores.
func (r *rehearsal) planAll(all []planned) ([]planned, error) {
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
					m.SetReceived(f.Stored, r.engine.Clock())
					*row = store.Shown(row.MailboxID, row.Folder, row.UIDValidity, f, m)
				} else {
					facts, err := row.Facts()
					if err != nil {
						errs[i] = err
						continue
					}
					m = facts.Message(row.Folder)
				}
				all[i].plan = r.make(m, r.names[row.MailboxID], row.Folder)
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

func (r *rehearsal) rulesFor(mailbox, folder string) []*rule.Compiled {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	key := [2]string{mailbox, folder}
	if rules, ok := r.watch[key]; ok {
		return rules
	}
	var rules []*rule.Compiled
	for _, c := range r.rules {
		if c.Rule.Look.Looks(mailbox) && inFolders(&c.Rule.Look, folder) {
			rules = append(rules, c)
		}
	}
	r.watch[key] = rules
	return rules
}

func (r *rehearsal) make(m *mail.Message, mailbox, folder string) plan.Plan {
	r.engine.reported(m)
	return plan.Make(r.rulesFor(mailbox, folder), m, r.setting(mailbox))
}

// setting asks for reasons only where they will be shown.
func (r *rehearsal) setting(mailbox string) plan.Setting {
	s := r.engine.setting(mailbox, r.engine.now())
	s.Explain = len(r.out.Messages) < rehearseShown
	return s
}

// one rehearses on one message.
func (r *rehearsal) one(ctx context.Context, v store.Viewer) error {
	row, err := r.engine.Store.MessageByID(v, r.of.Message)
	if err != nil {
		return err
	}
	if !r.of.Thorough {
		all, err := r.planAll(asPlanned([]store.Message{row}))
		if err == nil {
			r.take(&all[0])
		}
		return err
	}
	return r.engine.withMessage(ctx, v, &row, func(s source.Session, l *letter) error {
		p, err := r.engine.settle(ctx, s, l, r.rulesFor(l.mailbox, row.Folder), r.setting(l.mailbox))
		r.take(&planned{row: row, plan: p})
		return err
	})
}

// withMessage opens a message on its server.
func (e *Engine) withMessage(ctx context.Context, v store.Viewer, row *store.Message, f func(s source.Session, l *letter) error) error {
	m, err := e.Store.MailboxByID(v, row.MailboxID)
	if err != nil {
		return err
	}
	facts, err := row.Facts()
	if err != nil {
		return err
	}
	return e.withMailbox(ctx, &m, func(s source.Session) error {
		state, err := s.Open(ctx, row.Folder)
		if err != nil {
			return err
		}
		if state.UIDValidity != row.UIDValidity {
			return source.ErrGone
		}
		l := &letter{row: row, facts: facts, message: facts.Message(row.Folder), mailbox: m.Name}
		defer l.close()
		return f(s, l)
	})
}

// withMailbox opens a connection of its own.
func (e *Engine) withMailbox(ctx context.Context, m *store.Mailbox, f func(s source.Session) error) error {
	s, err := e.Reach(ctx, m)
	if err != nil {
		return err
	}
	defer s.Close()
	return f(s)
}

// mailbox rehearses on messages of a mailbox: what is known of them is taken
// from the records, the rest is asked of the server while the first ones are
// planned.
func (r *rehearsal) mailbox(ctx context.Context, m *store.Mailbox) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	return r.engine.withMailbox(ctx, m, func(s source.Session) error {
		folders, err := s.Folders(ctx)
		if err != nil {
			return err
		}
		done := map[string]bool{}
		for _, c := range r.looking() {
			if !c.Rule.Look.Looks(m.Name) {
				continue
			}
			paths, _ := FoldersFor(folders, &c.Rule.Look)
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

func (r *rehearsal) folder(ctx context.Context, s source.Session, m *store.Mailbox, folder string) error {
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
	if over := len(uids) - rehearseMost; over > 0 {
		uids = uids[over:]
	}
	slices.Reverse(uids) // the newest first
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
				if err := r.thorough(ctx, s, m, &rows[i].row); err != nil {
					return err
				}
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
		for i := range all {
			r.take(&all[i])
		}
	}
	return ctx.Err()
}

// rows gives what is known of messages, asking the server for the others.
func (r *rehearsal) rows(ctx context.Context, s source.Session, m *store.Mailbox, folder string, validity uint32, uids []uint32) ([]planned, error) {
	known, err := r.engine.Store.MessagesOf(m.ID, folder, validity, uids)
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
			one := planned{row: store.Message{MailboxID: m.ID, Folder: folder, UIDValidity: validity, ReceivedAt: facts[i].Received}, facts: &facts[i]}
			if r.of.Thorough { // which reads the facts from the row
				whole, _, err := store.NewMessage(m.ID, folder, validity, &facts[i], r.engine.Clock())
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
		if !ok || !r.of.Since.IsZero() && one.row.ReceivedAt.Before(r.of.Since) || !r.of.Until.IsZero() && !one.row.ReceivedAt.Before(r.of.Until) {
			continue
		}
		rows = append(rows, one)
	}
	return rows, nil
}

func (r *rehearsal) thorough(ctx context.Context, s source.Session, m *store.Mailbox, row *store.Message) error {
	facts, err := row.Facts()
	if err != nil {
		return err
	}
	l := &letter{row: row, facts: facts, message: facts.Message(row.Folder), mailbox: m.Name}
	defer l.close()
	p, err := r.engine.settle(ctx, s, l, r.rulesFor(m.Name, row.Folder), r.setting(m.Name))
	if err != nil {
		return err
	}
	r.take(&planned{row: *row, plan: p})
	return nil
}

// mine finds the plan of the rule that is edited.
func (r *rehearsal) mine(p *planned) *plan.Rule {
	for i := range p.plan.Rules {
		if p.plan.Rules[i].Rule == r.edited {
			return &p.plan.Rules[i]
		}
	}
	return nil
}

// matches is the answer of the rule that is edited, or the best one of all.
func (r *rehearsal) matches(p *planned) rule.Answer {
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

// take counts one message, and shows it while there are few.
func (r *rehearsal) take(p *planned) {
	r.out.Looked++
	one := Rehearsed{Message: p.row}
	answer := r.matches(p)
	switch answer {
	case rule.Yes:
		r.out.Matching++
	case rule.NotYet, rule.Unknowable:
		r.out.Unsettled++
	}
	one.Match.Answer = answer
	for i := range p.plan.Rules {
		pr := &p.plan.Rules[i]
		if r.edited != nil && pr.Rule != r.edited {
			continue
		}
		if pr.Stopped != "" {
			r.hidden[pr.Stopped]++
		}
		if pr.Match.Answer == answer && one.Match.Text == "" {
			one.Match.Text, one.Match.Place = pr.Match.Text, pr.Match.Place
		}
		for k := range pr.Items {
			one.Items = append(one.Items, r.item(p, pr, &pr.Items[k]))
		}
		for _, s := range pr.Steps {
			one.Steps = append(one.Steps, RehearsedStep{s, pr.Rule.Rule.Name})
		}
	}
	if r.edited != nil {
		r.overlaps(p)
		r.moves(p)
	}
	shown := len(r.out.Messages)
	if shown < rehearseShown || shown < 2*rehearseShown && len(one.Items) > 0 {
		r.out.Messages = append(r.out.Messages, one)
	}
}

func (r *rehearsal) item(p *planned, pr *plan.Rule, item *plan.Item) RehearsedItem {
	out := RehearsedItem{Item: *item, Rule: pr.Rule.Rule.Name}
	if item.Verdict != plan.Filed {
		return out
	}
	if path, ok := r.filed[pr.Rule.Rule.ID][store.ItemOf{MessageID: p.row.ID, Item: item.Item.ID}]; ok && p.row.ID > 0 {
		out.Verdict, out.Reason = plan.There, "filed already, as "+path
		return out
	}
	cabinet := item.Target.Cabinet
	g, ok := r.cabinet[cabinet]
	if !ok {
		g = r.engine.gateOf(cabinet)
		r.cabinet[cabinet] = g
	}
	r.engine.foresee(context.Background(), g, &out, r.wanted)
	r.out.Files++
	r.out.Bytes += item.Item.Size
	if out.Clash != "" {
		r.out.Clashes++
	}
	key := [2]string{cabinet, path.Join(item.Segments...)}
	sum := r.tree[key]
	if sum == nil {
		sum = &FolderSum{Cabinet: cabinet, Folder: key[1]}
		r.tree[key] = sum
	}
	sum.Files++
	sum.Bytes += item.Item.Size
	return out
}

// overlaps counts attachments that another rule files, too.
func (r *rehearsal) overlaps(p *planned) {
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
func (r *rehearsal) moves(p *planned) {
	mine := r.mine(p)
	if mine == nil {
		return
	}
	moves := func(pr *plan.Rule) (does, loses bool) {
		for _, s := range pr.Steps {
			does = does || s.Kind == rule.DoMove && s.Do
			loses = loses || s.Kind == rule.DoMove && !s.Do && strings.Contains(s.Reason, "moves the message")
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
	for _, other := range r.engine.running() {
		if other.Rule.ID == r.edited.Rule.ID || len(other.Rule.Labels()) == 0 || !other.Rule.Look.Looks(r.names[p.row.MailboxID]) || !inFolders(&other.Rule.Look, p.row.Folder) {
			continue
		}
		for _, s := range mine.Steps {
			if s.Kind == rule.DoMove && s.Do && !inFolders(&other.Rule.Look, s.What) {
				r.moved["The rule “"+other.Rule.Name+"” waits for a label and does not look into “"+s.What+"”, so it misses \x00 once this rule has moved them."]++
			}
		}
	}
}

func (r *rehearsal) finish() {
	for _, sum := range r.tree {
		r.out.Tree = append(r.out.Tree, *sum)
	}
	slices.SortFunc(r.out.Tree, func(a, b FolderSum) int {
		return strings.Compare(a.Cabinet+"\x00"+a.Folder, b.Cabinet+"\x00"+b.Folder)
	})
	if r.edited == nil {
		return
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
}

func sorted(m map[string]int) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// inFolders says whether a rule's folders hold a message's, by path; a role
// other than the inbox is taken to be the folder of that name.
func inFolders(l *rule.Look, folder string) bool {
	aside := false // by its own name or by that of a folder around it
	for at := folder; at != "." && at != "/" && !aside; at = path.Dir(at) {
		aside = source.Aside(source.RoleByName(at))
	}
	if l.Every() {
		return !aside
	}
	return slices.ContainsFunc(l.In(), func(name string) bool {
		name, folder := safename.Fold(name), safename.Fold(folder)
		return name == folder || l.Subfolders && !aside && strings.HasPrefix(folder, name+"/")
	})
}

func (e *Engine) gateOf(cabinetName string) *gate {
	row, err := e.Store.CabinetNamed(cabinetName)
	if err != nil {
		return nil
	}
	g, err := e.gate(row.ID)
	if err != nil {
		return nil
	}
	return g
}

// foresee says whether an item's name is taken.
func (e *Engine) foresee(ctx context.Context, g *gate, item *RehearsedItem, wanted map[string]bool) {
	if len(item.Unknown) > 0 {
		return // the name is not settled before a number is drawn
	}
	key := item.Target.Cabinet + "\x00" + safename.Fold(item.Path())
	replaces := item.IfExists == "replace"
	if wanted[key] && !replaces {
		item.Clash = "another attachment in this list gets the same name; one of them would become “" + safename.Numbered(item.Stem, item.Ext, 2) + "”"
	}
	wanted[key] = true
	if g == nil || item.Clash != "" {
		return
	}
	spot, err := g.cabinet.Resolve(ctx, item.Segments, item.Stem+item.Ext)
	if err != nil {
		return // the cabinet is out of reach; the tray says so
	}
	if spot.Taken {
		switch item.IfExists {
		case "keep":
			item.Clash = fmt.Sprintf("“%s” is there already and would be kept", path.Base(spot.By))
		case "replace":
			item.Clash = fmt.Sprintf("“%s” is there already; if this message came later and nobody changed the file, it is replaced and kept aside", path.Base(spot.By))
		default:
			item.Clash = fmt.Sprintf("“%s” is there already; with another content it would become “%s”", path.Base(spot.By), safename.Numbered(item.Stem, item.Ext, 2))
		}
	}
}
