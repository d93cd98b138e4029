// Package sourcetest is the conformance suite of sources: every kind of mailbox
// must pass it against a real server.
package sourcetest

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

// Box is a mailbox under test: how to read it, and how to change it from
// outside. What a kind cannot do is nil.
type Box struct {
	Session func(t *testing.T) source.Session
	Deliver func(t *testing.T, folder string, raw []byte, received time.Time, flags ...string) (uid uint32)
	Label   func(t *testing.T, folder string, uid uint32, label string)
	Delete  func(t *testing.T, folder string, uid uint32)
	Flags   func(t *testing.T, folder string, uid uint32) []string
	Undated bool // the server does not say when a message was received
	Stamps  bool // the server adds header fields of its own
}

var received = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

// Messages are what real senders write: every one must be understood the same
// way from the server's account of it as from its bytes.
func Messages() map[string]string {
	pdf := base64.StdEncoding.EncodeToString(bytes.Repeat([]byte("%PDF-1.7 berth plan\n"), 300))
	var folded strings.Builder
	for i := 0; i < len(pdf); i += 76 {
		folded.WriteString(pdf[i:min(i+76, len(pdf))] + "\r\n")
	}
	mixed := func(parts ...string) string {
		return "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: berths@brackwater.example\r\nSubject: Berth plan\r\nDate: " +
			"Tue, 12 May 2026 06:00:00 +0000\r\nMessage-ID: <1@tidewatch.example>\r\nMIME-Version: 1.0\r\n" +
			"Content-Type: multipart/mixed; boundary=\"=_b\"\r\n\r\n--=_b\r\nContent-Type: text/plain; " +
			"charset=utf-8\r\n\r\nSee plan.\r\n--=_b\r\n" +
			strings.Join(parts, "\r\n--=_b\r\n") + "\r\n--=_b--\r\n"
	}
	attachment := "Content-Type: application/pdf; name=\"plan.pdf\"\r\nContent-Disposition: attachment; " +
		"filename=\"plan.pdf\"\r\nContent-Transfer-Encoding: base64\r\n\r\n" + folded.String()
	forward := "Content-Type: message/rfc822\r\n\r\nFrom: Keld <keld@marram.example>\r\nSubject: Original\r\n" +
		"Content-Type: multipart/mixed; boundary=in\r\n\r\n--in\r\nContent-Type: text/plain\r\n\r\nx\r\n--in\r\n" +
		attachment + "\r\n--in--\r\n"
	return map[string]string{
		"plain text":     "From: a@b.example\r\nSubject: hello\r\n\r\nhello\r\n",
		"a lone PDF":     "From: a@b.example\r\nSubject: plan\r\n" + attachment,
		"one attachment": mixed(attachment),
		"several": mixed(attachment, strings.ReplaceAll(attachment, "plan.pdf", "b.pdf"),
			"Content-Type: text/csv; name=a.csv\r\n\r\na;b"),
		"forwarded message": mixed(forward),
		"forwarded single part": mixed(
			"Content-Type: message/rfc822\r\n\r\nSubject: only\r\nContent-Type: application/pdf; name=only.pdf\r\n\r\nx\r\n"),
		"encoded names": mixed("Content-Type: application/pdf\r\nContent-Disposition: attachment; "+
			"filename*0*=utf-8''Hafen%C3%BC; filename*1*=bersicht.pdf\r\n\r\nx",
			"Content-Type: application/pdf; name=\"=?iso-8859-1?Q?M=E4rz.pdf?=\"\r\n\r\nx", "Content-Type: application/pdf; "+
				"name=\"=?shift_jis?B?k/qWey5wZGY=?=\"\r\n\r\nx",
			"Content-Type: application/pdf; name=\"=?utf-8?Q?M=C3?= =?utf-8?Q?=A4rz.pdf?=\"\r\n\r\nx"),
		"inline picture": "From: a@b.example\r\nContent-Type: multipart/related; boundary=r\r\n\r\n--r\r\nContent-Type: " +
			"text/html\r\n\r\n<img src=cid:l>\r\n--r\r\n" +
			"Content-Type: image/png\r\nContent-ID: <l>\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw0KGgo=\r\n--r--\r\n",
		"no header at all": "\r\njust text\r\n",
		"odd fields": "From: \"x@y.example\" <a@b.example>, =?utf-8?Q?Zo=C3=AB?= <z@b.example>\r\nDate: " +
			"yesterday\r\nMessage-ID: no-brackets\r\nSubject: =?utf-8?Q?M=C3=A4?=\r\n =?utf-8?Q?rz?=\r\n\r\nx\r\n",
		"names that climb": mixed("Content-Type: application/pdf; name=\"../../etc/cron.pdf\"\r\n\r\nx"),
		"signed": "From: a@b.example\r\nContent-Type: multipart/signed; boundary=s; " +
			"protocol=\"application/pgp-signature\"\r\n\r\n--s\r\nContent-Type: text/plain\r\n\r\nx\r\n--s\r\nContent-Type: " +
			"application/pgp-signature; name=signature.asc\r\n\r\nx\r\n--s--\r\n",
		"calendar entry": mixed("Content-Type: text/calendar; method=REQUEST\r\n\r\nBEGIN:VCALENDAR"),
		"quoted-printable": mixed("Content-Type: text/csv; name=q.csv\r\nContent-Transfer-Encoding: " +
			"quoted-printable\r\n\r\na=3Bb=\r\nc"),
		"no last boundary": strings.TrimSuffix(mixed(attachment), "\r\n--=_b--\r\n"),
		"nested multiparts": mixed("Content-Type: multipart/alternative; "+
			"boundary=x\r\n\r\n--x\r\n\r\na\r\n--x\r\nContent-Type: multipart/related; boundary=y\r\n\r\n--y\r\nContent-Type: "+
			"text/html\r\n\r\nb\r\n--y\r\nContent-Type: image/gif; name=l.gif\r\n"+
			"Content-ID: <l>\r\n\r\nGIF89a\r\n--y--\r\n--x--", attachment),
	}
}

// promise is what a source must keep.
type promise struct {
	proves string
	run    func(t *testing.T, ctx context.Context, box Box)
}

// Run proves what every source promises.
func Run(t *testing.T, box Box) {
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	for _, p := range promises {
		t.Run(p.proves, func(t *testing.T) { p.run(t, ctx, box) })
	}
}

// open opens a folder in a session of its own.
func (box Box) open(t *testing.T, ctx context.Context, folder string) (source.Session, source.State) {
	t.Helper()
	s := box.Session(t)
	t.Cleanup(func() { s.Close() })
	state, err := s.Open(ctx, folder)
	if err != nil {
		t.Fatal(err)
	}
	return s, state
}

var promises = []promise{
	{"structure and bytes give the same items, and parts the same contents", func(t *testing.T, ctx context.Context,
		box Box) {
		for name, raw := range Messages() {
			uid := box.Deliver(t, "INBOX", []byte(raw), received)
			s, _ := box.open(t, ctx, "INBOX")
			facts, err := s.Facts(ctx, []uint32{uid})
			if err != nil || len(facts) != 1 {
				t.Fatalf("%s: %d facts, %v", name, len(facts), err)
			}
			got := facts[0].Message("INBOX")
			whole := mail.Parse([]byte(raw))
			want := whole.Message
			if g, w := describe(got, got.Alike), describe(want, got.Alike); g != w {
				t.Errorf("%s: the server's account gives\n%s\nthe bytes give\n%s", name, g, w)
			}
			if !facts[0].Arrived().Equal(received) && !box.Undated || got.Size != int64(len(raw)) && !box.Stamps {
				t.Errorf("%s: received %v, %d octets; want %v, %d", name, facts[0].Arrived(), got.Size, received, len(raw))
			}
			for _, item := range got.Items() {
				r, err := s.Part(ctx, &facts[0], item.ID)
				if err != nil {
					t.Errorf("%s: part %s: %v", name, item.ID, err)
					continue
				}
				content, err := io.ReadAll(r)
				if closeErr := r.Close(); err != nil || closeErr != nil {
					t.Errorf("%s: part %s: %v, %v", name, item.ID, err, closeErr)
				}
				direct, err := whole.Open(item.ID)
				if err != nil {
					t.Errorf("%s: the bytes have no part %s", name, item.ID)
					continue
				}
				if got.Alike && !facts[0].Whole { // the server takes the transfer encoding off
					direct = mail.Decode(want.PartOf(item.ID).Encoding, direct)
				}
				expected, _ := io.ReadAll(direct)
				if head, err := s.Head(ctx, &facts[0], item.ID, 10); err != nil ||
					!bytes.Equal(head, expected[:min(10, len(expected))]) {
					t.Errorf("%s: part %s begins with %q (%v), want %.10q", name, item.ID, head, err, expected)
				}
				if !bytes.Equal(content, expected) {
					t.Errorf("%s: part %s has %d octets from the server, %d in the bytes", name, item.ID, len(content), len(expected))
				}
			}
			together(t, ctx, s, &facts[0], name)
			for _, part := range []string{source.Header, source.Whole} {
				r, err := s.Part(ctx, &facts[0], part)
				if err != nil {
					t.Errorf("%s: %s: %v", name, part, err)
					continue
				}
				content, err := io.ReadAll(r)
				if closeErr := r.Close(); err != nil || closeErr != nil {
					t.Errorf("%s: %s: %v, %v", name, part, err, closeErr)
				}
				if direct, _ := whole.Open(part); direct != nil && !box.Stamps {
					if expected, _ := io.ReadAll(direct); !bytes.Equal(content, expected) {
						t.Errorf("%s: the %s is %q, want %q", name, part, content, expected)
					}
				}
			}
			s.Close()
		}
	}},
	{"reading leaves the message as it was", func(t *testing.T, ctx context.Context, box Box) {
		if box.Flags == nil {
			return
		}
		uid := box.Deliver(t, "INBOX", []byte(Messages()["one attachment"]), received)
		s, _ := box.open(t, ctx, "INBOX")
		facts, err := s.Facts(ctx, []uint32{uid})
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.Part(ctx, &facts[0], "2")
		if err != nil {
			t.Fatal(err)
		}
		io.Copy(io.Discard, r)
		r.Close()
		for _, f := range box.Flags(t, "INBOX", uid) {
			if strings.EqualFold(f, `\Seen`) {
				t.Error("the message became read")
			}
		}
	}},
	{"new messages have higher UIDs and lie at or after UIDNEXT", func(t *testing.T, ctx context.Context, box Box) {
		s, before := box.open(t, ctx, "INBOX")
		uid := box.Deliver(t, "INBOX", []byte("Subject: next\r\n\r\nx"), received)
		if uid < before.UIDNext {
			t.Errorf("UID %d is below the UIDNEXT %d that was told before", uid, before.UIDNext)
		}
		after, err := s.Open(ctx, "INBOX")
		if err != nil {
			t.Fatal(err)
		}
		if after.UIDValidity != before.UIDValidity || after.UIDNext <= uid {
			t.Errorf("before %+v, after %+v", before, after)
		}
		uids, err := s.UIDs(ctx, source.Query{From: before.UIDNext})
		if err != nil || len(uids) != 1 || uids[0] != uid {
			t.Errorf("from %d on: %v (%v), want %d alone", before.UIDNext, uids, err, uid)
		}
		if uids, err := s.UIDs(ctx, source.Query{From: after.UIDNext}); err != nil || len(uids) != 0 {
			t.Errorf("after the last message: %v (%v), want none", uids, err)
		}
	}},
	{"arrivals are announced or found by asking", func(t *testing.T, ctx context.Context, box Box) {
		s, _ := box.open(t, ctx, "INBOX")
		box.Deliver(t, "INBOX", []byte("Subject: push\r\n\r\nx"), received)
		e, err := s.Wait(ctx, 10*time.Second, nil)
		if err != nil || !e.Arrived {
			t.Errorf("%+v, %v", e, err)
		}
		if e, err := s.Wait(ctx, 50*time.Millisecond, nil); err != nil || e.Arrived {
			t.Errorf("nothing came, yet %+v, %v", e, err)
		}
	}},
	{"labels put on later are found", func(t *testing.T, ctx context.Context, box Box) {
		if box.Label == nil {
			return
		}
		uid := box.Deliver(t, "INBOX", []byte("Subject: label\r\n\r\nx"), received)
		s, state := box.open(t, ctx, "INBOX")
		box.Label(t, "INBOX", uid, "To_file")
		if uids, err := s.Changed(ctx, state.ModSeq); state.ModSeq > 0 &&
			(err != nil || len(uids) != 1 || uids[0] != uid) {
			t.Errorf("changed: %v (%v), want %d", uids, err, uid)
		}
		if uids, err := s.UIDs(ctx, source.Query{Keywords: []string{"Other", "To_file"}}); err != nil || len(uids) != 1 ||
			uids[0] != uid {
			t.Errorf("with the label: %v (%v), want %d", uids, err, uid)
		}
		facts, err := s.Facts(ctx, []uint32{uid})
		if err != nil || len(facts) != 1 || !facts[0].Message("INBOX").HasFlag("to_file") {
			t.Errorf("facts: %+v, %v", facts, err)
		}
	}},
	{"a message that is gone is told as gone", func(t *testing.T, ctx context.Context, box Box) {
		if box.Delete == nil {
			return
		}
		uid := box.Deliver(t, "INBOX", []byte(Messages()["one attachment"]), received)
		s, _ := box.open(t, ctx, "INBOX")
		facts, err := s.Facts(ctx, []uint32{uid})
		if err != nil {
			t.Fatal(err)
		}
		box.Delete(t, "INBOX", uid)
		if _, err := s.Open(ctx, "INBOX"); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Part(ctx, &facts[0], "2"); !errors.Is(err, source.ErrGone) {
			t.Errorf("part of a deleted message: %v", err)
		}
		if again, err := s.Facts(ctx, []uint32{uid}); err != nil || len(again) != 0 {
			t.Errorf("facts of a deleted message: %v, %v", again, err)
		}
	}},
	{"folders have paths and roles", func(t *testing.T, ctx context.Context, box Box) {
		s := box.Session(t)
		defer s.Close()
		folders, err := s.Folders(ctx)
		if err != nil {
			t.Fatal(err)
		}
		found := map[string]string{}
		for _, f := range folders {
			found[f.Path] = f.Role
		}
		if found["INBOX"] != "inbox" {
			t.Errorf("folders: %v", found)
		}
		var e *source.Error
		if _, err := s.Open(ctx, "No such folder"); !errors.As(err, &e) || e.Step != source.Folders {
			t.Errorf("a folder that is not there: %v", err)
		}
	}},
	{"messages are marked, moved, found and left", func(t *testing.T, ctx context.Context, box Box) {
		s, ok := box.Session(t).(source.Changer)
		if !ok {
			t.Skip("this kind of mailbox cannot be changed")
		}
		t.Cleanup(func() { s.Close() })
		raw := "From: a@b.example\r\nMessage-ID: <change-1@b.example>\r\nSubject: change\r\n\r\nx\r\n"
		uid := box.Deliver(t, "INBOX", []byte(raw), received)
		other := box.Deliver(t, "INBOX", []byte(strings.Replace(raw, "change-1", "change-2", 1)), received)
		if _, err := s.Write(ctx, "INBOX"); err != nil {
			t.Fatal(err)
		}
		flags, err := s.Mark(ctx, uid, []string{`\Seen`, `\Flagged`, "Filed", "Gauge_list"}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if flags, err = s.Mark(ctx, uid, []string{"Filed"}, []string{`\Flagged`, "Gauge_list", "Never_there"}); err != nil {
			t.Fatal(err)
		}
		has := func(f string) bool {
			return slices.ContainsFunc(flags, func(x string) bool { return strings.EqualFold(x, f) })
		}
		if !has(`\Seen`) || !has("Filed") || has(`\Flagged`) || has("Gauge_list") {
			t.Errorf("it carries %v", flags)
		}
		if got := box.Flags(t, "INBOX", other); len(got) > 0 && !slices.Equal(got, []string{`\Recent`}) {
			t.Errorf("another message carries %v", got)
		}
		if _, err := s.Mark(ctx, 999_999, []string{`\Seen`}, nil); !errors.Is(err, source.ErrGone) {
			t.Errorf("marking what is not there: %v", err)
		}
		if found, err := s.Named(ctx, "change-1@b.example"); err != nil || !slices.Equal(found, []uint32{uid}) {
			t.Errorf("found %v, %v; want %d", found, err, uid)
		}
		place, err := s.Move(ctx, uid, "Filed/2026/Häfen")
		if err != nil || place.Folder != "Filed/2026/Häfen" {
			t.Fatalf("moved to %+v, %v", place, err)
		}
		if left, err := s.UIDs(ctx, source.Query{From: uid, To: uid}); err != nil || len(left) > 0 {
			t.Errorf("it is still where it was: %v, %v", left, err)
		}
		state, err := s.Write(ctx, "Filed/2026/Häfen")
		if err != nil {
			t.Fatal(err)
		}
		found, err := s.Named(ctx, "change-1@b.example")
		if err != nil || len(found) != 1 {
			t.Fatalf("at its new place: %v, %v", found, err)
		}
		if place.UID > 0 && (place.UID != found[0] || place.UIDValidity != state.UIDValidity) {
			t.Errorf("it lies at %+v, and the session said %+v", found, place)
		}
		if _, err := s.Move(ctx, 999_999, "Filed"); !errors.Is(err, source.ErrGone) {
			t.Errorf("moving what is not there: %v", err)
		}
		if err := s.Append(ctx, "Drafts", []byte(strings.Replace(raw, "change-1", "change-3", 1)),
			[]string{`\Draft`, `\Seen`}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Write(ctx, "Drafts"); err != nil {
			t.Fatal(err)
		}
		if found, err = s.Named(ctx, "change-3@b.example"); err != nil || len(found) != 1 {
			t.Fatalf("among the drafts: %v, %v", found, err)
		}
		if err := s.Remove(ctx, found[0]); err != nil {
			t.Fatal(err)
		}
		if found, err = s.Named(ctx, "change-3@b.example"); err != nil || len(found) != 0 {
			t.Errorf("after its removal: %v, %v", found, err)
		}
		var e *source.Error
		if _, err := s.Write(ctx, "No such folder"); !errors.As(err, &e) || e.Step != source.Folders {
			t.Errorf("a folder that is not there: %v", err)
		}
	}},
	{"an ended context ends the wait", func(t *testing.T, ctx context.Context, box Box) {
		s, _ := box.open(t, ctx, "INBOX")
		short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
		defer cancel()
		start := time.Now()
		for { // news of what earlier tests changed may still come
			_, err := s.Wait(short, time.Hour, nil)
			if err == nil && time.Since(start) < 20*time.Second {
				continue
			}
			if !errors.Is(err, context.DeadlineExceeded) {
				t.Errorf("got %v", err)
			}
			break
		}
		if d := time.Since(start); d > 20*time.Second {
			t.Errorf("it took %v", d)
		}
	}},
}

// describe says what was understood of a message; without what depends on the transfer encoding where parts come
// decoded.
func describe(m *mail.Message, decoded bool) string {
	var b strings.Builder
	e := m.Envelope
	fmt.Fprintf(&b, "subject %q, from %v, date %v, id %q\n", e.Subject, e.From, e.Date.UTC(), e.MessageID)
	for _, i := range m.Items() {
		forward := ""
		if i.Forward != nil {
			forward = fmt.Sprintf(" of %q by %v", i.Forward.Subject, i.Forward.From)
		}
		sent := fmt.Sprintf("%s %d octets", i.Encoding, i.Encoded)
		if decoded {
			sent = ""
		}
		fmt.Fprintf(&b, "%s %q %s %s inline=%v detached=%v%s\n", i.ID, i.Name, i.Type, sent, i.Inline, i.Detached, forward)
	}
	for _, p := range m.TextParts() {
		fmt.Fprintf(&b, "text %s %s\n", p.Item, p.Type)
	}
	return b.String()
}
