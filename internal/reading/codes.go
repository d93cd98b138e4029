package reading

import (
	"context"
	"errors"
	"os"
	"strings"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/codes"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/source"
)

// codes reads the bar codes and QR codes in an item. Why they cannot be read is noted; the error is the mailbox's or
// the machine's.
func (rd *Reader) codes(ctx context.Context, s source.Opener, l *Message, id string) error {
	if _, known := l.Mail.Codes[id]; known {
		return nil
	}
	if l.Mail.Codes == nil {
		l.Mail.Codes = map[string]*mail.Codes{}
	}
	return rd.look(ctx, s, l, id, func(wrong unpack.Error) {
		l.Mail.Codes[id] = &mail.Codes{Problem: wrong.Problem}
	}, func(f *os.File, _ *mail.Item) error {
		read, err := codesIn(ctx, rd, l, f)
		if err == nil {
			l.Mail.Codes[id] = read
		}
		return err
	})
}

// codesIn reads the codes in a file that lies here.
func codesIn(ctx context.Context, rd *Reader, l *Message, f *os.File) (*mail.Codes, error) {
	out := &mail.Codes{}
	var found []codes.Code
	err := l.Child(ctx, func(ctx context.Context) (err error) { // it has to see whether time ran out
		found, out.Left, err = child.Codes(ctx, f, rd.codeRequest())
		return err
	})
	var known *unpack.Error
	if errors.As(err, &known) {
		return &mail.Codes{Problem: known.Problem}, nil
	}
	var texts []string
	for _, c := range found {
		texts = append(texts, c.Text)
	}
	out.Text = strings.Join(texts, "\n")
	return out, err
}

func (rd *Reader) codeRequest() text.CodeRequest {
	return text.CodeRequest{Reader: rd.Ready, Pages: rd.Office.Settings().Scans.Pages}
}

// ListCodes reads the bar codes and QR codes in a file that lies here, with their places. missing says why they cannot
// be read, or not on all pages; the error is the machine's.
func ListCodes(ctx context.Context, rd *Reader, f *os.File) (all []codes.Code, missing *mail.Codes, err error) {
	if head, err := headOf(f); err != nil || !text.PDF(head) && !text.Picture(head) {
		return nil, &mail.Codes{}, err // it has no pages, which needs no process to see
	}
	all, left, err := child.Codes(ctx, f, rd.codeRequest())
	var known *unpack.Error
	if errors.As(err, &known) {
		return nil, &mail.Codes{Problem: known.Problem}, nil
	}
	return all, &mail.Codes{Left: left}, err
}

// CodesOf reads the bar codes and QR codes in a file that lies here. Why they cannot be read is in the result; the
// error is the machine's.
func CodesOf(ctx context.Context, rd *Reader, f *os.File) (*mail.Codes, error) {
	l := &Message{}
	defer l.Close()
	return codesIn(ctx, rd, l, f)
}

// FindCodes says where the codes are in a file that hold texts.
func FindCodes(ctx context.Context, rd *Reader, f *os.File, texts []string) (spots []text.Spot, err error) {
	found, _, err := ListCodes(ctx, rd, f)
	for _, c := range found {
		for i, wanted := range texts {
			if wanted != "" && strings.Contains(c.Text, wanted) {
				spots = append(spots, text.Spot{Text: i, Page: c.Page, Left: c.Left, Top: c.Top, Width: c.Width,
					Height: c.Height})
			}
		}
	}
	return spots, err
}
