// Package post carries what leaves the service: it writes mail and sends it by
// SMTP (RFC 5321), and calls addresses by HTTP with signed events (CloudEvents
// 1.0). What may be tried again, and what may have arrived already, it says.
package post

import (
	"bytes"
	"io"
	"strings"
	"time"

	"github.com/emersion/go-message/mail"
)

// Letter is a mail of the service's own.
type Letter struct {
	From       string // address
	Name       string // of the sender
	To         []string
	Subject    string
	Text       string
	ID         string // Message-ID with its brackets
	Date       time.Time
	InReplyTo  string // with brackets
	References string
	Auto       string // RFC 3834 section 5: auto-replied or auto-generated
}

// Bytes writes the letter as a message (RFC 5322, RFC 2045) with CRLF.
func (l *Letter) Bytes() ([]byte, error) {
	var h mail.Header
	h.SetDate(l.Date)
	h.SetAddressList("From", []*mail.Address{{Name: oneLine(l.Name), Address: l.From}})
	var to []*mail.Address
	for _, a := range l.To {
		to = append(to, &mail.Address{Address: a})
	}
	h.SetAddressList("To", to)
	h.SetSubject(oneLine(l.Subject))
	h.Set("Message-ID", l.ID)
	if l.InReplyTo != "" {
		h.Set("In-Reply-To", l.InReplyTo)
		h.Set("References", l.References)
	}
	h.Set("Auto-Submitted", l.Auto)
	h.Set("Content-Type", "text/plain; charset=utf-8")
	h.Set("Content-Transfer-Encoding", "quoted-printable")
	var b bytes.Buffer
	w, err := mail.CreateSingleInlineWriter(&b, h)
	if err != nil {
		return nil, err
	}
	text := strings.ReplaceAll(strings.ReplaceAll(l.Text, "\r\n", "\n"), "\n", "\r\n")
	if _, err := io.WriteString(w, text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// oneLine keeps a field from being more than one.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }
