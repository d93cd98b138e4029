package imap

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
)

// batch is how many messages one FETCH asks for.
const batch = 500

// maxWhole bounds a message that must be read whole because the server's
// account of its structure is unusable, in octets.
const maxWhole = 128 << 20

// Session is one connection to an IMAP mailbox.
type Session struct {
	config  Config
	client  *imapclient.Client
	guard   *guard
	events  chan source.Event
	names   map[string]string // folder path to the server's name
	folder  string
	state   source.State // of the folder when it was opened
	noStore bool         // the server knows no CONDSTORE

	elsewhere func(name string) // is told of a folder in which something happened

	prefixes  []string       // of other users' and shared folders; nil until asked
	separator rune           // of the server's folder names
	keeps     []imaplib.Flag // that can be put on messages of the folder opened by Write
	arrival   arrival        // of the message that is being read whole
	labels    bool           // changes of flags in other folders are announced, too
	refused   bool           // the server does not announce what comes into other folders
}

var _ source.Session = (*Session)(nil)

// BytesRead counts the octets that came from the server on this connection.
func (s *Session) BytesRead() int64 { return s.guard.read.Load() }

func (s *Session) handler() *imapclient.UnilateralDataHandler {
	tell := func(e source.Event) {
		e.At = time.Now()
		for {
			select {
			case s.events <- e:
				return
			case old := <-s.events: // keep the first moment, join what happened
				e = source.Event{At: old.At, Arrived: old.Arrived || e.Arrived, Flags: old.Flags || e.Flags,
					Folders: e.Folders.With(old.Folders)}
			}
		}
	}
	s.elsewhere = func(name string) { tell(source.Event{Folders: source.Names{name: true}}) }
	return &imapclient.UnilateralDataHandler{
		Mailbox: func(d *imapclient.UnilateralDataMailbox) {
			if d.NumMessages != nil {
				tell(source.Event{Arrived: true})
			}
		},
		Fetch: func(m *imapclient.FetchMessageData) {
			for m.Next() != nil {
			}
			tell(source.Event{Flags: true})
		},
	}
}

// run does one exchange; when ctx ends, the connection is cut.
func (s *Session) run(ctx context.Context, f func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	conn := s.guard.Conn
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	s.guard.begin()
	defer s.guard.end()
	err := f()
	if !stop() && ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// lost says what went wrong in an exchange, and what to do about it.
func (s *Session) lost(step source.Step, doing string, err error) error {
	var known *source.Error
	if errors.As(err, &known) {
		return err
	}
	var answer *imaplib.Error
	if !errors.As(err, &answer) {
		e := &source.Error{Step: source.Connection,
			Problem: fmt.Sprintf("%s: the connection ended (%v)%s", doing, reach.Cause(err), s.guard.farewell()), Err: err}
		e.Slow, e.After = reach.SlowDown(s.guard.farewell())
		return e
	}
	e := &source.Error{Step: step, Problem: fmt.Sprintf("%s: the server refuses (%s)", doing, answer.Text), Err: err}
	switch answer.Code {
	case imaplib.ResponseCodeOverQuota:
		e.Problem, e.Advice = fmt.Sprintf("%s: the mailbox is full (%s)", doing, answer.Text), "Free some space in the "+
			"mailbox, or ask for more; then try again."
	case imaplib.ResponseCodeLimit, imaplib.ResponseCodeUnavailable, imaplib.ResponseCodeInUse,
		imaplib.ResponseCodeServerBug, "THROTTLED":
		e.Step, e.Problem, e.Advice = source.Connection, fmt.Sprintf("%s: the server asks to wait (%s)", doing, answer.Text),
			"Ink Tray waits and goes on by itself."
		e.Slow, e.After = slowDown(answer)
	case imaplib.ResponseCodeNoPerm:
		e.Advice = "Ask the administrator of the mail server for more rights on this folder."
	}
	return e
}

var roles = map[imaplib.MailboxAttr]string{
	imaplib.MailboxAttrArchive: "archive", imaplib.MailboxAttrDrafts: "drafts", imaplib.MailboxAttrSent: "sent",
	imaplib.MailboxAttrJunk: "junk", imaplib.MailboxAttrTrash: "trash", imaplib.MailboxAttrAll: "all",
	imaplib.MailboxAttrFlagged: "flagged",
}

// Folders lists the folders, those of other users and shared ones included (RFC
// 2342). A level's own "/" becomes a division slash, so that "/" is always a level.
func (s *Session) Folders(ctx context.Context) ([]source.Folder, error) {
	shared, err := s.sharedPrefixes(ctx)
	if err != nil {
		return nil, err
	}
	var all []*imaplib.ListData
	for _, reference := range append([]string{""}, shared...) {
		var list []*imaplib.ListData
		err := s.run(ctx, func() (err error) {
			options := &imaplib.ListOptions{ReturnSpecialUse: s.client.Caps().Has(imaplib.CapSpecialUse)}
			list, err = s.client.List("", reference+"*", options).Collect()
			return err
		})
		if err != nil {
			return nil, s.lost(source.Folders, "listing the folders", err)
		}
		all = append(all, list...)
	}
	s.names = map[string]string{}
	var folders []source.Folder
	for _, d := range all {
		f := source.Folder{Path: d.Mailbox, Selectable: true}
		f.Shared = slices.ContainsFunc(shared,
			func(prefix string) bool { return strings.HasPrefix(d.Mailbox+string(d.Delim), prefix) })
		if d.Delim != 0 {
			s.separator = d.Delim
		}
		if d.Delim != 0 && d.Delim != '/' {
			f.Path = strings.ReplaceAll(strings.ReplaceAll(d.Mailbox, "/", "∕"), string(d.Delim), "/")
		}
		if strings.EqualFold(f.Path, "INBOX") {
			f.Path, f.Role = "INBOX", "inbox"
		}
		for _, a := range d.Attrs {
			if r := roles[a]; r != "" && !f.Shared { // another's drafts are not one's own
				f.Role = r
			}
			f.Selectable = f.Selectable && a != imaplib.MailboxAttrNoSelect && a != imaplib.MailboxAttrNonExistent
		}
		if !s.client.Caps().Has(imaplib.CapSpecialUse) && f.Role == "" && !f.Shared {
			f.Role = mail.RoleByName(f.Path)
		}
		if _, twice := s.names[f.Path]; twice {
			continue
		}
		s.names[f.Path] = d.Mailbox
		folders = append(folders, f)
	}
	for _, name := range s.guard.mender.unreadable() {
		folders = append(folders, source.Folder{Path: strings.ToValidUTF8(name, "\uFFFD"), Unreadable: true})
	}
	return folders, nil
}

// sharedPrefixes are how the names of other users' and of shared folders begin.
func (s *Session) sharedPrefixes(ctx context.Context) ([]string, error) {
	if s.prefixes != nil || !s.client.Caps().Has(imaplib.CapNamespace) {
		return s.prefixes, nil
	}
	var data *imaplib.NamespaceData
	err := s.run(ctx, func() (err error) { data, err = s.client.Namespace().Wait(); return err })
	if err != nil {
		return nil, s.lost(source.Folders, "asking for the namespaces", err)
	}
	s.prefixes = []string{}
	for _, n := range append(data.Other, data.Shared...) {
		if n.Prefix != "" {
			s.prefixes = append(s.prefixes, n.Prefix)
		}
	}
	return s.prefixes, nil
}

// Glance asks for the state of several folders at once (RFC 9051 section 6.3.11).
func (s *Session) Glance(ctx context.Context, folders []string) (map[string]source.State, error) {
	options := &imaplib.StatusOptions{NumMessages: true, UIDNext: true, UIDValidity: true,
		HighestModSeq: s.client.Caps().Has(imaplib.CapCondStore)}
	states := map[string]source.State{}
	if s.names == nil {
		if _, err := s.Folders(ctx); err != nil {
			return nil, err
		}
	}
	s.guard.mender.asks(true)
	defer s.guard.mender.asks(false)
	if 2*len(folders) >= len(s.names) && len(folders) > 1 && s.client.Caps().Has(imaplib.CapListStatus) {
		byName, err := glanceAll(ctx, s, options)
		if err != nil && !errors.As(err, new(*imaplib.Error)) {
			return nil, s.lost(source.Folders, "asking how the folders stand", err)
		}
		var rest []string // such as folders of others, which a server need not list among one's own
		for _, f := range folders {
			if data := byName[s.names[f]]; data != nil {
				states[f] = stateOf(data)
			} else {
				rest = append(rest, f)
			}
		}
		folders = rest
	}
	err := s.run(ctx, func() error {
		asked := map[string]*imapclient.StatusCommand{}
		for _, f := range folders {
			if name, ok := s.names[f]; ok {
				asked[f] = s.client.Status(name, options)
			}
		}
		for f, command := range asked {
			data, err := command.Wait()
			var answer *imaplib.Error
			if errors.As(err, &answer) {
				continue // it was removed meanwhile, or may not be read
			}
			if err != nil {
				return err
			}
			states[f] = stateOf(data)
		}
		return nil
	})
	if err != nil {
		return nil, s.lost(source.Folders, "asking how the folders stand", err)
	}
	return states, nil
}

func stateOf(data *imaplib.StatusData) source.State {
	state := source.State{UIDValidity: data.UIDValidity, UIDNext: uint32(data.UIDNext), ModSeq: data.HighestModSeq}
	if data.NumMessages != nil {
		state.Messages = *data.NumMessages
	}
	return state
}

// Open examines a folder, which leaves even \Recent as it is.
func (s *Session) Open(ctx context.Context, folder string) (source.State, error) {
	return s.choose(ctx, folder, true)
}

// choose opens a folder, for reading only or for changing it.
func (s *Session) choose(ctx context.Context, folder string, readOnly bool) (source.State, error) {
	name := "INBOX"
	if folder != "INBOX" {
		if s.names == nil {
			if _, err := s.Folders(ctx); err != nil {
				return source.State{}, err
			}
		}
		var ok bool
		if name, ok = s.names[folder]; !ok {
			s.names = nil
			return source.State{}, &source.Error{Step: source.Folders, Problem: fmt.Sprintf("there is no folder %q in the "+
				"mailbox", folder), Advice: "Choose one of its folders, or make this one in the mail program.", Lasting: true}
		}
	}
	s.drain()
	var data *imaplib.SelectData
	err := s.run(ctx, func() (err error) {
		options := &imaplib.SelectOptions{ReadOnly: readOnly, CondStore: s.client.Caps().Has(imaplib.CapCondStore)}
		data, err = s.client.Select(name, options).Wait()
		return err
	})
	if err != nil {
		return source.State{}, s.lost(source.Folders, fmt.Sprintf("opening the folder %q", folder), err)
	}
	s.folder, s.keeps = folder, data.PermanentFlags
	state := source.State{UIDValidity: data.UIDValidity, UIDNext: uint32(data.UIDNext), Messages: data.NumMessages,
		ModSeq: data.HighestModSeq}
	s.noStore = state.ModSeq == 0
	s.state = state
	if state.UIDNext == 0 { // allowed by RFC 3501: ask for the last message
		uids, err := s.UIDs(ctx, source.Query{})
		if err != nil {
			return state, err
		}
		state.UIDNext = 1
		if len(uids) > 0 {
			state.UIDNext = uids[len(uids)-1] + 1
		}
	}
	return state, nil // what is announced from here on counts
}

// drain forgets what was announced before: the folder is looked at again anyway.
func (s *Session) drain() {
	select {
	case <-s.events:
	default:
	}
}

// UIDs searches by what servers agree on: UID, date and flags, never text.
func (s *Session) UIDs(ctx context.Context, q source.Query) ([]uint32, error) {
	from := max(q.From, 1)
	to := q.To
	if to == 0 {
		to = math.MaxUint32 // not "*": GNU Mailutils finds nothing with it
	}
	criteria := &imaplib.SearchCriteria{}
	if !q.Since.IsZero() {
		criteria.Since = q.Since.AddDate(0, 0, -1)
	}
	var any *imaplib.SearchCriteria
	for _, k := range q.Keywords {
		one := imaplib.SearchCriteria{Flag: []imaplib.Flag{imaplib.Flag(k)}}
		if any == nil {
			any = &one
		} else {
			any = &imaplib.SearchCriteria{Or: [][2]imaplib.SearchCriteria{{*any, one}}}
		}
	}
	if any != nil {
		criteria.And(any)
	}
	var options *imaplib.SearchOptions
	step := uint32(math.MaxUint32)
	if s.client.Caps().Has(imaplib.CapESearch) { // ranges instead of each number (RFC 4731)
		options = &imaplib.SearchOptions{ReturnAll: true}
	} else if s.state.Messages > mostInLine {
		step = mostInLine
	}
	var uids []uint32
	for low, last := from, false; !last; low += step {
		high := low + min(step-1, math.MaxUint32-low)
		if last = high >= to || high >= s.state.UIDNext; last { // there are few behind, if any
			high = to
		}
		var set imaplib.UIDSet
		set.AddRange(imaplib.UID(low), imaplib.UID(high))
		criteria.UID = []imaplib.UIDSet{set}
		err := s.run(ctx, func() error {
			data, err := s.client.UIDSearch(criteria, options).Wait()
			if err != nil {
				return err
			}
			some, err := numbersIn(data.All, low, high, min(int(s.state.Messages)+spareNumbers, mostNumbers)-len(uids))
			uids = append(uids, some...)
			return err
		})
		if err != nil {
			return nil, s.lost(source.Folders, "searching the folder", err)
		}
	}
	slices.Sort(uids)
	return slices.Compact(uids), nil
}

// Facts fetches header fields, structure, size, date and flags. Where the
// server's answer for a message cannot be read, the connection is made again,
// the message is found by halving, and read whole instead.
func (s *Session) Facts(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	var all []source.Facts
	for len(uids) > 0 {
		n := min(batch, len(uids))
		some, err := s.factsOf(ctx, uids[:n])
		if err != nil {
			return all, err
		}
		all = append(all, some...)
		uids = uids[n:]
	}
	return all, nil
}

func (s *Session) factsOf(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	facts, err := s.fetch(ctx, uids)
	if err == nil {
		if facts, err = s.complete(ctx, uids, facts); err != nil {
			return nil, err
		}
		return s.understand(ctx, facts)
	}
	if !s.unreadable(err) || ctx.Err() != nil {
		return nil, s.lost(source.Folders, "reading messages", err)
	}
	if err := s.again(ctx); err != nil {
		return nil, err
	}
	if len(uids) == 1 {
		return s.whole(ctx, uids[0])
	}
	half := len(uids) / 2
	first, err := s.factsOf(ctx, uids[:half])
	if err != nil {
		return nil, err
	}
	second, err := s.factsOf(ctx, uids[half:])
	return append(first, second...), err
}

// complete asks again for messages of which no answer came: a message counts as
// gone only where the folder no longer lists it.
func (s *Session) complete(ctx context.Context, uids []uint32, facts []source.Facts) ([]source.Facts, error) {
	asked := false // the server was asked for news
	for _, uid := range uids {
		if slices.ContainsFunc(facts, func(f source.Facts) bool { return f.UID == uid }) {
			continue
		}
		if !asked { // it may have come since the folder was opened
			if err := news(ctx, s); err != nil {
				return nil, err
			}
			asked = true
		}
		there, err := s.UIDs(ctx, source.Query{From: uid, To: uid})
		if err != nil {
			return nil, err
		}
		if len(there) == 0 {
			continue
		}
		one, err := s.fetch(ctx, []uint32{uid})
		if err != nil && s.unreadable(err) && ctx.Err() == nil { // the answer, not the server, is at fault
			if err = s.again(ctx); err == nil {
				one, err = s.whole(ctx, uid)
			}
		} else if err == nil && len(one) == 0 {
			one, err = s.whole(ctx, uid)
		}
		if err == nil && len(one) == 0 {
			return nil, &source.Error{Step: source.Folders, Problem: "the mail server lists the message and does not give it",
				Err: source.ErrNothing}
		}
		if err != nil {
			return nil, s.lost(source.Folders, fmt.Sprintf("reading the message with UID %d", uid), err)
		}
		facts = append(facts, one...)
	}
	slices.SortFunc(facts, func(a, b source.Facts) int { return int(int64(a.UID) - int64(b.UID)) })
	return facts, nil
}

// understand asks for what the server's account leaves open: a message whose structure
// cannot be true is read whole, and a part whose name is in doubt by its own header.
func (s *Session) understand(ctx context.Context, facts []source.Facts) ([]source.Facts, error) {
	var clear []source.Facts
	for i := range facts {
		f := &facts[i]
		switch {
		case f.Whole:
		case mail.Doubtful(f.Header, &f.Structure):
			whole, err := s.whole(ctx, f.UID)
			if err != nil {
				return nil, err
			}
			clear = append(clear, whole...)
			continue
		default:
			if err := nameParts(ctx, s, f); err != nil {
				return nil, err
			}
		}
		clear = append(clear, *f)
	}
	return clear, nil
}

// nameParts reads the headers of parts whose names are in doubt (RFC 9051 section 6.4.5,
// MIME). Where the server does not give them, the names stay as they are.
func nameParts(ctx context.Context, s *Session, f *source.Facts) error {
	if f.Structure.Type != "multipart" && len(f.Structure.Children) == 0 {
		f.Structure.Describe(f.Header) // the one part is described by the message's header
	}
	unnamed := f.Structure.Unnamed()
	if len(unnamed) == 0 {
		return nil
	}
	items := slices.Sorted(maps.Keys(unnamed))
	options := &imaplib.FetchOptions{UID: true}
	for _, item := range items {
		section, err := sectionOf(item)
		if err != nil {
			return err
		}
		section.Specifier, section.Peek = imaplib.PartSpecifierMIME, true
		options.BodySection = append(options.BodySection, section)
	}
	err := s.run(ctx, func() error {
		cmd := s.client.Fetch(imaplib.UIDSetNum(imaplib.UID(f.UID)), options)
		for m := cmd.Next(); m != nil; m = cmd.Next() {
			for data := m.Next(); data != nil; data = m.Next() {
				body, ok := data.(imapclient.FetchItemDataBodySection)
				if !ok || body.Literal == nil {
					continue
				}
				text, err := io.ReadAll(io.LimitReader(body.Literal, 64<<10))
				if err != nil {
					return err
				}
				for _, item := range items {
					if section, _ := sectionOf(item); slices.Equal(section.Part, body.Section.Part) {
						header, _ := mail.ParseHeader(text)
						unnamed[item].Describe(header)
					}
				}
			}
		}
		return cmd.Close()
	})
	switch {
	case err == nil:
		return nil
	case errors.As(err, new(*imaplib.Error)):
		return nil
	case s.unreadable(err) && ctx.Err() == nil:
		return s.again(ctx)
	}
	return s.lost(source.Connection, fmt.Sprintf("reading the names of the attachments of the message with UID %d", f.UID),
		err)
}

// sectionOf is the section of an item (RFC 9051 section 6.4.5).
func sectionOf(item string) (*imaplib.FetchItemBodySection, error) {
	section := &imaplib.FetchItemBodySection{Peek: true}
	for _, n := range strings.FieldsFunc(item, func(r rune) bool { return r == '.' || r == '/' }) {
		number, err := strconv.Atoi(n)
		if err != nil {
			return nil, fmt.Errorf("%q is not part of a message", item)
		}
		section.Part = append(section.Part, number)
	}
	return section, nil
}

// unreadable tells an answer that the parser refuses from a connection that broke:
// the parser ends the connection from this side, with all octets in order.
func (s *Session) unreadable(err error) bool {
	var answer *imaplib.Error
	var known *source.Error
	if errors.As(err, &answer) || errors.As(err, &known) {
		return false
	}
	return errors.Is(err, errHostile) || s.guard.lost() == nil && s.guard.bye.Load() == nil
}

// again makes the connection again and opens the same folder. The error is
// source.ErrRenumbered where the folder's messages have other numbers now.
func (s *Session) again(ctx context.Context) error {
	folder, before := s.folder, s.state.UIDValidity
	s.Close()
	if err := s.connect(ctx, func(source.Check) {}); err != nil {
		return err
	}
	state, err := s.Open(ctx, folder)
	if err == nil && state.UIDValidity != before {
		return &source.Error{Step: source.Connection, Problem: fmt.Sprintf("the mail server gave the messages of the "+
			"folder %q new numbers", folder),
			Advice: "Ink Tray looks into the folder again by itself.", Err: source.ErrRenumbered}
	}
	return err
}

var headerSection = &imaplib.FetchItemBodySection{Specifier: imaplib.PartSpecifierHeader,
	HeaderFields: mail.HeaderFields, Peek: true}

func (s *Session) fetch(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	facts := make([]source.Facts, 0, len(uids))
	got := map[uint32]bool{}
	err := s.run(ctx, func() error {
		cmd := s.client.Fetch(uidSet(uids), &imaplib.FetchOptions{
			UID: true, Flags: true, InternalDate: true, RFC822Size: true,
			BodyStructure: &imaplib.FetchItemBodyStructure{Extended: true},
			BodySection:   []*imaplib.FetchItemBodySection{headerSection},
		})
		for m := cmd.Next(); m != nil; m = cmd.Next() {
			f, complete, err := collect(m)
			if err != nil {
				cmd.Close()
				return err
			}
			if complete && !got[f.UID] { // an unsolicited FETCH of flags is none of ours
				got[f.UID] = true
				facts = append(facts, f)
			}
		}
		return cmd.Close()
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(facts, func(a, b source.Facts) int { return int(int64(a.UID) - int64(b.UID)) })
	return facts, nil
}

func collect(m *imapclient.FetchMessageData) (f source.Facts, complete bool, err error) {
	var header, structure bool
	for item := m.Next(); item != nil; item = m.Next() {
		switch item := item.(type) {
		case imapclient.FetchItemDataUID:
			f.UID = uint32(item.UID)
		case imapclient.FetchItemDataFlags:
			for _, flag := range item.Flags {
				f.Flags = append(f.Flags, string(flag))
			}
		case imapclient.FetchItemDataInternalDate:
			f.Received = item.Time
		case imapclient.FetchItemDataRFC822Size:
			f.Size = item.Size
		case imapclient.FetchItemDataBodyStructure:
			if item.BodyStructure != nil {
				f.Structure, structure = convert(item.BodyStructure, 0), true
			}
		case imapclient.FetchItemDataBodySection:
			if item.Literal == nil {
				continue
			}
			data, err := io.ReadAll(io.LimitReader(item.Literal, 1<<20))
			if err != nil {
				return f, false, err
			}
			if int64(len(data)) < min(item.Literal.Size(), 1<<20) {
				return f, false, io.ErrUnexpectedEOF // a cut connection ends a literal as if it were whole
			}
			f.Header, _ = mail.ParseHeader(data)
			header = true
		}
	}
	return f, header && structure && f.UID != 0 && !f.Received.IsZero(), nil
}

// convert takes a body structure over as it is; decoding is core's matter.
func convert(b imaplib.BodyStructure, depth int) mail.Structure {
	var s mail.Structure
	if depth > mail.MaxDepth {
		return s
	}
	if d := b.Disposition(); d != nil {
		s.Disposition, s.DispositionParams = d.Value, lowerKeys(d.Params)
	}
	switch b := b.(type) {
	case *imaplib.BodyStructureMultiPart:
		s.Type, s.Subtype = "multipart", strings.ToLower(b.Subtype)
		if b.Extended != nil {
			s.Params = lowerKeys(b.Extended.Params)
		}
		s.Bare = b.Extended == nil
		for _, c := range b.Children {
			s.Children = append(s.Children, convert(c, depth+1))
		}
	case *imaplib.BodyStructureSinglePart:
		s.Type, s.Subtype = strings.ToLower(b.Type), strings.ToLower(b.Subtype)
		s.Params, s.ID, s.Encoding, s.Size = lowerKeys(b.Params), b.ID, b.Encoding, int64(b.Size)
		s.Bare = b.Extended == nil
		if r := b.MessageRFC822; r != nil && r.BodyStructure != nil {
			s.Header = forwardHeader(r.Envelope)
			s.Children = []mail.Structure{convert(r.BodyStructure, depth+1)}
		}
	}
	return s
}

func lowerKeys(m map[string]string) map[string]string {
	if len(m) == 0 {
		return nil
	}
	out := make(map[string]string, len(m))
	for k, v := range m {
		out[strings.ToLower(k)] = v
	}
	return out
}

// forwardHeader writes a forwarded message's envelope back as header fields,
// the one form from which core reads envelopes.
func forwardHeader(e *imaplib.Envelope) mail.Header {
	if e == nil {
		return mail.Header{}
	}
	var h mail.Header
	put := func(name, value string) {
		if value != "" {
			h = append(h, mail.Field{Name: name, Value: value})
		}
	}
	addresses := func(list []imaplib.Address) string {
		var parts []string
		for _, a := range list {
			if a.Addr() != "" {
				parts = append(parts, strconv.Quote(a.Name)+" <"+a.Addr()+">")
			}
		}
		return strings.Join(parts, ", ")
	}
	put("From", addresses(e.From))
	put("To", addresses(e.To))
	put("Cc", addresses(e.Cc))
	put("Subject", e.Subject)
	if !e.Date.IsZero() {
		put("Date", e.Date.Format(time.RFC1123Z))
	}
	if e.MessageID != "" {
		put("Message-ID", "<"+e.MessageID+">")
	}
	return h
}

// arrival is when a message came, as it was asked for alone.
type arrival struct {
	validity, uid uint32
	time          time.Time
}

// askArrival asks when a message came, and nothing else: where the server's answer
// cannot be read, the message has no time of arrival.
func askArrival(ctx context.Context, s *Session, uid uint32) error {
	s.arrival = arrival{}
	var at time.Time
	err := s.run(ctx, func() error {
		got, err := s.client.Fetch(imaplib.UIDSetNum(imaplib.UID(uid)),
			&imaplib.FetchOptions{UID: true, InternalDate: true}).Collect()
		for _, m := range got {
			if uint32(m.UID) == uid {
				at = m.InternalDate
			}
		}
		return err
	})
	switch {
	case err == nil:
		s.arrival = arrival{s.state.UIDValidity, uid, at}
		return nil
	case s.unreadable(err) && ctx.Err() == nil:
		return s.again(ctx)
	case errors.As(err, new(*imaplib.Error)):
		return nil // the server does not say: the message itself may
	}
	return s.lost(source.Connection, fmt.Sprintf("asking when the message with UID %d came", uid), err)
}

// whole reads one message in full and understands it here.
func (s *Session) whole(ctx context.Context, uid uint32) ([]source.Facts, error) {
	if err := askArrival(ctx, s, uid); err != nil {
		return nil, err
	}
	data, f, err := s.message(ctx, uid)
	if errors.Is(err, source.ErrGone) {
		return nil, nil
	}
	if err != nil {
		return nil, s.lost(source.Folders, fmt.Sprintf("reading the message with UID %d whole", uid), err)
	}
	raw := mail.Parse(data)
	f.Header, f.Structure, f.Size, f.Whole = raw.Message.Header, raw.Structure(), raw.Message.Size, true
	return []source.Facts{f}, nil
}

// message reads one message whole.
func (s *Session) message(ctx context.Context, uid uint32) ([]byte, source.Facts, error) {
	data, f, err := fetchMessage(ctx, s, uid)
	if errors.Is(err, source.ErrGone) {
		if err = appeared(ctx, s, uid); err == nil {
			return fetchMessage(ctx, s, uid)
		}
	}
	return data, f, err
}

func fetchMessage(ctx context.Context, s *Session, uid uint32) ([]byte, source.Facts, error) {
	var f source.Facts
	var data []byte
	if at := s.arrival; at.uid == uid && at.validity == s.state.UIDValidity {
		f.Received = at.time
	}
	err := s.run(ctx, func() error {
		section := &imaplib.FetchItemBodySection{Peek: true}
		cmd := s.client.Fetch(imaplib.UIDSetNum(imaplib.UID(uid)),
			&imaplib.FetchOptions{UID: true, Flags: true, BodySection: []*imaplib.FetchItemBodySection{section}})
		for m := cmd.Next(); m != nil; m = cmd.Next() {
			for item := m.Next(); item != nil; item = m.Next() {
				switch item := item.(type) {
				case imapclient.FetchItemDataUID:
					f.UID = uint32(item.UID)
				case imapclient.FetchItemDataFlags:
					for _, flag := range item.Flags {
						f.Flags = append(f.Flags, string(flag))
					}
				case imapclient.FetchItemDataBodySection:
					if item.Literal == nil {
						continue
					}
					var b bytes.Buffer
					if _, err := io.Copy(&b, io.LimitReader(item.Literal, maxWhole)); err != nil {
						return err
					}
					if int64(b.Len()) != item.Literal.Size() {
						cmd.Close()
						if item.Literal.Size() > maxWhole {
							return fmt.Errorf("the message has %d MB and its structure cannot be read", item.Literal.Size()>>20)
						}
						return io.ErrUnexpectedEOF
					}
					data = b.Bytes()
				}
			}
		}
		return cmd.Close()
	})
	if err == nil && data == nil {
		err = source.ErrGone
	}
	return data, f, err
}

// Part streams one part's content.
func (s *Session) Part(ctx context.Context, facts *source.Facts, item string) (io.ReadCloser, error) {
	if facts.Whole {
		data, _, err := s.message(ctx, facts.UID)
		if err != nil {
			return nil, err
		}
		r, err := mail.Parse(data).Open(item)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(r), nil
	}
	r, err := s.section(ctx, facts.UID, item, nil)
	if _, nothing := r.(hollow); err != nil || !nothing || item == source.Header || item == source.Whole {
		return r, err
	}
	// GNU Mailutils gives nothing of parts inside forwarded messages: the part is
	// sought in the whole message.
	if part := facts.Message("").PartOf(item); part == nil || part.Size == 0 {
		return r, nil
	}
	whole := *facts
	whole.Whole = true
	return s.Part(ctx, &whole, item)
}

// hollow is a part of which the server gave nothing.
type hollow struct{ io.ReadCloser }

// Head reads the first octets of a part (RFC 9051 section 6.4.5, partial).
func (s *Session) Head(ctx context.Context, facts *source.Facts, item string, octets int64) ([]byte, error) {
	var r io.ReadCloser
	var err error
	if facts.Whole {
		r, err = s.Part(ctx, facts, item)
	} else {
		r, err = s.section(ctx, facts.UID, item, &imaplib.SectionPartial{Size: octets})
	}
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, octets))
	if closeErr := r.Close(); closeErr != nil {
		return nil, closeErr
	}
	return data, err
}

// section reads one section of a message.
func (s *Session) section(ctx context.Context, uid uint32, item string, partial *imaplib.SectionPartial) (io.ReadCloser,
	error) {
	r, err := fetchSection(ctx, s, uid, item, partial)
	if errors.Is(err, source.ErrGone) {
		if err = appeared(ctx, s, uid); err == nil {
			return fetchSection(ctx, s, uid, item, partial)
		}
	}
	return r, err
}

// appeared lets the server tell what is new in the folder that is open: during FETCH it may say nothing of messages
// that came since it was opened (RFC 9051 section 5.2). It returns source.ErrGone where the message is not there all
// the same.
func appeared(ctx context.Context, s *Session, uid uint32) error {
	if err := news(ctx, s); err != nil {
		return err
	}
	there, err := s.UIDs(ctx, source.Query{From: uid, To: uid})
	if err == nil && len(there) == 0 {
		return source.ErrGone
	}
	return err
}

// news lets the server tell what is new in the folder that is open (RFC 9051 section 6.1.2).
func news(ctx context.Context, s *Session) error {
	if err := s.run(ctx, func() error { return s.client.Noop().Wait() }); err != nil {
		return s.lost(source.Folders, "asking for news of the folder", err)
	}
	return nil
}

func fetchSection(ctx context.Context, s *Session, uid uint32, item string,
	partial *imaplib.SectionPartial) (io.ReadCloser, error) {
	wanted := &imaplib.FetchItemBodySection{Peek: true, Partial: partial}
	switch item {
	case source.Whole:
	case source.Header:
		wanted.Specifier = imaplib.PartSpecifierHeader
	default:
		section, err := sectionOf(item)
		if err != nil {
			return nil, err
		}
		wanted.Part = section.Part
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	conn := s.guard.Conn
	s.guard.begin()
	p := &part{session: s, conn: conn, stop: context.AfterFunc(ctx, func() { conn.Close() }),
		end: sync.OnceFunc(s.guard.end)}
	p.cmd = s.client.Fetch(imaplib.UIDSetNum(imaplib.UID(uid)),
		&imaplib.FetchOptions{UID: true, BodySection: []*imaplib.FetchItemBodySection{wanted}})
	for m := p.cmd.Next(); m != nil; m = p.cmd.Next() {
		for data := m.Next(); data != nil; data = m.Next() {
			if body, ok := data.(imapclient.FetchItemDataBodySection); ok {
				p.literal = body.Literal
				if p.literal == nil || p.literal.Size() == 0 {
					return s.nothing(ctx, p, uid, item)
				}
				p.left = p.literal.Size()
				return p, nil
			}
		}
	}
	p.stop()
	defer p.end()
	if err := p.cmd.Close(); err != nil {
		return nil, s.lost(source.Folders, "reading part "+item, err)
	}
	return nil, source.ErrGone
}

// nothing tells an empty part from a message that was taken away in another
// session, of which servers say NIL until they have told of it.
func (s *Session) nothing(ctx context.Context, p *part, uid uint32, item string) (io.ReadCloser, error) {
	p.stop()
	err := p.cmd.Close()
	p.end()
	if err == nil {
		err = s.run(ctx, func() error { return s.client.Noop().Wait() }) // it tells now
	}
	if err != nil {
		return nil, s.lost(source.Folders, "reading part "+item, err)
	}
	there, err := s.UIDs(ctx, source.Query{From: uid, To: uid})
	if err == nil && len(there) == 0 {
		err = source.ErrGone
	}
	if err != nil {
		return nil, err
	}
	return hollow{io.NopCloser(bytes.NewReader(nil))}, nil
}

type part struct {
	session *Session
	cmd     *imapclient.FetchCommand
	conn    net.Conn
	literal imaplib.LiteralReader
	left    int64
	cut     bool
	stop    func() bool
	end     func()
}

func (p *part) Read(b []byte) (int, error) {
	n, err := p.literal.Read(b)
	p.left -= int64(n)
	if err == io.EOF && p.left > 0 {
		p.cut, err = true, io.ErrUnexpectedEOF // go-imap ends a cut literal cleanly
	}
	return n, err
}

// Close reads to the end of the answer, so that the next command finds a clean line.
func (p *part) Close() error {
	defer p.end()
	if p.cut { // the connection is gone, and the library reads on by itself
		p.stop()
		p.conn.Close()
		return p.session.lost(source.Connection, "reading a part", io.ErrUnexpectedEOF)
	}
	_, err := io.Copy(io.Discard, p.literal)
	closeErr := p.cmd.Close()
	p.stop()
	if err == nil {
		err = closeErr
	}
	if err != nil {
		return p.session.lost(source.Connection, "reading a part", err)
	}
	return nil
}

// Changed asks for flags that changed since a mod-sequence (RFC 7162 section 3.1.4.1).
func (s *Session) Changed(ctx context.Context, since uint64) ([]uint32, error) {
	if s.noStore || since == 0 {
		return nil, nil
	}
	var uids []uint32
	err := s.run(ctx, func() error {
		if err := s.client.Noop().Wait(); err != nil { // a server need not look for news before a FETCH
			return err
		}
		set := imaplib.UIDSet{}
		set.AddRange(1, 0)
		cmd := s.client.Fetch(set, &imaplib.FetchOptions{UID: true, Flags: true, ModSeq: true, ChangedSince: since})
		for m := cmd.Next(); m != nil; m = cmd.Next() {
			for item := m.Next(); item != nil; item = m.Next() {
				if uid, ok := item.(imapclient.FetchItemDataUID); ok {
					uids = append(uids, uint32(uid.UID))
				}
			}
		}
		return cmd.Close()
	})
	if err != nil {
		return nil, s.lost(source.Folders, "asking for changed flags", err)
	}
	slices.Sort(uids)
	return slices.Compact(uids), nil
}

// Pushes says whether the server knows IDLE (RFC 2177).
func (s *Session) Pushes() bool { return s.client.Caps().Has(imaplib.CapIdle) }

// Wait idles, or sleeps where the server does not know IDLE.
func (s *Session) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	select {
	case e := <-s.events:
		return inPaths(s, e), nil
	default:
	}
	timer := time.NewTimer(longest)
	defer timer.Stop()
	var e source.Event
	if !s.Pushes() {
		select {
		case <-timer.C:
		case <-wake:
		case <-ctx.Done():
			return e, ctx.Err()
		}
		if err := s.run(ctx, func() error { return s.client.Noop().Wait() }); err != nil {
			return e, s.lost(source.Connection, "asking for news", err)
		}
		select {
		case e = <-s.events:
		default:
		}
		return inPaths(s, e), nil
	}
	err := s.run(ctx, func() error {
		s.guard.timeout.Store(int64(longest + s.config.timeout()))
		defer s.guard.timeout.Store(int64(s.config.timeout()))
		idle, err := s.client.Idle()
		if err != nil {
			return err
		}
		select {
		case e = <-s.events:
		case <-timer.C:
		case <-wake:
		case <-ctx.Done():
		case <-s.client.Closed():
		}
		if err := idle.Close(); err != nil {
			return err
		}
		return idle.Wait()
	})
	if err != nil && ctx.Err() == nil {
		return e, s.lost(source.Connection, "waiting for new mail", err)
	}
	return inPaths(s, e), err
}

// inPaths names the folders of an event as Folders does. A name that was not listed yet stays as the server has it.
func inPaths(s *Session, e source.Event) source.Event {
	paths := source.Names{}
	for name := range e.Folders {
		path := name
		for p, n := range s.names {
			if n == name {
				path = p
			}
		}
		paths[path] = true
	}
	e.Folders = paths
	return e
}

// Close ends the connection at once: nothing is pending that a farewell would save.
func (s *Session) Close() error {
	if s.guard == nil {
		return nil
	}
	err := s.guard.Conn.Close()
	s.client.Close()
	return err
}

func uidSet(uids []uint32) imaplib.UIDSet {
	var set imaplib.UIDSet
	for _, u := range uids {
		set.AddNum(imaplib.UID(u))
	}
	return set
}
