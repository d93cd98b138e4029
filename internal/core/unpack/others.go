package unpack

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"github.com/bodgit/sevenzip"
	"github.com/nwaples/rardecode/v2"
	"github.com/smallstep/pkcs7"

	"inktray.example/inktray/internal/core/mail"
)

// sevenZip looks into a 7z archive.
func (o *opener) sevenZip() error {
	try := append([]string{""}, o.request.Passwords...)
	var z *sevenzip.Reader
	var err error
	for _, p := range try {
		if z, err = sevenzip.NewReaderWithPassword(o.src, o.size, p); err != nil {
			continue // the list of names is encrypted too
		}
		if err = readable(z); err == nil {
			break
		}
	}
	if err != nil {
		var read *sevenzip.ReadError
		if errors.As(err, &read) && read.Encrypted {
			return encrypted("archive", len(o.request.Passwords))
		}
		return broken("archive", err)
	}
	said := &opener{size: o.size, limits: o.limits}
	for _, f := range z.File {
		if err := said.room(int64(f.UncompressedSize)); err != nil {
			return err
		}
	}
	for _, f := range z.File {
		if f.FileInfo().IsDir() {
			continue
		}
		e := Entry{Name: f.Name, Size: int64(f.UncompressedSize)}
		if e.Number, err = o.next(); err != nil {
			return err
		}
		if f.Mode()&fs.ModeSymlink != 0 {
			e.Left = "a link or a device, which is never followed"
		}
		if !o.wants(e.Number) {
			if err := o.give(e, nil); err != nil {
				return err
			}
			continue
		}
		content, err := f.Open()
		if err != nil {
			return o.told("archive", err)
		}
		err = o.told("archive", o.give(e, content))
		content.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// readable tries the first file that has content: a wrong password shows there.
func readable(z *sevenzip.Reader) error {
	for _, f := range z.File {
		if f.FileInfo().IsDir() || f.UncompressedSize == 0 {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		defer r.Close()
		_, err = io.CopyN(io.Discard, r, int64(min(f.UncompressedSize, 1<<20)))
		return err
	}
	return nil
}

// rar looks into a RAR archive, of version 1.5 to 5.
func (o *opener) rar() error {
	open := func(password string) (*rardecode.Reader, error) {
		options := []rardecode.Option{rardecode.MaxDictionarySize(256 << 20)}
		if password != "" {
			options = append(options, rardecode.Password(password))
		}
		return rardecode.NewReader(io.NewSectionReader(o.src, 0, o.size), options...)
	}
	try := append([]string{""}, o.request.Passwords...)
	password, err := "", error(nil)
	for _, p := range try {
		var r *rardecode.Reader
		if r, err = open(p); err != nil {
			continue
		}
		var h *rardecode.FileHeader
		for h, err = r.Next(); err == nil && (h.IsDir || h.UnPackedSize == 0); h, err = r.Next() {
		}
		if err == nil && (h.Encrypted || h.HeaderEncrypted) {
			_, err = io.CopyN(io.Discard, r, min(h.UnPackedSize, 1<<20))
		}
		if err == nil || err == io.EOF {
			password, err = p, nil
			break
		}
	}
	switch {
	case errors.Is(err, rardecode.ErrArchiveEncrypted), errors.Is(err, rardecode.ErrArchivedFileEncrypted),
		errors.Is(err, rardecode.ErrBadPassword):
		return encrypted("archive", len(o.request.Passwords))
	case err != nil:
		return broken("archive", err)
	}
	r, err := open(password)
	if err != nil {
		return broken("archive", err)
	}
	for {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return broken("archive", err)
		}
		if h.IsDir {
			continue
		}
		e := Entry{Name: h.Name, Size: h.UnPackedSize}
		if h.UnKnownSize {
			e.Size = -1
		}
		if e.Number, err = o.next(); err != nil {
			return err
		}
		if h.Mode()&fs.ModeSymlink != 0 {
			e.Left = "a link or a device, which is never followed"
		}
		if e.Size >= 0 && !o.wants(e.Number) {
			if err := o.room(e.Size); err != nil {
				return err
			}
		}
		if err := o.told("archive", o.give(e, r)); err != nil {
			return err
		}
	}
}

// maxSigned bounds signed mail, which is read whole.
const maxSigned = 100_000_000

// smime looks into S/MIME content that is signed and not encrypted (RFC 8551
// section 3.5.2). Whose signature it is is not asked here.
func (o *opener) smime() error {
	if o.size > maxSigned {
		return &Error{Problem: "signed mail of more than 100 MB is not opened", Limit: true}
	}
	data, err := io.ReadAll(io.NewSectionReader(o.src, 0, o.size))
	if err != nil {
		return Passed(err)
	}
	p, err := pkcs7.Parse(data)
	if errors.Is(err, pkcs7.ErrUnsupportedContentType) ||
		bytes.Contains(data[:min(len(data), 64)], []byte{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x03}) {
		return &Error{Problem: "it is encrypted (S/MIME), so Ink Tray cannot read it", Encrypted: true}
	}
	if err != nil {
		return broken("signed mail", err)
	}
	raw := mail.Parse(p.Content)
	for _, part := range raw.Message.TextParts() {
		in, err := raw.Open(part.Item)
		if err != nil {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(mail.Decode(part.Encoding, in), 1<<20))
		if err != nil {
			return broken("signed mail", err)
		}
		if err := o.visit(Entry{Text: true, Type: part.Type, Name: part.Charset, Size: int64(len(text))},
			bytes.NewReader(text)); err != nil {
			return err
		}
	}
	return o.items(raw, "signed mail", "")
}

// maxForward bounds a forwarded message that is sent encoded, which is read whole.
const maxForward = 100_000_000

// message looks into a forwarded message that was sent encoded.
func (o *opener) message() error {
	if o.size > maxForward {
		return &Error{Problem: "an encoded message of more than 100 MB is not opened", Limit: true}
	}
	data, err := io.ReadAll(io.NewSectionReader(o.src, 0, o.size))
	if err != nil {
		return Passed(err)
	}
	raw := mail.Parse(data)
	if raw.Message.Broken != "" {
		return &Error{Problem: "the forwarded message cannot be read: " + raw.Message.Broken}
	}
	header := string(mail.HeaderOf(data).Keep(forwardFields).Bytes())
	if err := o.visit(Entry{Header: header}, nil); err != nil {
		return err
	}
	return o.items(raw, "forwarded message", header)
}

var forwardFields = []string{"Date", "From", "To", "Cc", "Subject", "Message-ID"}

// items gives the attachments of a message. header is that of the message, where its
// attachments are to say from which message they come.
func (o *opener) items(raw *mail.Raw, what, header string) error {
	for _, item := range raw.Message.Items() {
		if _, err := o.next(); err != nil {
			return err
		}
		in, err := raw.Open(item.ID)
		if err != nil {
			return broken(what, err)
		}
		e := Entry{Number: item.ID, Name: strings.ReplaceAll(item.Name, "/", "-"), Type: item.Type, Inline: item.Inline,
			Size: item.Size, Header: header,
			Opens: mail.Wrapped(item.Encoding) && item.Opens && strings.HasPrefix(item.Type, "message/")}
		if item.Forward != nil && header != "" {
			e.Header = headerOf(item.Forward)
		}
		if err := o.told(what, o.give(e, mail.Decode(item.Encoding, in))); err != nil {
			return err
		}
	}
	return nil
}

// headerOf writes an envelope as header fields.
func headerOf(e *mail.Envelope) string {
	var h mail.Header
	if sender := e.Sender(); sender.String() != "" {
		h = append(h, mail.Field{Name: "From", Value: strconv.Quote(sender.Name) + " <" + sender.String() + ">"})
	}
	return string(append(h, mail.Field{Name: "Subject", Value: e.Subject}).Bytes())
}
