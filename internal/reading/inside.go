// Package reading reads messages: it opens parts, texts and archives, starts the processes that open hostile files,
// verifies who sent a message, inspects contents while they are filed, and plans a message once all that its verdicts
// depend on was read. It guarantees that one message uses no more than its budget, and that no content is opened in
// this process. It writes nothing but its own spool.
package reading

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// maxText bounds how much of a message's text is read for conditions, in octets.
const maxText = 1 << 20

// Config is what a Reader is given. Every field but Scanner and Resolver is needed.
type Config struct {
	*base.Base
	Office    *office.Office
	Mailboxes *mailboxes.Mailboxes
	Spool     string        // the folder in which contents are while they are worked on; emptied at the start
	Ready     string        // the folder for the reader of PDFs, which is made once for each machine
	Resolver  *net.Resolver // nil for the system's
	Scanner   *scan.Scanner // looks for viruses in what is filed; nil for none
}

// Reader reads messages. Its methods may be called by several goroutines at once, each with its own Message.
type Reader struct {
	Config
	Scans       Scans
	short       shortParts
	confined    atomic.Pointer[[]string] // what processes could do; nil until it was tried out
	scannerAway atomic.Bool              // the scanner did not answer, or nobody knows yet
}

// New makes a reader.
func New(c Config) *Reader {
	rd := &Reader{Config: c, Scans: Scans{Folder: filepath.Join(filepath.Dir(c.Spool), "scans")}}
	rd.scannerAway.Store(true)
	return rd
}

// Message is one message in hand, with what was read of it so far.
type Message struct {
	Row     *store.Message
	Facts   *source.Facts
	Mail    *mail.Message
	Mailbox string // its name
	// PassKind is the kind of the pass in which the message is decided; "" where it was not looked up yet.
	PassKind string

	From     string            // the folder from which Ink Tray moved it here, "" where it did not
	Returned bool              // it was moved back here because a filing was taken back
	dir      string            // where contents lie spooled, "" while none do
	files    map[string]string // spooled content by item
	Spooled  int64
	spools   int
	opened   int
	Budget
	worker  child.Worker          // reads what the message holds
	single  int                   // parts that were read one by one
	whole   *wholeMessage         // where these are many
	planned map[planKey]itemPlans // for filing item by item
}

// planKey is what the plan of a message's items depends on, while nothing more is read of it.
type planKey struct {
	rule *rule.Compiled
	at   int64 // nanoseconds since 1970
}

type itemPlans struct {
	items map[string]plan.Item
	needs rule.Needs
}

// Item plans one item; all are planned the first time.
func (l *Message) Item(r *rule.Compiled, setting plan.Setting, id string) (plan.Item, rule.Needs, bool) {
	key := planKey{r, setting.Now.UnixNano()}
	p, ok := l.planned[key]
	if !ok {
		p.items, p.needs = plan.All(r, l.Mail, setting)
		if l.planned == nil {
			l.planned = map[planKey]itemPlans{}
		}
		l.planned[key] = p
	}
	item, ok := p.items[id]
	item.Segments, item.Unknown = slices.Clone(item.Segments), slices.Clone(item.Unknown)
	return item, p.needs, ok
}

// CarryPlan keeps what was planned for a message at a moment, so that filing its items does not plan them again.
func (l *Message) CarryPlan(r *rule.Compiled, at time.Time, items []plan.Item) {
	all := make(map[string]plan.Item, len(items))
	for _, item := range items {
		if _, twice := all[item.Item.ID]; !twice {
			all[item.Item.ID] = item
		}
	}
	if l.planned == nil {
		l.planned = map[planKey]itemPlans{}
	}
	l.planned[planKey{r, at.UnixNano()}] = itemPlans{items: all}
}

// Close lets go of what was spooled.
func (l *Message) Close() {
	l.planned, l.whole, l.single = nil, nil, 0
	l.worker.Close()
	if l.dir != "" {
		_ = os.RemoveAll(l.dir) // the folder is emptied at the next start in any case
	}
	l.dir, l.files, l.Spooled = "", nil, 0
}

// Plan plans a message, reading what its verdicts hang on, and nothing else.
func (rd *Reader) Plan(ctx context.Context, s source.Opener, l *Message, rules []*rule.Compiled,
	setting plan.Setting) (plan.Plan, error) {
	defer func() { l.whole = nil }() // many planned messages can wait for their filing
	rd.Office.Settings().NoteReport(l.Mail)
	for range MostRounds {
		p := plan.Make(rules, l.Mail, setting)
		if !p.Needs.Any() {
			return p, nil
		}
		if err := rd.Read(ctx, s, l, &p.Needs); err != nil {
			return p, err
		}
	}
	return plan.Make(rules, l.Mail, setting), nil
}

// Read reads what is needed of a message. What cannot be had is noted in the
// message, so that it is not asked for again.
func (rd *Reader) Read(ctx context.Context, s source.Opener, l *Message, n *rule.Needs) error {
	l.planned = nil // there is more to plan with
	gone := func(err error) bool { return errors.Is(err, source.ErrGone) }
	if n.Header {
		part, err := s.Part(ctx, l.Facts, source.Header)
		if err == nil {
			var data []byte
			data, err = io.ReadAll(io.LimitReader(part, maxText))
			if closeErr := part.Close(); err == nil {
				err = closeErr
			}
			if err == nil && len(data) == 0 && len(l.Mail.Header) > 0 {
				err = source.ErrNothing
			}
			if err != nil {
				return err
			}
			l.Mail.AllHeader, _ = mail.ParseHeader(data)
			if l.Mail.AllHeader == nil {
				l.Mail.AllHeader = mail.Header{}
			}
		}
		if gone(err) {
			l.Mail.TextError = err.Error()
		} else if err != nil {
			return err
		}
	}
	if n.Text {
		if err := rd.ReadText(ctx, s, l); err != nil {
			return err
		}
	}
	for _, id := range n.Heads {
		if err := l.hurry(); err != nil {
			return err
		}
		found, err := rd.head(ctx, s, l, id)
		if err != nil && !gone(err) {
			return err
		}
		if l.Mail.Kinds == nil {
			l.Mail.Kinds = map[string]mail.Sniffed{}
		}
		l.Mail.Kinds[id] = found
	}
	if n.Proof {
		if err := rd.prove(ctx, s, l); err != nil {
			return err
		}
	}
	for _, id := range n.Texts {
		if err := l.hurry(); err != nil {
			return err
		}
		if err := rd.inside(ctx, s, l, id); err != nil {
			return err
		}
	}
	for _, id := range n.Codes {
		if err := l.hurry(); err != nil {
			return err
		}
		if err := rd.codes(ctx, s, l, id); err != nil {
			return err
		}
	}
	for _, id := range n.Open {
		if err := rd.open(ctx, s, l, id); err != nil {
			return err
		}
	}
	return nil
}

// head judges an item by its first bytes.
func (rd *Reader) head(ctx context.Context, s source.Opener, l *Message, id string) (mail.Sniffed, error) {
	nothing := mail.Sniffed{Kind: mail.Other}
	item, ok := l.Mail.Find(id)
	if !ok {
		return nothing, nil
	}
	var data []byte
	if item.Parent == "" {
		encoded, err := s.Head(ctx, l.Facts, id, mail.FirstBytes*3/2)
		if err != nil {
			return nothing, err
		}
		if data, err = io.ReadAll(mail.Decode(item.Encoding, bytes.NewReader(encoded))); err != nil {
			return nothing, nil
		}
	} else {
		f, err := rd.Content(ctx, s, l, id)
		var unopened *unpack.Error
		if errors.As(err, &unopened) {
			return nothing, nil
		}
		if err != nil {
			return nothing, err
		}
		defer f.Close()
		if data, err = io.ReadAll(io.LimitReader(f, mail.FirstBytes)); err != nil {
			return nothing, err
		}
	}
	return sniffed(data), nil
}

// sniffed judges a content by its first bytes.
func sniffed(data []byte) mail.Sniffed {
	if len(data) == 0 {
		return mail.Sniffed{Kind: mail.Other}
	}
	kind, ext, _ := mail.ContentKind(data[:min(len(data), mail.FirstBytes)])
	return mail.Sniffed{Kind: kind, Ext: ext}
}

// ReadText reads the body of a message, as far as conditions look.
func (rd *Reader) ReadText(ctx context.Context, s source.Opener, l *Message) error {
	var b strings.Builder
	for _, p := range l.Mail.TextParts() {
		part, err := rd.part(ctx, s, l, p.Item, p.Size)
		if errors.Is(err, source.ErrGone) {
			l.Mail.TextError = err.Error()
			return nil
		}
		if err != nil {
			return err
		}
		data, err := io.ReadAll(io.LimitReader(mail.Decode(p.Encoding, part), maxText))
		if closeErr := part.Close(); closeErr != nil {
			return closeErr // it tells a connection that broke
		}
		if err != nil {
			return err
		}
		text := mail.ConvertText(data, p.Charset)
		if p.Type == "text/html" {
			text = mail.HTMLText(text)
		}
		b.WriteString(text + "\n")
		if b.Len() > maxText {
			break
		}
	}
	for _, i := range l.Mail.Items() { // the text of signed mail is within
		if i.Opens && strings.Contains(i.Type, "pkcs7") {
			if err := rd.open(ctx, s, l, i.ID); err != nil {
				return err
			}
			b.WriteString(l.Mail.Inside[i.ID].Text)
		}
	}
	text := b.String()
	l.Mail.Text = &text
	rd.Office.Notice(ctx, l.Mail)
	return nil
}

// open looks into an item that holds others. Why one cannot be opened is noted;
// the error is the mailbox's or the machine's.
func (rd *Reader) open(ctx context.Context, s source.Opener, l *Message, id string) error {
	if l.Mail.Inside == nil {
		l.Mail.Inside = map[string]*mail.Opened{}
	}
	if l.Mail.Inside[id] != nil {
		return nil
	}
	opened := &mail.Opened{}
	l.Mail.Inside[id] = opened
	item, ok := l.Mail.Find(id)
	if !ok {
		opened.Problem = "it is no longer there"
		return nil
	}
	if l.opened++; l.opened > mostOpened {
		opened.Problem = fmt.Sprintf("the message holds more than %d archives, which is the limit", mostOpened)
		return nil
	}
	f, err := rd.Content(ctx, s, l, id)
	if err == nil {
		defer f.Close()
		r := rd.unpackRequest(l, &item)
		r.Heads = mail.FirstBytes
		kinds, inside := map[string]mail.Sniffed{}, l.inside
		err = l.Child(ctx, func(ctx context.Context) error {
			begin := func() {
				opened.Items, opened.Text, opened.Forward, l.inside = nil, "", nil, inside
				clear(kinds)
			}
			return l.worker.Unpack(ctx, f, r, begin, func(entry unpack.Entry, content io.Reader) error {
				if entry.Text {
					if content == nil {
						return nil
					}
					data, err := io.ReadAll(io.LimitReader(content, maxText))
					if err != nil {
						return err
					}
					text := mail.ConvertText(data, entry.Name)
					if entry.Type == "text/html" {
						text = mail.HTMLText(text)
					}
					opened.Text += text + "\n"
					return nil
				}
				if entry.Number == "" { // the opened message itself
					header, _ := mail.ParseHeader([]byte(entry.Header))
					envelope := header.Envelope()
					opened.Forward = &envelope
					return nil
				}
				inner := mail.Inner(&item, entry.Number, entry.Name, entry.Type, entry.Size)
				if inner.Opens = inner.Opens || entry.Opens; entry.Header != "" {
					header, _ := mail.ParseHeader([]byte(entry.Header))
					envelope := header.Envelope()
					inner.Forward = &envelope
				}
				inner.Left, inner.Remark = entry.Left, entry.Remark
				if entry.Spoiled != "" {
					inner.Spoiled = fmt.Sprintf("the file is broken in its archive (%s)", entry.Spoiled)
				}
				inner.Inline = entry.Inline
				if l.inside++; l.inside > mostInside {
					return over("the archives of the message hold more than %d files, which is the limit", mostInside)
				}
				kinds[inner.ID] = sniffed(entry.First)
				opened.Items = append(opened.Items, inner)
				return nil
			})
		})
		if err == nil {
			if l.Mail.Kinds == nil {
				l.Mail.Kinds = map[string]mail.Sniffed{}
			}
			maps.Copy(l.Mail.Kinds, kinds)
		}
	}
	var known *unpack.Error
	switch {
	case errors.As(err, &known):
		opened.Items, opened.Problem, opened.Locked = nil, known.Problem, known.Encrypted
	case errors.Is(err, source.ErrGone):
		opened.Problem = err.Error()
	case err != nil:
		delete(l.Mail.Inside, id)
		return err
	}
	return nil
}

// inside reads the text inside an item. Why it cannot be read is noted; the error is
// the mailbox's or the machine's.
func (rd *Reader) inside(ctx context.Context, s source.Opener, l *Message, id string) error {
	if _, known := l.Mail.Texts[id]; known {
		return nil
	}
	if l.Mail.Texts == nil {
		l.Mail.Texts = map[string]*mail.Read{}
	}
	return rd.look(ctx, s, l, id, func(wrong unpack.Error) {
		l.Mail.Texts[id] = &mail.Read{Problem: wrong.Problem, Locked: wrong.Encrypted, Empty: wrong.Empty}
	}, func(f *os.File, item *mail.Item) error {
		read, err := rd.textIn(ctx, l, f, text.Request{Name: item.Name, Type: item.Type, Reader: rd.Ready})
		if err == nil {
			l.Mail.Texts[id] = read
		}
		return err
	})
}

// look looks into an item, or notes what is wrong with it.
func (rd *Reader) look(ctx context.Context, s source.Opener, l *Message, id string, wrong func(unpack.Error),
	look func(f *os.File, item *mail.Item) error) error {
	if l.opened++; l.opened > mostOpened {
		wrong(unpack.Error{Problem: fmt.Sprintf("more than %d attachments of the message would have to be read, which is "+
			"the limit", mostOpened)})
		return nil
	}
	item, ok := l.Mail.Find(id)
	if !ok {
		wrong(unpack.Error{Problem: "it is no longer there"})
		return nil
	}
	f, err := rd.Content(ctx, s, l, id)
	var known *unpack.Error
	switch {
	case errors.Is(err, source.ErrGone):
		wrong(unpack.Error{Problem: err.Error()})
		return nil
	case errors.As(err, &known):
		wrong(*known)
		return nil
	case err != nil:
		return err
	}
	defer f.Close()
	return look(f, &item)
}

// textIn reads the text inside a file that lies here, also that of its pages that are pictures.
func (rd *Reader) textIn(ctx context.Context, l *Message, f *os.File, r text.Request) (*mail.Read, error) {
	var found text.Found
	err := l.Child(ctx, func(ctx context.Context) (err error) {
		found, err = l.worker.Text(ctx, f, r)
		return err
	})
	read, err := readOf(found, err)
	if err != nil {
		return nil, err
	}
	if len(found.Pictures) == 0 {
		head, err := headOf(f)
		if err != nil || !text.Picture(head) {
			return read, err
		}
	}
	seen, err := rd.scan(ctx, l, f, found.Pictures)
	var known *unpack.Error
	if errors.As(err, &known) {
		return &mail.Read{Problem: known.Problem}, nil
	}
	switch {
	case err != nil:
		return nil, err
	case seen != nil:
		seen.into(read)
	case rd.Office.Settings().Scans.Off && read.Problem != "":
		read.Problem += "; Settings says that scans are not read"
	case read.Problem != "":
		read.Problem += "; scans are read where Tesseract is installed"
	}
	return read, nil
}

// TextOf reads the text inside a file that lies here. Why it cannot be read is in the result; the error is the
// machine's.
func (rd *Reader) TextOf(ctx context.Context, f *os.File, name, mediaType string) (*mail.Read, error) {
	l := &Message{}
	defer l.Close()
	return rd.textIn(ctx, l, f, text.Request{Name: name, Type: mediaType, Reader: rd.Ready})
}

// readOf is what came of reading a text. The error is not the file's.
func readOf(found text.Found, err error) (*mail.Read, error) {
	var known *unpack.Error
	if errors.As(err, &known) {
		return &mail.Read{Problem: known.Problem, Locked: known.Encrypted, Empty: known.Empty}, nil
	}
	if err != nil {
		return nil, err
	}
	return &mail.Read{Text: found.Text, Invoice: found.Invoice, Unread: found.Unread}, nil
}

func (rd *Reader) unpackRequest(l *Message, item *mail.Item) unpack.Request {
	r := unpack.Request{Name: item.Name, Type: item.Type}
	if strings.Contains(item.Type, "pkcs7") {
		r.Contents, r.Only = true, []string{"-"} // its texts come unasked, and nothing else
	}
	r.Passwords = rd.Office.Settings().Passwords(l.Mail.Envelope.Sender())
	return r
}

// Content gives an item's content, decoded, from the spool.
func (rd *Reader) Content(ctx context.Context, s source.Opener, l *Message, id string) (*os.File, error) {
	if path, ok := l.files[id]; ok {
		return os.Open(path)
	}
	item, ok := l.Mail.Find(id)
	if id == source.Whole {
		item, ok = mail.Item{ID: id, Encoding: "binary"}, true
	}
	if !ok {
		return nil, source.ErrGone
	}
	if item.Parent == "" {
		part, err := rd.part(ctx, s, l, id, announced(id, &item))
		if err != nil {
			return nil, err
		}
		err = rd.spool(l, id, mail.Decode(item.Encoding, part))
		if closeErr := part.Close(); closeErr != nil {
			err = errors.Join(closeErr, err)
		}
		if err != nil {
			delete(l.files, id)
			return nil, err
		}
		return os.Open(l.files[id])
	}
	// All files of an archive at once: a compressed one is read from its beginning.
	outer, ok := l.Mail.Find(item.Parent)
	if !ok {
		return nil, source.ErrGone
	}
	if err := l.broken[id]; err != nil {
		return nil, err
	}
	if err := l.broken[item.Parent]; err != nil {
		return nil, err
	}
	f, err := rd.Content(ctx, s, l, item.Parent)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r := rd.unpackRequest(l, &outer)
	r.Contents, r.Only = true, nil
	if total := within(l.Mail, &outer); total+l.Spooled > MostSpooled {
		r.Only = []string{strings.TrimPrefix(id, outer.ID+"!")}
	}
	if l.broken == nil {
		l.broken = map[string]error{}
	}
	var known *unpack.Error
	err = l.Child(ctx, func(ctx context.Context) error {
		return l.worker.Unpack(ctx, f, r, func() {}, func(entry unpack.Entry, content io.Reader) error {
			inner := outer.ID + "!" + entry.Number
			if entry.Text || entry.Number == "" || len(r.Only) > 0 && entry.Number != r.Only[0] || l.files[inner] != "" {
				return nil
			}
			err := rd.spool(l, inner, content)
			if errors.As(err, &known) { // this file is broken, and not the others
				l.broken[inner] = known
				return nil
			}
			return err
		})
	})
	if errors.As(err, &known) {
		l.broken[outer.ID] = known // nothing more comes of it
	}
	if err != nil && l.files[id] == "" {
		return nil, err
	}
	if err := l.broken[id]; err != nil {
		return nil, err
	}
	path, ok := l.files[id]
	if !ok {
		return nil, &unpack.Error{Problem: "the archive no longer has this file"}
	}
	return os.Open(path)
}

// announced is how many octets the message's structure announces for an item.
func announced(id string, item *mail.Item) int64 {
	if id == source.Whole {
		return 0 // servers count a whole message in different ways
	}
	return item.Encoded
}

// within is how much an opened item holds, in octets.
func within(m *mail.Message, outer *mail.Item) (total int64) {
	if o := m.Inside[outer.ID]; o != nil {
		for _, i := range o.Items {
			total += i.Size
		}
	}
	return total
}

// spool keeps a content beside the records for as long as the message is in hand.
func (rd *Reader) spool(l *Message, id string, r io.Reader) error {
	if l.dir == "" {
		dir, err := os.MkdirTemp(rd.Spool, "letter-")
		if err != nil {
			return fmt.Errorf("making room to work in: %w", err)
		}
		l.dir, l.files = dir, map[string]string{}
	}
	l.spools++
	path := filepath.Join(l.dir, strconv.Itoa(l.spools))
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("making room to work in: %w", err)
	}
	n, err := io.Copy(f, r)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return errors.Join(err, os.Remove(path))
	}
	l.Spooled += n
	l.files[id] = path
	return nil
}

// stream gives an item's content as it is filed. first are its first bytes, to
// be judged; close must be called.
func (rd *Reader) stream(ctx context.Context, s source.Opener, l *Message, item *plan.Item) (r io.Reader,
	closed func() error, err error) {
	id := item.Item.ID
	if item.Copy == rule.CopyEML {
		id = source.Whole
	}
	if item.Item.Parent == "" && l.files[id] == "" {
		part, err := rd.part(ctx, s, l, id, announced(id, &item.Item))
		if err != nil {
			return nil, nil, err
		}
		return mail.Decode(item.Item.Encoding, part), part.Close, nil
	}
	f, err := rd.Content(ctx, s, l, id)
	if err != nil {
		return nil, nil, err
	}
	return f, f.Close, nil
}

// Draw renders a copy of the message into the spool and says what is missing
// from it.
func (rd *Reader) Draw(ctx context.Context, s source.Opener, l *Message, item *plan.Item,
	r *rule.Compiled) (report render.Report, err error) {
	id := item.Item.ID
	whole, err := rd.Content(ctx, s, l, source.Whole)
	if err != nil {
		return report, err
	}
	defer whole.Close()
	reading, writing := io.Pipe()
	done := make(chan error, 1)
	go func() {
		err := rd.spool(l, id, reading)
		reading.CloseWithError(err)
		done <- err
	}()
	err = l.Child(ctx, func(ctx context.Context) (err error) {
		report, err = child.Render(ctx, whole, render.Request{Form: item.Copy, Zone: r.Zone.String()}, writing)
		return err
	})
	writing.CloseWithError(err)
	if spoolErr := <-done; err == nil {
		err = spoolErr
	}
	if err != nil {
		delete(l.files, id)
	}
	return report, err
}

// WithMessage opens a message on its server.
func (rd *Reader) WithMessage(ctx context.Context, v store.Viewer, row *store.Message,
	f func(s source.Session, l *Message) error) error {
	m, err := rd.Store.Mailboxes.ByID(ctx, v, row.MailboxID)
	if err != nil {
		return err
	}
	return rd.Mailboxes.With(ctx, &m, func(s source.Session) error {
		return InSession(ctx, s, row, m.Name, func(l *Message) error { return f(s, l) })
	})
}

// InSession opens a message on its server, in a session that goes on.
func InSession(ctx context.Context, s source.Session, row *store.Message, mailbox string,
	f func(l *Message) error) error {
	facts, err := row.Facts()
	if err != nil {
		return err
	}
	state, err := s.Open(ctx, row.Folder)
	if err != nil {
		return err
	}
	if state.UIDValidity != row.UIDValidity {
		return source.ErrGone
	}
	l := &Message{Row: row, Facts: facts, Mail: facts.Message(row.Folder), Mailbox: mailbox}
	defer l.Close()
	return f(l)
}

// EmptySpool makes the folder to work in, without what a crash left there.
func (rd *Reader) EmptySpool() error {
	if err := os.RemoveAll(rd.Spool); err != nil {
		return fmt.Errorf("emptying the folder to work in: %w", err)
	}
	if err := os.MkdirAll(rd.Spool, 0o700); err != nil {
		return fmt.Errorf("making the folder to work in: %w", err)
	}
	return nil
}
