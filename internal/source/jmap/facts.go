package jmap

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

const (
	maxMessage = 256 << 20 // octets of a message that is read whole
	maxHeader  = 1 << 20   // octets within which a message's header ends
)

// email is what is read of an Email object (RFC 8621 section 4).
type email struct {
	ID            string
	BlobID        string
	MailboxIDs    map[string]bool
	Keywords      lenient[map[string]bool]
	Size          lenient[int64]
	ReceivedAt    lenient[time.Time]
	Headers       lenient[[]field]
	BodyStructure lenient[part]
}

// lenient is what a server may tell in a way that the standard does not know; the value is empty then. One odd message
// is no reason to read none of its batch.
type lenient[T any] struct{ is T }

// UnmarshalJSON reads a value as far as it is one.
func (l *lenient[T]) UnmarshalJSON(data []byte) error {
	var is T
	if json.Unmarshal(data, &is) == nil {
		l.is = is
	}
	return nil
}

// field is a header field as it is written (RFC 8621 section 4.1.3).
type field struct {
	Name  string
	Value *string // nil where the server cannot put it into JSON
}

// part is what is read of an EmailBodyPart (RFC 8621 section 4.1.4).
type part struct {
	BlobID   *string
	Size     int64
	Type     string
	Headers  []field
	SubParts []part
}

var emailProperties = map[string]any{
	"properties":     []string{"id", "blobId", "mailboxIds", "keywords", "size", "receivedAt", "headers", "bodyStructure"},
	"bodyProperties": []string{"blobId", "size", "type", "headers", "subParts"},
}

func headerOf(fields []field) mail.Header {
	h := make(mail.Header, 0, len(fields))
	for _, f := range fields {
		if f.Value != nil {
			h = append(h, mail.Field{Name: f.Name, Value: *f.Value})
		}
	}
	return h
}

// altered says whether the server may have changed a header on the way into JSON, which is Unicode: only the message
// itself tells what octets beyond ASCII were.
func altered(fields []field) bool {
	return slices.ContainsFunc(fields, func(f field) bool {
		return f.Value == nil ||
			strings.ContainsFunc(f.Name+*f.Value, func(r rune) bool { return r >= utf8.RuneSelf || r == 0 })
	})
}

// understand makes facts of what the server tells. ok is false where only the message itself can be relied on: it
// has no Message-ID, so that its exact sizes count; another message is in it, which the server does not take apart; a
// file seems to have no name; or the server tells something else than the header.
func (e *email) understand(uid uint32) (f source.Facts, ok bool) {
	f = source.Facts{UID: uid, Received: e.ReceivedAt.is, Size: e.Size.is, Flags: flags(e.Keywords.is)}
	header := headerOf(e.Headers.is)
	f.Header = header.Keep(mail.HeaderFields)
	root := e.BodyStructure.is
	root.Headers = e.Headers.is
	count := 0
	structure, ok := root.structure(0, &count)
	structure.Alike = true
	f.Structure = structure
	if !ok || altered(e.Headers.is) || header.MessageID() == "" || header.Get("From") == "" ||
		mail.Doubtful(f.Header, &f.Structure) || f.Structure.Nameless() {
		return f, false
	}
	return f, true
}

// structure makes a part into one entity. Its content comes decoded, so it is binary.
func (p *part) structure(depth int, count *int) (mail.Structure, bool) {
	s := mail.Declared(headerOf(p.Headers), "text", "plain")
	if *count++; depth >= mail.MaxDepth || *count > mail.MaxParts || depth > 0 && altered(p.Headers) {
		return s, false
	}
	full := strings.ToLower(s.Type + "/" + s.Subtype)
	switch {
	case !strings.EqualFold(full, p.Type), full == "message/rfc822", full == "message/global", full == "multipart/digest":
		return s, false
	case strings.HasPrefix(full, "multipart/"):
		for i := range p.SubParts {
			child, ok := p.SubParts[i].structure(depth+1, count)
			if !ok {
				return s, false
			}
			s.Children = append(s.Children, child)
		}
		return s, len(s.Children) > 0
	case len(p.SubParts) > 0 || p.BlobID == nil || p.Size < 0:
		return s, false
	}
	if s.Size = p.Size; mail.Wrapped(s.Encoding) {
		s.Encoding = "binary"
	}
	return s, true
}

// find finds a part by its item number, numbered as the parts of a message are (RFC 9051 section 6.4.5).
func (p *part) find(item string) *part {
	at := p
	if !strings.HasPrefix(strings.ToLower(p.Type), "multipart/") {
		if item != "1" {
			return nil
		}
		return p
	}
	for _, number := range strings.Split(item, ".") {
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || n > len(at.SubParts) {
			return nil
		}
		at = &at.SubParts[n-1]
	}
	return at
}

// named gives the names of messages of the open folder; those that are not there are left out.
func (s *Session) named(ctx context.Context, uids []uint32) (map[string]uint32, error) {
	found := make(map[string]uint32, len(uids))
	err := s.alone(ctx, func() error {
		l, err := s.current(ctx)
		if err != nil {
			return err
		}
		for _, uid := range uids {
			if id, there := l.names[uid]; there {
				found[id] = uid
			}
		}
		return nil
	})
	return found, err
}

// emails reads messages by their names. Those that are gone are missing.
func (s *Session) emails(ctx context.Context, ids []string) ([]email, error) {
	var got struct{ List []email }
	args := map[string]any{"accountId": s.open.account.id, "ids": ids}
	for k, v := range emailProperties {
		args[k] = v
	}
	err := s.client.calls(ctx, call{"Email/get", args, &got})
	var odd *unreadable
	if errors.Is(err, errTooMuch) || errors.As(err, &odd) || isMethod(err, "requestTooLarge") {
		if len(ids) == 1 { // the one that cannot be read so
			return s.bare(ctx, ids[0])
		}
		half := len(ids) / 2
		first, err := s.emails(ctx, ids[:half])
		if err != nil {
			return nil, err
		}
		second, err := s.emails(ctx, ids[half:])
		return append(first, second...), err
	}
	return slices.DeleteFunc(got.List, func(e email) bool { return !e.MailboxIDs[s.open.id] }), err
}

// Facts reads the facts of messages. Those of which the server's account cannot be relied on are read whole.
func (s *Session) Facts(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	names, err := s.named(ctx, uids)
	if err != nil {
		return nil, err
	}
	var ids []string
	for id := range names {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b string) int { return cmp.Compare(names[a], names[b]) })
	var all []source.Facts
	for some := range slices.Chunk(ids, max(1, min(factsBatch, s.client.session.limits.ObjectsInGet))) {
		found, err := s.emails(ctx, some)
		if err != nil {
			return all, s.client.explain(source.Folders, "reading messages", err)
		}
		remember(s, found)
		for i := range found {
			f, ok := found[i].understand(names[found[i].ID])
			if !ok {
				raw, err := s.whole(ctx, &found[i])
				if errors.Is(err, source.ErrGone) {
					if err = missing(ctx, s, found[i].ID); err == nil {
						continue
					}
				}
				if err != nil {
					return all, err
				}
				f.Header, f.Structure, f.Whole = raw.Message.Header, raw.Structure(), true
				f.Structure.Alike = true
			}
			all = append(all, f)
		}
	}
	slices.SortFunc(all, func(a, b source.Facts) int { return cmp.Compare(a.UID, b.UID) })
	return all, nil
}

// missing says whether a message of which the server gave no octets is gone: nil where it is. What is still listed was
// not read, and is to be asked for again.
func missing(ctx context.Context, s *Session, id string) error {
	found, err := s.bare(ctx, id)
	switch {
	case err != nil:
		return s.client.explain(source.Folders, "reading a message", err)
	case len(found) > 0:
		return source.ErrNothing
	}
	return nil
}

// bare reads a message without its structure.
func (s *Session) bare(ctx context.Context, id string) ([]email, error) {
	var got struct{ List []email }
	err := s.client.calls(ctx, call{"Email/get", map[string]any{"accountId": s.open.account.id, "ids": []string{id},
		"properties": []string{"id", "blobId", "mailboxIds", "keywords", "size", "receivedAt"}}, &got})
	return slices.DeleteFunc(got.List, func(e email) bool { return !e.MailboxIDs[s.open.id] }), err
}

// whole reads a message with all its octets. The last one is kept.
func (s *Session) whole(ctx context.Context, e *email) (*mail.Raw, error) {
	if s.last.id == e.ID && s.last.raw != nil {
		return s.last.raw, nil
	}
	if e.Size.is > maxMessage {
		return nil, fmt.Errorf("the message has %d MB; the most that is read is %d", e.Size.is>>20, maxMessage>>20)
	}
	r, err := s.blob(ctx, e.BlobID)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, maxMessage+1))
	if err = errors.Join(err, r.Close()); err != nil {
		return nil, s.client.explain(source.Connection, "reading a message", err)
	}
	if len(data) > maxMessage {
		return nil, fmt.Errorf("the message has more than %d MB", maxMessage>>20)
	}
	s.last.id, s.last.email, s.last.raw = e.ID, e, mail.Parse(data)
	return s.last.raw, nil
}

// blob opens a blob of the open folder's account.
func (s *Session) blob(ctx context.Context, id string) (io.ReadCloser, error) {
	r, err := s.client.blob(ctx, s.open.account.id, id)
	var no *refusal
	if errors.As(err, &no) && no.status == 404 {
		return nil, source.ErrGone
	}
	return r, s.client.explain(source.Connection, "reading a part of a message", err)
}

// message finds a message of the open folder.
func (s *Session) message(ctx context.Context, uid uint32, bare bool) (*email, error) {
	names, err := s.named(ctx, []uint32{uid})
	if err != nil {
		return nil, err
	}
	for id := range names {
		if s.last.id == id && s.last.email != nil && (bare || s.last.email.BodyStructure.is.Type != "") {
			return s.last.email, nil
		}
		if kept := s.recent[id]; kept != nil && (bare || kept.BodyStructure.is.Type != "") {
			if s.last.id != id {
				s.last.raw = nil
			}
			s.last.id, s.last.email = id, kept
			return kept, nil
		}
		read := s.bare
		if !bare {
			read = func(ctx context.Context, id string) ([]email, error) { return s.emails(ctx, []string{id}) }
		}
		found, err := read(ctx, id)
		if err != nil {
			return nil, s.client.explain(source.Folders, "reading a message", err)
		}
		if len(found) == 1 {
			if s.last.id != id {
				s.last.raw = nil
			}
			s.last.id, s.last.email = id, &found[0]
			return &found[0], nil
		}
	}
	return nil, source.ErrGone
}

// Part opens one part's content. The server takes the transfer encoding off, but of messages that are read whole.
func (s *Session) Part(ctx context.Context, facts *source.Facts, item string) (io.ReadCloser, error) {
	whole := facts.Whole || item == source.Header || item == source.Whole || !facts.Structure.Alike
	e, err := s.message(ctx, facts.UID, whole)
	if err != nil {
		return nil, err
	}
	switch {
	case item == source.Header && e.Size.is > maxHeader && s.last.raw == nil:
		return headerAlone(ctx, s, e)
	case item == source.Whole && s.last.raw == nil:
		return s.blob(ctx, e.BlobID)
	case whole:
		raw, err := s.whole(ctx, e)
		if err != nil {
			return nil, err
		}
		r, err := raw.Open(item)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(r), nil
	}
	p := e.BodyStructure.is.find(item)
	if p == nil || p.BlobID == nil {
		return nil, fmt.Errorf("the message has no part %q", item)
	}
	return s.blob(ctx, *p.BlobID)
}

// headerAlone reads the header of a large message, and not the rest.
func headerAlone(ctx context.Context, s *Session, e *email) (io.ReadCloser, error) {
	r, err := s.blob(ctx, e.BlobID)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, maxHeader))
	if err := errors.Join(err, r.Close()); err != nil {
		return nil, s.client.explain(source.Connection, "reading a header", err)
	}
	h, err := mail.Parse(data).Open(source.Header)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(h), nil
}

// Head reads the first octets of a part.
func (s *Session) Head(ctx context.Context, facts *source.Facts, item string, octets int64) ([]byte, error) {
	r, err := s.Part(ctx, facts, item)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, octets))
	if closed := r.Close(); err == nil {
		err = closed
	}
	return bytes.Clone(data), err
}
