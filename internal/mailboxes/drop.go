package mailboxes

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/source/drop"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/store"
)

// ErrNoReceiving says that the service takes no mail in.
var ErrNoReceiving = errors.New(
	"this service does not receive mail: it was started without a domain for drop addresses")

// secretLetters is the length of the part of a drop address that nobody can guess:
// 13 letters of base32 are 65 bits.
const secretLetters = 13

var dropWord = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// MailFolder is where Ink Tray itself keeps the mail of a mailbox.
func (ms *Mailboxes) MailFolder(mailboxID string) string { return filepath.Join(ms.Mail, mailboxID) }

// OwnMail says whether a mailbox's messages lie with Ink Tray itself.
func OwnMail(m *store.Mailbox) bool { return m.Kind == "drop" || m.Kind == "files" }

// PrepareMail makes the folder for a mailbox whose messages Ink Tray keeps itself.
func (ms *Mailboxes) PrepareMail(m *store.Mailbox) error {
	if !OwnMail(m) {
		return nil
	}
	if err := mailfile.Prepare(ms.MailFolder(m.ID)); err != nil {
		return fmt.Errorf("making the folder for messages: %w", err)
	}
	return nil
}

// SweepMail removes what a crash left half delivered.
func (ms *Mailboxes) SweepMail(mailboxes []store.Mailbox) error {
	for i := range mailboxes {
		if m := &mailboxes[i]; OwnMail(m) {
			root, err := disk.Root(ms.MailFolder(m.ID))
			if err != nil {
				return err
			}
			if err := errors.Join(mailfile.Sweep(root, ".", ms.Clock()), root.Close()); err != nil {
				return err
			}
		}
	}
	return nil
}

// ForgetMail removes what Ink Tray itself keeps of a mailbox's messages.
func (ms *Mailboxes) ForgetMail(mailboxID string) error {
	return os.RemoveAll(ms.MailFolder(mailboxID))
}

// NewAddress gives a drop address a new secret part, after a word that says to
// people what it is for.
func (ms *Mailboxes) NewAddress(m *store.Mailbox, word string) error {
	if ms.DropDomain == "" {
		return ErrNoReceiving
	}
	word = strings.ToLower(strings.TrimSpace(word))
	if word == "" {
		word = wordOf(m.Name)
	}
	if len(word) > 40 || !dropWord.MatchString(word) {
		return rule.Problems{{Place: "word", Text: "the word of a drop address has letters a to z, digits and hyphens " +
			"between them, at most 40", Meant: wordOf(word)}}
	}
	m.Particulars.Word, m.Address = word, word+"-"+strings.ToLower(rand.Text()[:secretLetters])
	return nil
}

// wordOf makes a word for an address of what people call something.
func wordOf(name string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(name) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	word := strings.Trim(b.String()[:min(b.Len(), 40)], "-")
	if word == "" {
		return "post"
	}
	return word
}

// DropAddress is a drop address as people write it; "" where it is closed.
func (ms *Mailboxes) DropAddress(m *store.Mailbox) string {
	if m.Address == "" {
		return ""
	}
	return m.Address + "@" + ms.DropDomain
}

// CheckSenders brings those who may send to a drop address into one form.
func CheckSenders(senders []string) ([]string, error) {
	var clean []string
	for i, s := range senders {
		s = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(s), "@"))
		if s == "" {
			continue
		}
		whole := s
		if !strings.Contains(s, "@") {
			whole = "x@" + s
		}
		if a := mail.ParseAddresses(whole); len(a) != 1 || a[0].String() != whole || !strings.Contains(a[0].Domain, ".") {
			return nil, rule.Problems{{Place: fmt.Sprintf("senders[%d]", i), Text: fmt.Sprintf("%q is neither an address nor "+
				"a domain", senders[i])}}
		}
		clean = append(clean, s)
	}
	return clean, nil
}

// FindDrop finds an address for the receiver.
func (ms *Mailboxes) FindDrop(local string) (drop.Address, bool, error) {
	m, err := ms.Store.Mailboxes.At(ms.Context(), local)
	if errors.Is(err, store.ErrNotFound) {
		return drop.Address{}, false, nil
	}
	return drop.Address{Mailbox: m.ID, Address: ms.DropAddress(&m), Senders: m.Particulars.Senders}, err == nil, err
}

// Deliver keeps a message that came to a drop address. When it returns, the message
// lasts.
func (ms *Mailboxes) Deliver(a drop.Address, received time.Time, message io.Reader) error {
	root, err := disk.Root(ms.MailFolder(a.Mailbox))
	if err != nil {
		return err
	}
	defer root.Close()
	name, err := mailfile.DeliverInto(root, ".", received, message)
	if err != nil || ms.Keep == nil {
		return err
	}
	file := filepath.Join("new", name)
	if err := ms.Keep(ms.Context(), filepath.Join(ms.MailFolder(a.Mailbox), file)); err != nil {
		// It was promised to nobody. Where it was read already, and comes again, it is known by its content.
		return errors.Join(err, root.Remove(file))
	}
	return nil
}

// Rejected tells of a message for a drop address that was refused for good.
func (ms *Mailboxes) Rejected(a drop.Address, from, reason string) {
	err := func() error {
		now := ms.Clock().UTC()
		last, n, err := ms.Store.Mailboxes.Reject(
			ms.Context(),
			&store.Rejection{MailboxID: a.Mailbox, Sender: from, Reason: reason,
				At: now},
			5,
		)
		if err != nil {
			return err
		}
		m, err := ms.Store.Mailboxes.ByID(ms.Context(), store.System, a.Mailbox)
		if err != nil {
			return err
		}
		var named []string
		for _, r := range last {
			sender := r.Sender
			if sender == "" {
				sender = "no sender"
			}
			named = append(named,
				fmt.Sprintf("%s, %s: %s", sender, r.At.In(ms.Zone).Format("2006-01-02 15:04"), phrase.TrimStop(r.Reason)))
		}
		return ms.Store.Tray.Tell(ms.Context(), &store.Notice{Kind: "rejected", Object: m.ID, MailboxID: m.ID, MadeAt: now,
			Text: fmt.Sprintf("%s for the drop address “%s” did not get in. The last: %s.",
				phrase.Count(int(n), "message", "messages"), m.Name, strings.Join(named, "; ")),
			Advice: "The senders know that their messages were refused. If you want one of them, change who may send to the " +
				"address, or ask the sender to send it in another way."})
	}()
	if err != nil {
		ms.Log.Error("telling of a message that was refused", "error", err)
	}
	ms.Events.Send(events.Event{Kind: "tray"})
}

// TakeIn takes a message, or those of an mbox file, into a mailbox of files. The report
// accounts for the whole file.
func (ms *Mailboxes) TakeIn(ctx context.Context, v store.Viewer, mailboxID string,
	content io.Reader) (report mailfile.Report, err error) {
	m, err := ms.Store.Mailboxes.ByID(ctx, v, mailboxID)
	if err != nil {
		return report, err
	}
	if m.Kind != "files" {
		return report, rule.Problems{{Place: "mailbox", Text: fmt.Sprintf("mail cannot be taken into “%s”: choose a "+
			"mailbox of files", m.Name)}}
	}
	ms.takingIn.Lock() // two at a time would not know of one another's messages
	defer ms.takingIn.Unlock()
	root, err := disk.Root(ms.MailFolder(m.ID))
	if err != nil {
		return report, err
	}
	defer root.Close()
	in, err := mailfile.NewIntake(root)
	if err != nil {
		return report, err
	}
	defer ms.Wake(m.ID)
	report, err = in.TakeFile(content, ms.Clock())
	if report.Taken > 0 {
		recorded := ms.Store.People.Record(ctx, v, "take in mail",
			fmt.Sprintf("%s: %d messages", m.Name, report.Taken))
		if err == nil {
			err = recorded
		}
	}
	return report, err
}
