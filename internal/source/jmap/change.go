package jmap

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inktray.example/inktray/internal/source"
)

var _ source.Changer = (*Session)(nil)

// setError says why an object was not changed (RFC 8620 section 5.3).
type setError struct {
	Type        string
	Description string
	Properties  []string
	ExistingID  string // of Email/import: the message is there already
}

func (e *setError) Error() string {
	if e.Description != "" {
		return e.Type + ": " + e.Description
	}
	return e.Type
}

// Write opens a folder for changing. JMAP makes no difference.
func (s *Session) Write(ctx context.Context, folder string) (source.State, error) {
	return s.Open(ctx, folder)
}

// idOf gives the name of a message of the open folder.
func idOf(ctx context.Context, s *Session, uid uint32) (string, error) {
	names, err := s.named(ctx, []uint32{uid})
	if err != nil {
		return "", err
	}
	for id := range names {
		return id, nil
	}
	return "", source.ErrGone
}

// change changes one message (RFC 8621 section 4.6).
func (s *Session) change(ctx context.Context, a *account, id string, patch map[string]any) error {
	var got struct{ NotUpdated map[string]*setError }
	err := s.client.calls(ctx, call{"Email/set",
		map[string]any{"accountId": a.id, "update": map[string]any{id: patch}}, &got})
	if err != nil {
		return err
	}
	return setFailure(got.NotUpdated[id])
}

func setFailure(e *setError) error {
	switch {
	case e == nil:
		return nil
	case e.Type == "notFound":
		return source.ErrGone
	}
	return &methodError{Type: e.Type, Description: e.Description, method: "Email/set"}
}

// Mark puts keywords on a message and takes others off.
func (s *Session) Mark(ctx context.Context, uid uint32, on, off []string) ([]string, error) {
	id, err := idOf(ctx, s, uid)
	if err != nil {
		return nil, err
	}
	patch := map[string]any{}
	for _, f := range off {
		patch["keywords/"+pointer(keyword(f))] = nil
	}
	for _, f := range on {
		patch["keywords/"+pointer(keyword(f))] = true
	}
	if err := s.change(ctx, s.open.account, id, patch); err != nil {
		if isMethod(err, "invalidProperties") || isMethod(err, "tooManyKeywords") || isMethod(err, "invalidPatch") {
			return nil, source.ErrNoLabels
		}
		return nil, s.client.explain(source.Folders, "changing the labels of a message", err)
	}
	found, err := s.bare(ctx, id)
	if err != nil {
		return nil, s.client.explain(source.Folders, "reading the labels of a message", err)
	}
	if len(found) == 0 {
		return nil, source.ErrGone
	}
	has := flags(found[0].Keywords.is)
	for _, f := range on {
		if !found[0].Keywords.is[keyword(f)] {
			return has, source.ErrNoLabels // taken, and not kept
		}
	}
	return has, nil
}

// pointer escapes a name for use in a path (RFC 6901 section 3).
func pointer(name string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(name) }

// ensure finds a folder, making it and those around it where they are missing.
func (s *Session) ensure(ctx context.Context, folder string) (p place, err error) {
	err = s.alone(ctx, func() error {
		p, err = made(ctx, s, folder)
		return err
	})
	return p, err
}

func made(ctx context.Context, s *Session, folder string) (place, error) {
	refresh(s)
	if p, ok := s.places[folder]; ok {
		return p, nil
	}
	if _, err := folders(ctx, s); err != nil {
		return place{}, err
	}
	if p, ok := s.places[folder]; ok {
		return p, nil
	}
	a, parent := s.accounts[s.primary()], ""
	levels := strings.Split(folder, "/")
	if strings.HasPrefix(folder, others) && (len(levels) < 3 || shares(s, levels[1]) == nil) {
		return place{}, noFolder(folder)
	}
	if strings.HasPrefix(folder, others) {
		a = shares(s, levels[1])
	}
	for i := range levels {
		path := strings.Join(levels[:i+1], "/")
		if a.id != s.primary() && i < 2 { // where the account stands
			parent = s.places[path].id
			continue
		}
		if p, ok := s.places[path]; ok {
			a, parent = p.account, p.id
			continue
		}
		folder := map[string]any{"name": levels[i]}
		if parent != "" {
			folder["parentId"] = parent
		}
		var got struct {
			Created    map[string]struct{ ID string }
			NotCreated map[string]*setError
		}
		err := s.client.calls(ctx, call{"Mailbox/set", map[string]any{"accountId": a.id,
			"create": map[string]any{"new": folder}}, &got})
		if no := got.NotCreated["new"]; err == nil && no != nil {
			err = &methodError{Type: no.Type, Description: no.Description, method: "Mailbox/set"}
		}
		if err != nil {
			return place{}, s.client.explain(source.Folders, fmt.Sprintf("making the folder “%s”", path), err)
		}
		parent = got.Created["new"].ID
		s.places[path] = place{a, parent, path}
	}
	p, ok := s.places[folder]
	if !ok || p.id == "" {
		return place{}, s.client.explain(source.Folders, fmt.Sprintf("making the folder “%s”", folder),
			&unreadable{errors.New("the new folder has no name")})
	}
	return p, nil
}

// Move moves a message to another folder of its account.
func (s *Session) Move(ctx context.Context, uid uint32, folder string) (source.Place, error) {
	to := source.Place{Folder: folder}
	id, err := idOf(ctx, s, uid)
	if err != nil {
		return to, err
	}
	p, err := s.ensure(ctx, folder)
	if err != nil {
		return to, err
	}
	doing := fmt.Sprintf("moving a message to “%s”", folder)
	if p.account != s.open.account {
		return to, &source.Error{Step: source.Folders, Problem: doing + ": the folder belongs to another account",
			Advice: "Choose a folder of the same account.", Lasting: true}
	}
	if p.id != s.open.id {
		err = s.change(ctx, p.account, id, map[string]any{"mailboxIds/" + s.open.id: nil, "mailboxIds/" + p.id: true})
	}
	if err != nil {
		return to, s.client.explain(source.Folders, doing, err)
	}
	err = s.alone(ctx, func() error {
		numbering, err := s.known.numbers.Of(ctx, p.key(), []string{id})
		if err != nil {
			return err
		}
		to.UIDValidity, to.UID = numbering.UIDValidity, numbering.UIDs[id]
		return s.update(ctx, p.account)
	})
	return to, err
}

// Named lists the messages of the open folder that have a Message-ID.
func (s *Session) Named(ctx context.Context, messageID string) (uids []uint32, err error) {
	err = s.alone(ctx, func() error {
		uids, err = withMessageID(ctx, s, messageID)
		return err
	})
	return uids, err
}

func withMessageID(ctx context.Context, s *Session, messageID string) ([]uint32, error) {
	l, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	ids, err := s.query(ctx, s.open.account, map[string]any{"operator": "AND", "conditions": []any{
		map[string]any{"inMailbox": s.open.id}, map[string]any{"header": []string{"Message-ID", messageID}}}})
	if err != nil {
		return nil, s.client.explain(source.Folders, "looking for a message", err)
	}
	var uids []uint32
	for some := range slices.Chunk(ids, max(1, s.client.session.limits.ObjectsInGet)) {
		var got struct {
			List []struct {
				ID        string
				MessageID []string
			}
		}
		err := s.client.calls(ctx, call{"Email/get", map[string]any{"accountId": s.open.account.id, "ids": some,
			"properties": []string{"id", "messageId"}}, &got})
		if err != nil {
			return nil, s.client.explain(source.Folders, "looking for a message", err)
		}
		for _, m := range got.List { // the search finds parts of a field, too
			if uid := l.uids[m.ID]; uid > 0 && slices.Contains(m.MessageID, messageID) {
				uids = append(uids, uid)
			}
		}
	}
	slices.Sort(uids)
	return uids, nil
}

// Remove takes a message out of the open folder; one that lies in no other is destroyed.
func (s *Session) Remove(ctx context.Context, uid uint32) error {
	const doing = "removing a message"
	id, err := idOf(ctx, s, uid)
	if err != nil {
		return err
	}
	found, err := s.bare(ctx, id)
	if err != nil {
		return s.client.explain(source.Folders, doing, err)
	}
	if len(found) == 0 {
		return source.ErrGone
	}
	if len(found[0].MailboxIDs) > 1 {
		err = s.change(ctx, s.open.account, id, map[string]any{"mailboxIds/" + s.open.id: nil})
	} else {
		var got struct{ NotDestroyed map[string]*setError }
		err = s.client.calls(ctx, call{"Email/set",
			map[string]any{"accountId": s.open.account.id, "destroy": []string{id}}, &got})
		if err == nil {
			err = setFailure(got.NotDestroyed[id])
		}
	}
	if err != nil {
		return s.client.explain(source.Folders, doing, err)
	}
	return s.alone(ctx, func() error { return s.update(ctx, s.open.account) })
}

// Append puts a message into a folder (RFC 8621 section 4.8).
func (s *Session) Append(ctx context.Context, folder string, message []byte, labels []string) error {
	doing := fmt.Sprintf("putting a message into “%s”", folder)
	p, err := s.ensure(ctx, folder)
	if err != nil {
		return err
	}
	blob, err := s.client.upload(ctx, p.account.id, message)
	if err != nil {
		return s.client.explain(source.Folders, doing, err)
	}
	keywords := map[string]bool{}
	for _, f := range labels {
		keywords[keyword(f)] = true
	}
	var got struct{ NotCreated map[string]*setError }
	err = s.client.calls(ctx, call{"Email/import", map[string]any{"accountId": p.account.id, "emails": map[string]any{
		"new": map[string]any{"blobId": blob, "mailboxIds": map[string]bool{p.id: true}, "keywords": keywords}}}, &got})
	if no := got.NotCreated["new"]; err == nil && no != nil {
		if no.Type == "alreadyExists" && no.ExistingID != "" { // it is put into the folder, too
			err = s.change(ctx, p.account, no.ExistingID, map[string]any{"mailboxIds/" + p.id: true})
		} else {
			err = &methodError{Type: no.Type, Description: no.Description, method: "Email/import"}
		}
	}
	if err != nil {
		return s.client.explain(source.Folders, doing, err)
	}
	return s.alone(ctx, func() error { return s.update(ctx, p.account) })
}
