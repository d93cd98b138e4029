package desk

import (
	"bytes"
	"context"
	"fmt"
	"io"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Read reads a message from its mailbox and writes it as text, or as a web page
// that loads nothing. It is drawn in a process of its own, and recorded.
func (dk *Desk) Read(ctx context.Context, v store.Viewer, messageID int64, form rule.CopyForm) (Reading, error) {
	var out Reading
	row, err := dk.Store.Messages.ByID(ctx, v, messageID)
	if err != nil {
		return out, err
	}
	if row.ErasedAt != nil {
		return out, store.ErrNotFound
	}
	if err := dk.Store.People.Record(ctx, v, "read message", fmt.Sprint(messageID)); err != nil {
		return out, err
	}
	err = dk.reader.WithMessage(ctx, v, &row, func(s source.Session, l *reading.Message) error {
		out.Message = l.Mail
		whole, err := dk.reader.Content(ctx, s, l, source.Whole)
		if err != nil {
			return err
		}
		defer whole.Close()
		var b bytes.Buffer
		_, err = child.Render(ctx, whole, render.Request{Form: form, Zone: dk.Zone.String()}, limitedTo(&b, mostReading))
		out.Text = b.String()
		return err
	})
	return out, err
}

// Reading is what a message says.
type Reading struct {
	Message *mail.Message
	Text    string
}

// mostReading bounds what is drawn of a message for reading, in octets: its
// pictures are within it.
const mostReading = 64 << 20

// limitedTo passes on as much as a limit allows and fails beyond it.
func limitedTo(w io.Writer, limit int64) io.Writer { return &limitedWriter{w, limit} }

type limitedWriter struct {
	w    io.Writer
	left int64
}

func (l *limitedWriter) Write(p []byte) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, fmt.Errorf("the message is too large to be shown")
	}
	return l.w.Write(p)
}
