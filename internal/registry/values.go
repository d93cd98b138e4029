package registry

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/value"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// ReadValues reads the files that a query finds again, for the values that their rules read now. What a person
// corrected stays. The error is rule.Problems where there is nothing to read.
func ReadValues(ctx context.Context, rg *Registry, v store.Viewer, q register.Query) (*store.Pass, error) {
	q.Most, q.After, q.Ascending, q.Sort = 0, register.Number{}, true, register.ByNumber
	if q.States != nil && !slices.Contains(q.States, register.Filed) {
		return nil, rule.Problems{{Place: "text", Text: "only files that were filed and are there are read: leave the " +
			"state out, or say state:filed"}}
	}
	q.States = []register.State{register.Filed}
	found, err := rg.Store.Register.Find(ctx, v, q)
	if err != nil {
		return nil, err
	}
	if found.Total == 0 {
		return nil, rule.Problems{{Place: "text", Text: "nothing of that kind was filed, so there is nothing to read"}}
	}
	r := &valueReader{Registry: rg, rules: map[string]*rule.Compiled{}, boxes: map[string]*openBox{}}
	return begin(ctx, rg, "values", v.Name, found.Total,
		func(ctx context.Context, pass *store.Pass, steer *passes.Steering) (store.PassState, error) {
			return r.all(ctx, v, pass, steer, found.Numbers)
		})
}

// valueReader reads values in one pass.
type valueReader struct {
	*Registry
	rules  map[string]*rule.Compiled // nil for a rule that reads none, or is gone
	boxes  map[string]*openBox       // by the mailbox's id
	none   int                       // files whose rule reads no values
	erased int                       // files of which a person's traces are erased
	unread int                       // files that could not be read
}

// openBox is a mailbox in the pass: one session serves all of its messages.
type openBox struct {
	name    string
	mailbox *store.Mailbox        // nil where it was removed
	session *mailboxes.Connection // nil while there is none
	failed  time.Time             // when it could not be reached
}

// boxPause is how long a mailbox is left alone after it could not be reached.
const boxPause = time.Minute

// savedEvery is how often it is kept how far the pass is.
const savedEvery = time.Second

func (r *valueReader) all(ctx context.Context, v store.Viewer, pass *store.Pass, steer *passes.Steering,
	numbers []register.Number) (store.PassState, error) {
	defer r.close()
	saved := r.Clock()
	for part := range slices.Chunk(numbers, verifyBatch) {
		rows, err := r.Store.Register.Numbered(ctx, v, part)
		if err != nil {
			return "", err
		}
		for i := range rows {
			if steer.Asked() != "" || ctx.Err() != nil {
				return store.Stopped, nil
			}
			changed, err := r.readOne(ctx, &rows[i])
			if err != nil {
				return "", err
			}
			if changed {
				pass.Matched++
			}
			pass.Looked++
			pass.Note = r.note()
			if now := r.Clock(); now.Sub(saved) >= savedEvery {
				saved = now
				if err := r.Store.Passes.Save(ctx, pass); err != nil {
					return "", err
				}
				r.Events.Send(events.Event{Kind: "pass", ID: fmt.Sprint(pass.ID)})
			}
		}
	}
	return store.Done, nil
}

func (r *valueReader) close() {
	for _, box := range r.boxes {
		if box.session != nil {
			_ = box.session.Close() // nothing was changed in it
		}
	}
}

func (r *valueReader) note() (note string) {
	if r.none > 0 {
		note = fmt.Sprintf("of %d the rule reads no values", r.none)
	}
	if r.erased > 0 {
		note = phrase.Join(note, fmt.Sprintf("%d are erased", r.erased))
	}
	if r.unread > 0 {
		note = phrase.Join(note, fmt.Sprintf("%d could not be read, and keep what they had", r.unread))
	}
	return note
}

// readOne reads the values of one file. What cannot be read of it is counted; the error is that of the records.
func (r *valueReader) readOne(ctx context.Context, f *store.Filing) (changed bool, err error) {
	compiled, err := r.rule(ctx, f.RuleID)
	if err != nil {
		return false, err
	}
	switch {
	case f.ErasedAt != nil:
		r.erased++
		return false, nil
	case compiled == nil:
		r.none++
		return false, nil
	}
	entry, err := r.Store.Journal.ByID(ctx, store.System, f.JournalID)
	if err != nil {
		return false, err
	}
	row, err := r.Store.Messages.ByID(ctx, store.System, f.MessageID)
	if err != nil {
		return false, err
	}
	facts, err := row.Facts()
	if err != nil {
		return false, err
	}
	m := facts.Message(row.Folder)
	box, err := r.box(ctx, row.MailboxID)
	if err != nil {
		return false, err
	}
	read, whole := r.values(ctx, compiled, m, f, &entry, &row, box)
	if !whole {
		r.unread++
	}
	return r.Store.Register.FillValues(ctx, f.Entry(), read, r.Clock())
}

// rule is a rule as it is now; nil where it reads no values or is not there any more.
func (r *valueReader) rule(ctx context.Context, id string) (*rule.Compiled, error) {
	if c, known := r.rules[id]; known {
		return c, nil
	}
	r.rules[id] = nil
	row, err := r.Store.Rules.ByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	c, err := r.Office.Rule(ctx, id, row.Revision)
	if err != nil || len(c.Values()) == 0 {
		return nil, nil // a rule that does not compile is told elsewhere
	}
	r.rules[id] = c
	return c, nil
}

func (r *valueReader) box(ctx context.Context, id string) (*openBox, error) {
	if box, known := r.boxes[id]; known {
		return box, nil
	}
	m, err := r.Store.Mailboxes.ByID(ctx, store.System, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	box := &openBox{name: m.Name}
	if err == nil {
		box.mailbox = &m
	}
	r.boxes[id] = box
	return box, nil
}

// errAway says that a mailbox was out of reach just now.
var errAway = errors.New("its mailbox is out of reach")

// message reads more of a message where it still lies.
func (r *valueReader) message(ctx context.Context, box *openBox, row *store.Message, m *mail.Message,
	needs rule.Needs) error {
	if box.mailbox == nil || r.Clock().Sub(box.failed) < boxPause {
		return errAway
	}
	if box.session == nil {
		s, err := r.Reader.Mailboxes.Reach(ctx, box.mailbox, connections.Work)
		if err != nil {
			box.failed = r.Clock()
			return err
		}
		box.session = s
	}
	err := reading.InSession(ctx, box.session.Session, row, box.name, func(l *reading.Message) error {
		if err := r.Reader.Read(ctx, box.session.Session, l, &needs); err != nil {
			return err
		}
		if l.Mail.TextError != "" {
			return source.ErrGone
		}
		if needs.Text {
			m.Text = l.Mail.Text
		}
		if needs.Header {
			m.AllHeader = l.Mail.AllHeader
		}
		return nil
	})
	if err != nil && !errors.Is(err, source.ErrGone) { // the next one begins anew
		_ = box.session.Close()
		box.session = nil
	}
	return err
}

// values reads what the rule reads of a file. Values that hang on what cannot be had are left out, and whole is false.
func (r *valueReader) values(ctx context.Context, c *rule.Compiled, m *mail.Message, f *store.Filing, e *store.Entry,
	row *store.Message, box *openBox) (read []value.Value, whole bool) {
	item, known := m.Find(e.Item)
	if !known { // it lay in an archive, or is a copy of the message
		item = mail.Inner(&mail.Item{}, "0", e.Name, "", f.Size)
		item.ID, item.Parent = e.Item, ""
		if strings.HasPrefix(e.Item, "copy:") { // what it says is the message's
			item.Kind, known = mail.MessageKind, true
		}
	}
	setting := r.Office.Settings().For(box.name, r.Now())
	all := c.Values()
	for asked := (rule.Needs{}); ; {
		var needs rule.Needs
		read, whole = nil, true
		for i := range all {
			if !known && ofArchive(&all[i]) {
				whole = false
				continue
			}
			one, unknown := plan.Value(c, m, setting, &item, &all[i])
			if len(unknown) == 0 && hidden(c, m, setting, &item, all[i]) {
				whole = false
				continue
			}
			if len(unknown) == 0 {
				read = append(read, one)
				continue
			}
			whole = false
			needs.Fields(item.ID, unknown)
		}
		var err error
		visit := rule.Needs{Text: needs.Text && !asked.Text, Header: needs.Header && !asked.Header}
		switch {
		case visit.Any():
			asked.Add(&visit)
			err = r.message(ctx, box, row, m, visit)
		case len(needs.Texts) > 0 && len(asked.Texts) == 0:
			asked.Texts = needs.Texts
			err = lookInto(ctx, r.Registry, f, func(content *os.File) (err error) {
				item.Inside, err = r.Reader.TextOf(ctx, content, item.Name, item.Type)
				return err
			})
		case len(needs.Codes) > 0 && len(asked.Codes) == 0:
			asked.Codes = needs.Codes
			err = lookInto(ctx, r.Registry, f, func(content *os.File) (err error) {
				item.Codes, err = reading.CodesOf(ctx, r.Reader, content)
				return err
			})
		default:
			return read, whole
		}
		if err != nil {
			r.Log.Warn("a filing was not read again in full for values", "filing", f.Entry().String(), "error", err)
		}
	}
}

// hidden says whether a value may stand inside of the file where nobody can look now, before the place where it is
// found.
func hidden(c *rule.Compiled, m *mail.Message, setting plan.Setting, item *mail.Item, v rule.Value) bool {
	for _, from := range v.From {
		v.From = []*pattern.Pattern{from}
		if one, _ := plan.Value(c, m, setting, item, &v); one.Text != "" {
			return false
		}
		if rule.FromInside(from) && unread(item) || rule.FromCodes(from) && item.Codes != nil && item.Codes.Missing() != "" {
			return true
		}
	}
	return false
}

// unread says whether some of the text inside a file cannot be read, or could be read where pictures are.
func unread(item *mail.Item) bool {
	if item.Inside != nil {
		return item.Inside.Missing() != "" && (!item.Inside.Empty || !item.Legible)
	}
	return item.Kind == mail.Picture && !item.Legible
}

// ofArchive says whether a value hangs on the archive in which a file lay.
func ofArchive(v *rule.Value) bool {
	return slices.ContainsFunc(v.From, func(p *pattern.Pattern) bool {
		return slices.ContainsFunc(p.Uses(), func(u pattern.Use) bool {
			return u.Field == "file.path" || strings.HasPrefix(u.Field, "archive.") || strings.HasPrefix(u.Field, "original.")
		})
	})
}

// errOther says that a file has another content than when it was filed.
var errOther = errors.New("its content is not the same as when it was filed")

// errLarge says that a file is larger than is read.
var errLarge = errors.New("it is larger than Ink Tray reads")

// lookInto looks into a filed file, as it was filed.
func lookInto(ctx context.Context, rg *Registry, f *store.Filing, look func(content *os.File) error) error {
	if f.Size > text.MostFile {
		return errLarge
	}
	content, let, err := asFiled(ctx, rg, f)
	if err != nil {
		return err
	}
	defer let()
	return look(content)
}

// asFiled gives the content of a filed file, as it was filed, from the folder to work in. let must be called once it is
// done with.
func asFiled(ctx context.Context, rg *Registry, f *store.Filing) (file *os.File, let func(), err error) {
	g, err := rg.Cabinets.Gate(ctx, f.CabinetID)
	if err != nil {
		return nil, nil, err
	}
	if err := g.Ready(ctx); err != nil {
		return nil, nil, err
	}
	content, err := g.Cabinet.Open(ctx, path.Join(f.Folder, f.File))
	if err != nil {
		return nil, nil, err
	}
	defer content.Close()
	if err := os.MkdirAll(rg.Spool, 0o700); err != nil {
		return nil, nil, err
	}
	if file, err = os.CreateTemp(rg.Spool, "values-"); err != nil {
		return nil, nil, err
	}
	let = func() {
		_ = file.Close()
		_ = os.Remove(file.Name()) // the folder is emptied at the next start in any case
	}
	sum := sha256.New()
	if _, err = io.Copy(io.MultiWriter(file, sum), io.LimitReader(content, f.Size+1)); err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err == nil && !bytes.Equal(sum.Sum(nil), f.SHA256) {
		err = errOther
	}
	if err != nil {
		let()
		return nil, nil, err
	}
	return file, let, nil
}
