package jmap

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
)

const (
	mostIDs    = 20_000_000 // messages of a folder
	pageOfIDs  = 10_000     // messages whose names are asked for at once
	mostChange = 4_000      // changes that are asked for at once
	factsBatch = 100        // messages whose facts are asked for at once
	relist     = 24 * time.Hour
	justNow    = 300 * time.Millisecond
)

var errNoChanges = errors.New("the server says again and again that there are more changes, and names none")

// Session reads one mailbox and the accounts that are shared with it.
type Session struct {
	config   Config
	client   *client
	known    *knowledge          // shared with the other sessions of the mailbox
	accounts map[string]*account // by their id; those of the session, as they are known together
	seen     map[string]seen     // by account: what Wait reported last
	versions map[string]int      // by account: the version of the folders that places shows
	places   map[string]place    // folders by path
	listing  []source.Folder
	open     place

	recent map[string]*email // messages whose facts were read last
	last   struct {          // the message that was read last
		id    string
		email *email
		raw   *mail.Raw
	}

	push   atomic.Bool // the server announces what changes
	began  sync.Once   // listening begins with the first wait: a session that only works needs no announcements
	news   chan struct{}
	cancel context.CancelFunc
	ended  sync.WaitGroup
}

var _ source.Session = (*Session)(nil)
var _ source.Glancer = (*Session)(nil)

// account is what is known of the messages of one account. What changed since state brings its lists up to
// date.
type account struct {
	id        string
	name      string
	mailboxes string // state of the folders
	version   int    // counts changes to the folders other than to their counts
	state     string // state of the messages; "" while no folder was listed
	lists     map[string]*list
	entered   int // how many messages came into one of the lists so far
	updated   time.Time
}

// seen is how an account stood when a session reported what is new.
type seen struct {
	state   string
	entered int
}

// list is the messages of one folder.
type list struct {
	uids     map[string]uint32 // the numbers of the messages by their names; 0 while a message has none
	names    map[uint32]string
	order    []uint32 // numbers, ascending
	fresh    []string // names of messages that have no number yet, in their order
	listedAt time.Time
}

func (l *list) has(id string) bool {
	_, there := l.uids[id]
	return there
}

func (l *list) enter(id string) {
	if !l.has(id) {
		l.uids[id] = 0
		l.fresh = append(l.fresh, id)
	}
}

func (l *list) leave(id string) {
	uid := l.uids[id]
	delete(l.uids, id)
	delete(l.names, uid)
	if at, numbered := slices.BinarySearch(l.order, uid); numbered {
		l.order = slices.Delete(l.order, at, at+1)
	}
	l.fresh = slices.DeleteFunc(l.fresh, func(f string) bool { return f == id })
}

// number gives messages their numbers.
func (l *list) number(ctx context.Context, numbers *source.Numbered, key string) (*source.Numbering, error) {
	numbering, err := numbers.Of(ctx, key, l.fresh)
	if err != nil {
		return nil, err
	}
	for _, id := range l.fresh {
		uid := numbering.UIDs[id]
		l.uids[id], l.names[uid], l.order = uid, id, append(l.order, uid)
	}
	if l.fresh = nil; !slices.IsSorted(l.order) { // one that left came back under its old number
		slices.Sort(l.order)
	}
	return numbering, nil
}

// place is a folder of an account.
type place struct {
	account *account
	id      string
	path    string
}

// key names a folder's numbers: it stays the same where the folder is renamed.
func (p place) key() string { return p.account.id + "/" + p.id }

// Dial signs in. The error, if any, is a *source.Error.
func Dial(ctx context.Context, c Config) (*Session, error) {
	s := start(c)
	if err := s.meet(ctx); err != nil {
		_ = s.Close() // it holds nothing that could be lost
		return nil, err
	}
	return s, nil
}

func start(c Config) *Session {
	c.complete()
	s := &Session{config: c, accounts: map[string]*account{}, seen: map[string]seen{}, versions: map[string]int{},
		news: make(chan struct{}, 1)}
	s.client = newClient(&s.config)
	return s
}

// meet reads the session resource and finds the accounts.
func (s *Session) meet(ctx context.Context) error {
	if s.config.Encryption == reach.StartTLS {
		return &source.Error{Step: source.Encryption, Problem: "JMAP has no encryption that begins later",
			Advice: "Choose tls.", Lasting: true}
	}
	if err := s.client.meet(ctx); err != nil {
		return s.client.explain(source.Connection, "asking for the session", err)
	}
	if s.config.Shared != nil {
		s.known = s.config.Shared.join(s.config.Numbers)
	} else {
		s.known = newKnowledge(s.config.Numbers)
	}
	err := s.alone(ctx, func() error {
		for id, a := range s.client.session.Accounts {
			if a.Capabilities[mailAbout] == nil {
				continue
			}
			if s.known.accounts[id] == nil {
				s.known.accounts[id] = &account{id: id, lists: map[string]*list{}}
			}
			known := s.known.accounts[id]
			s.accounts[id], s.seen[id] = known, seen{known.state, known.entered}
		}
		nameAccounts(s)
		return nil
	})
	if err != nil {
		return err
	}
	if s.accounts[s.primary()] == nil {
		return &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the account of %q has no mail", s.config.Username),
			Advice: "Ask the administrator of the mail server.", Lasting: true}
	}
	return nil
}

// nameAccounts gives each account the name under which its folders stand. Two of one name are told apart by their ids.
func nameAccounts(s *Session) {
	named := map[string]int{}
	for id := range s.accounts {
		named[s.client.session.Accounts[id].Name]++
	}
	for id, a := range s.accounts {
		if a.name = s.client.session.Accounts[id].Name; named[a.name] > 1 {
			a.name += " " + id
		}
	}
}

func (s *Session) primary() string { return s.client.session.PrimaryAccounts[mailAbout] }

// Check goes through the steps of reaching a mailbox.
func Check(ctx context.Context, c Config) []source.Check {
	var checks []source.Check
	fail := func(err error) []source.Check {
		e := &source.Error{Step: source.Connection, Problem: err.Error()}
		errors.As(err, &e)
		return append(checks, source.Check{Step: e.Step, Detail: e.Problem, Advice: e.Advice})
	}
	s := start(c)
	defer s.Close()
	conn, _, err := s.config.Connect(ctx, func(step source.Step, format string, args ...any) {
		checks = append(checks, source.Check{Step: step, OK: true, Detail: fmt.Sprintf(format, args...)})
	})
	if err != nil {
		return fail(err)
	}
	if err := conn.Close(); err != nil {
		return fail(err)
	}
	checks = append(checks, source.Check{Step: source.Encryption, OK: true, Detail: s.config.Secured()})
	if err := s.meet(ctx); err != nil {
		return fail(err)
	}
	checks = append(checks, source.Check{Step: source.SignIn, OK: true, Detail: "signed in as " + s.config.Username})
	folders, err := s.Folders(ctx)
	if err != nil {
		return fail(err)
	}
	checks = append(checks, source.Check{Step: source.Folders, OK: true,
		Detail: fmt.Sprintf("%d folders; the inbox can be opened", len(folders))})
	push := source.Check{Step: source.Push, OK: true,
		Detail: "the server cannot announce new mail; Ink Tray checks the mailbox at the interval"}
	if by := announces(ctx, s); by != "" {
		push.Detail = "the server announces new mail in every folder immediately (" + by + ")"
	}
	return append(checks, push)
}

// mailbox is what is read of a Mailbox object (RFC 8621 section 2).
type mailbox struct {
	ID       string
	Name     string
	ParentID *string
	Role     *string
	MyRights struct {
		MayReadItems bool
	}
}

// roles are the roles of folders by their names in JMAP (RFC 8621 section 2).
var roles = map[string]string{"inbox": "inbox", "archive": "archive", "drafts": "drafts", "sent": "sent",
	"junk": "junk", "trash": "trash", "all": "all", "flagged": "flagged"}

// others is where the folders of other accounts stand, as IMAP servers mostly have it.
const others = "Other Users/"

// Folders lists the folders, those of other accounts included.
func (s *Session) Folders(ctx context.Context) (all []source.Folder, err error) {
	err = s.alone(ctx, func() error {
		all, err = folders(ctx, s)
		return err
	})
	return all, err
}

func folders(ctx context.Context, s *Session) ([]source.Folder, error) {
	places, listing := map[string]place{}, []source.Folder{}
	for _, id := range slices.Sorted(maps.Keys(s.accounts)) {
		a := s.accounts[id]
		var got struct {
			State string
			List  []mailbox
		}
		err := s.client.calls(ctx, call{"Mailbox/get", map[string]any{"accountId": id, "ids": nil}, &got})
		if id != s.primary() && (isMethod(err, "forbidden") || isMethod(err, "accountNotFound") ||
			isMethod(err, "accountNotSupportedByMethod")) { // what others no longer let one read is no reason to read nothing
			s.versions[id] = a.version
			continue
		}
		if err != nil {
			return nil, s.client.explain(source.Folders, "listing the folders", err)
		}
		if a.mailboxes != got.State && a.mailboxes != "" {
			a.version++ // the other sessions list them again
		}
		a.mailboxes, s.versions[id] = got.State, a.version
		for path, m := range paths(got.List) {
			f := source.Folder{Path: path, Selectable: m.MyRights.MayReadItems}
			if m.Role != nil {
				f.Role = roles[strings.ToLower(*m.Role)]
			}
			if id != s.primary() {
				f.Shared, f.Role = true, "" // another's drafts are not one's own
				f.Path = strings.TrimSuffix(others+a.stand()+"/"+strings.TrimPrefix(path, "INBOX"), "/")
			}
			places[f.Path] = place{a, m.ID, f.Path}
			listing = append(listing, f)
		}
	}
	slices.SortFunc(listing, func(a, b source.Folder) int { return strings.Compare(a.Path, b.Path) })
	s.places, s.listing = places, listing
	return slices.Clone(listing), nil
}

// level makes a name into one level of a path.
func level(name string) string { return strings.ReplaceAll(name, "/", "∕") }

// paths names folders by where they are: the inbox is "INBOX", levels are parted by "/".
func paths(all []mailbox) map[string]mailbox {
	byID := map[string]mailbox{}
	for _, m := range all {
		byID[m.ID] = m
	}
	found := map[string]mailbox{}
	for _, m := range all {
		path, depth := "", 0
		for at, ok := m, true; ok && depth < 100; depth++ {
			name := level(at.Name)
			if at.Role != nil && strings.EqualFold(*at.Role, "inbox") {
				name = "INBOX"
			}
			if path = name + "/" + path; at.ParentID == nil {
				break
			}
			at, ok = byID[*at.ParentID]
		}
		path = strings.TrimSuffix(path, "/")
		if _, taken := found[path]; taken || depth >= 100 || path == "" {
			path = level(m.Name) + " " + m.ID // two of one name, or folders within each other
		}
		found[path] = m
	}
	return found
}

// place finds a folder, asking the server again where it is not known.
func (s *Session) place(ctx context.Context, folder string) (place, error) {
	refresh(s)
	if p, ok := s.places[folder]; ok {
		return p, nil
	}
	if _, err := folders(ctx, s); err != nil {
		return place{}, err
	}
	p, ok := s.places[folder]
	if !ok {
		return place{}, noFolder(folder)
	}
	return p, nil
}

// refresh forgets the folders if any session saw that they changed.
func refresh(s *Session) {
	for id, a := range s.accounts {
		if s.versions[id] != a.version {
			s.places = nil
		}
	}
}

func noFolder(folder string) error {
	return &source.Error{Step: source.Folders, Problem: fmt.Sprintf("there is no folder %q in the mailbox", folder),
		Advice: "Choose another folder, or make it on the mail server.", Lasting: true}
}

// stand is how the folders of an account of another are called.
func (a *account) stand() string { return level(cmp.Or(a.name, a.id)) }

// shares finds the account of another by how its folders are called; nil where nobody shares one.
func shares(s *Session, name string) *account {
	for id, a := range s.accounts {
		if id != s.primary() && a.stand() == name {
			return a
		}
	}
	return nil
}

// Open brings what is known of a folder up to date.
func (s *Session) Open(ctx context.Context, folder string) (state source.State, err error) {
	err = s.alone(ctx, func() error {
		state, err = opened(ctx, s, folder)
		return err
	})
	return state, err
}

func opened(ctx context.Context, s *Session, folder string) (source.State, error) {
	p, err := s.place(ctx, folder)
	if err != nil {
		return source.State{}, err
	}
	if err := s.update(ctx, p.account); err != nil {
		return source.State{}, err
	}
	if p, err = s.place(ctx, folder); err != nil { // it may be another, or gone
		return source.State{}, err
	}
	s.open = p
	return s.stateOf(ctx, p)
}

// stateOf says how a folder stands.
func (s *Session) stateOf(ctx context.Context, p place) (source.State, error) {
	l, err := s.listed(ctx, p)
	if err != nil {
		return source.State{}, err
	}
	numbering, err := l.number(ctx, &s.known.numbers, p.key())
	if err != nil {
		return source.State{}, err
	}
	return source.State{UIDValidity: numbering.UIDValidity, UIDNext: numbering.UIDNext,
		Messages: uint32(len(l.order))}, nil
}

// current is the list of the open folder, in which each message has its number.
func (s *Session) current(ctx context.Context) (*list, error) {
	l, err := s.listed(ctx, s.open)
	if err != nil {
		return nil, err
	}
	_, err = l.number(ctx, &s.known.numbers, s.open.key())
	return l, err
}

// Glance gives the state of folders.
func (s *Session) Glance(ctx context.Context, folders []string) (states map[string]source.State, err error) {
	err = s.alone(ctx, func() error {
		states, err = glance(ctx, s, folders)
		return err
	})
	return states, err
}

func glance(ctx context.Context, s *Session, folders []string) (map[string]source.State, error) {
	states := map[string]source.State{}
	done := map[*account]bool{}
	for _, f := range folders {
		p, err := s.place(ctx, f)
		if err != nil {
			var missing *source.Error
			if errors.As(err, &missing) && missing.Step == source.Folders && missing.Lasting {
				continue
			}
			return nil, err
		}
		if !done[p.account] && time.Since(p.account.updated) > justNow { // else a folder was opened a moment ago
			if err := s.update(ctx, p.account); err != nil {
				return nil, err
			}
		}
		done[p.account] = true
		refresh(s)
		if p, ok := s.places[f]; ok {
			if states[f], err = s.stateOf(ctx, p); err != nil {
				return nil, err
			}
		}
	}
	return states, nil
}

// changes is the answer to /changes (RFC 8620 section 5.2).
type changes struct {
	OldState, NewState          string
	HasMoreChanges              bool
	Created, Updated, Destroyed []string
	UpdatedProperties           []string
}

// update asks in one exchange what changed in an account since the last time.
func (s *Session) update(ctx context.Context, a *account) error {
	if a.state == "" {
		return nil
	}
	var folders, messages changes
	since := func(state string) map[string]any {
		return map[string]any{"accountId": a.id, "sinceState": state, "maxChanges": mostChange}
	}
	err := s.client.calls(ctx, call{"Email/changes", since(a.state), &messages},
		call{"Mailbox/changes", since(a.mailboxes), &folders})
	if isMethod(err, "cannotCalculateChanges") { // everything is asked for anew
		a.state, a.lists = "", map[string]*list{}
		a.version++
		return nil
	}
	if err != nil {
		return s.client.explain(source.Folders, "asking what is new", err)
	}
	if len(folders.Created)+len(folders.Destroyed) > 0 || folders.HasMoreChanges ||
		len(folders.Updated) > 0 && !onlyCounts(folders.UpdatedProperties) {
		a.version++
	} else if folders.NewState != "" {
		a.mailboxes = folders.NewState
	}
	for round := 0; ; round++ {
		if err := take(ctx, s, a, &messages); err != nil {
			return err
		}
		before := a.state
		if a.state = messages.NewState; !messages.HasMoreChanges {
			a.updated = time.Now()
			return nil
		}
		if a.state == before || round > 100_000 {
			a.state, a.lists = "", map[string]*list{}
			return s.client.explain(source.Folders, "asking what is new", errNoChanges)
		}
		messages = changes{}
		err := s.client.calls(ctx, call{"Email/changes", since(a.state), &messages})
		if isMethod(err, "cannotCalculateChanges") {
			a.state, a.lists = "", map[string]*list{}
			return nil
		}
		if err != nil {
			return s.client.explain(source.Folders, "asking what is new", err)
		}
	}
}

// onlyCounts says whether nothing but how many messages there are changed in folders (RFC 8621 section 2.2).
func onlyCounts(properties []string) bool {
	return len(properties) > 0 && !slices.ContainsFunc(properties, func(p string) bool {
		return p != "totalEmails" && p != "unreadEmails" && p != "totalThreads" && p != "unreadThreads"
	})
}

// take brings the lists up to date with what changed.
func take(ctx context.Context, s *Session, a *account, c *changes) error {
	for _, id := range c.Destroyed {
		for _, l := range a.lists {
			l.leave(id)
		}
		delete(s.recent, id)
		if s.last.id == id {
			s.last.id, s.last.email, s.last.raw = "", nil, nil
		}
	}
	changed := slices.Concat(c.Created, c.Updated)
	for some := range slices.Chunk(changed, max(1, min(s.client.session.limits.ObjectsInGet, 500))) {
		var got struct {
			List []struct {
				ID         string
				MailboxIDs map[string]bool
			}
			NotFound []string
		}
		err := s.client.calls(ctx, call{"Email/get", map[string]any{"accountId": a.id, "ids": some,
			"properties": []string{"id", "mailboxIds"}}, &got})
		if err != nil {
			return s.client.explain(source.Folders, "asking what is new", err)
		}
		for _, m := range got.List {
			for id, l := range a.lists {
				if m.MailboxIDs[id] {
					if !l.has(m.ID) {
						a.entered++
					}
					l.enter(m.ID)
				} else {
					l.leave(m.ID)
				}
			}
		}
		for _, id := range got.NotFound {
			for _, l := range a.lists {
				l.leave(id)
			}
		}
	}
	return nil
}

// listed gives the list of a folder, reading it the first time and once a day.
func (s *Session) listed(ctx context.Context, p place) (*list, error) {
	if l := p.account.lists[p.id]; l != nil && time.Since(l.listedAt) < relist {
		return l, nil
	}
	a := p.account
	if a.state == "" { // what changes from here on is asked for later
		var got struct{ State string }
		err := s.client.calls(ctx, call{"Email/get", map[string]any{"accountId": a.id, "ids": []string{},
			"properties": []string{"id"}}, &got})
		if err != nil {
			return nil, s.client.explain(source.Folders, "asking how the account stands", err)
		}
		a.state = got.State
	}
	ids, err := s.query(ctx, a, map[string]any{"inMailbox": p.id})
	if err != nil {
		return nil, s.client.explain(source.Folders, "listing the messages", err)
	}
	l := &list{uids: make(map[string]uint32, len(ids)), names: make(map[uint32]string, len(ids)), listedAt: time.Now()}
	for _, id := range ids {
		l.enter(id)
	}
	a.lists[p.id] = l
	return l, s.update(ctx, a) // what came while the pages were read
}

// query lists the names of messages, those that were received first before the others (RFC 8621 section 4.4). It goes
// on from the last message of each page, so that nothing is passed over where messages leave the folder meanwhile.
func (s *Session) query(ctx context.Context, a *account, filter map[string]any) ([]string, error) {
	var all []string
	seen := map[string]bool{}
	for tries := 0; ; {
		args := map[string]any{"accountId": a.id, "filter": filter, "limit": pageOfIDs, "calculateTotal": true,
			"sort": []any{map[string]any{"property": "receivedAt", "isAscending": true}}}
		if len(all) > 0 {
			args["anchor"], args["anchorOffset"] = all[len(all)-1], 1
		}
		var got struct {
			IDs   []string
			Total int
		}
		err := s.client.calls(ctx, call{"Email/query", args, &got})
		if isMethod(err, "anchorNotFound") && tries < 5 {
			tries++
			all, seen = nil, map[string]bool{}
			continue
		}
		if err != nil {
			return nil, err
		}
		if len(all)+len(got.IDs) > mostIDs {
			return nil, errTooMuch
		}
		before := len(all)
		for _, id := range got.IDs {
			if !seen[id] {
				seen[id] = true
				all = append(all, id)
			}
		}
		if len(all) == before || len(all) >= got.Total && got.Total > 0 {
			return all, nil
		}
	}
}

// UIDs lists messages of the open folder.
func (s *Session) UIDs(ctx context.Context, q source.Query) (uids []uint32, err error) {
	err = s.alone(ctx, func() error {
		uids, err = find(ctx, s, q)
		return err
	})
	return uids, err
}

// find lists messages of the open folder, in ascending order.
func find(ctx context.Context, s *Session, q source.Query) ([]uint32, error) {
	l, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	var uids []uint32
	within := func(uid uint32) bool { return uid >= q.From && (q.To == 0 || uid <= q.To) }
	if q.Since.IsZero() && len(q.Keywords) == 0 {
		from, _ := slices.BinarySearch(l.order, q.From)
		for _, uid := range l.order[from:] {
			if !within(uid) {
				break
			}
			uids = append(uids, uid)
		}
		return uids, nil
	}
	conditions := []any{map[string]any{"inMailbox": s.open.id}}
	if !q.Since.IsZero() {
		day := q.Since.UTC().AddDate(0, 0, -1).Format(time.RFC3339)
		conditions = append(conditions, map[string]any{"after": day})
	}
	if len(q.Keywords) > 0 {
		var any []any
		for _, k := range q.Keywords {
			any = append(any, map[string]string{"hasKeyword": keyword(k)})
		}
		conditions = append(conditions, map[string]interface{}{"operator": "OR", "conditions": any})
	}
	ids, err := s.query(ctx, s.open.account, map[string]any{"operator": "AND", "conditions": conditions})
	if err != nil {
		return nil, s.client.explain(source.Folders, "looking for messages", err)
	}
	for _, id := range ids {
		if uid := l.uids[id]; uid > 0 && within(uid) {
			uids = append(uids, uid)
		}
	}
	slices.Sort(uids)
	return uids, nil
}

// systemKeywords are those that IMAP knows as system flags (RFC 8621 section 4.1.1).
var systemKeywords = map[string]string{`\seen`: "$seen", `\flagged`: "$flagged", `\answered`: "$answered",
	`\draft`: "$draft"}

// keyword is what a flag of IMAP is called in JMAP.
func keyword(flag string) string {
	flag = strings.ToLower(flag)
	if k, ok := systemKeywords[flag]; ok {
		return k
	}
	return flag
}

// flags are what keywords are called in IMAP.
func flags(keywords map[string]bool) []string {
	var all []string
	for _, k := range slices.Sorted(maps.Keys(keywords)) {
		if !keywords[k] {
			continue
		}
		switch k = strings.ToLower(k); k {
		case "$seen", "$flagged", "$answered", "$draft":
			k = `\` + strings.ToUpper(k[1:2]) + k[2:]
		}
		all = append(all, k)
	}
	return all
}

// Changed knows of nothing: labels are found by UIDs, since the state of a folder has no mod-sequence.
func (s *Session) Changed(context.Context, uint64) ([]uint32, error) { return nil, nil }

// Close ends the session.
func (s *Session) Close() error {
	if s.cancel != nil {
		s.cancel()
	}
	s.ended.Wait()
	if s.known != nil && s.config.Shared != nil {
		s.config.Shared.leave()
	}
	s.known = nil
	s.client.close()
	return nil
}
