package imap

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	imaplib "github.com/emersion/go-imap/v2"

	"inktray.example/inktray/internal/source"
)

var _ source.Changer = (*Session)(nil)

// Write opens a folder by SELECT; everything else opens by EXAMINE.
func (s *Session) Write(ctx context.Context, folder string) (source.State, error) {
	return s.choose(ctx, folder, false)
}

// Mark stores flags and reads back what the message has then.
func (s *Session) Mark(ctx context.Context, uid uint32, on, off []string) ([]string, error) {
	for _, f := range on {
		if !strings.HasPrefix(f, `\`) && !slices.Contains(s.keeps, imaplib.FlagWildcard) &&
			!slices.ContainsFunc(s.keeps, func(k imaplib.Flag) bool { return strings.EqualFold(string(k), f) }) {
			return nil, source.ErrNoLabels
		}
	}
	for _, change := range []struct {
		op    imaplib.StoreFlagsOp
		flags []string
	}{{imaplib.StoreFlagsAdd, on}, {imaplib.StoreFlagsDel, off}} {
		if len(change.flags) == 0 {
			continue
		}
		store := &imaplib.StoreFlags{Op: change.op, Silent: true}
		for _, f := range change.flags {
			store.Flags = append(store.Flags, imaplib.Flag(f))
		}
		err := s.run(ctx, func() error { return s.client.Store(imaplib.UIDSetNum(imaplib.UID(uid)), store, nil).Close() })
		if err != nil {
			return nil, s.lost(source.Folders, "changing the labels of a message", err)
		}
	}
	var flags []string
	found := false
	err := s.run(ctx, func() error {
		got, err := s.client.Fetch(imaplib.UIDSetNum(imaplib.UID(uid)),
			&imaplib.FetchOptions{UID: true, Flags: true}).Collect()
		for _, m := range got {
			if uint32(m.UID) == uid {
				found = true
				for _, f := range m.Flags {
					flags = append(flags, string(f))
				}
			}
		}
		return err
	})
	switch {
	case err != nil:
		return nil, s.lost(source.Folders, "reading the labels of a message", err)
	case !found:
		return nil, source.ErrGone
	}
	has := func(f string) bool {
		return slices.ContainsFunc(flags, func(x string) bool { return strings.EqualFold(x, f) })
	}
	for _, f := range on {
		if !has(f) {
			return flags, source.ErrNoLabels // taken, and not kept
		}
	}
	return flags, nil
}

// Move uses MOVE (RFC 6851), or COPY with UID EXPUNGE (RFC 4315). Where the
// server has neither, the message is copied and marked as deleted, and taken
// away only if no other message in the folder is marked so: those are not ours.
func (s *Session) Move(ctx context.Context, uid uint32, folder string) (source.Place, error) {
	place := source.Place{Folder: folder}
	there, err := s.UIDs(ctx, source.Query{From: uid, To: uid})
	if err != nil {
		return place, err
	}
	if len(there) == 0 {
		return place, source.ErrGone
	}
	name, err := s.ensure(ctx, folder)
	if err != nil {
		return place, err
	}
	set := imaplib.UIDSetNum(imaplib.UID(uid))
	one := func(validity uint32, uids imaplib.NumSet) {
		if uids, ok := uids.(imaplib.UIDSet); ok && validity > 0 {
			if nums, ok := uids.Nums(); ok && len(nums) == 1 {
				place.UIDValidity, place.UID = validity, uint32(nums[0])
			}
		}
	}
	if s.client.Caps().Has(imaplib.CapMove) {
		err := s.run(ctx, func() error {
			data, err := s.client.Move(set, name).Wait()
			if err == nil {
				one(data.UIDValidity, data.DestUIDs)
			}
			return err
		})
		if err != nil {
			return place, s.lost(source.Folders, fmt.Sprintf("moving a message to “%s”", folder), err)
		}
		return place, nil
	}
	err = s.run(ctx, func() error {
		data, err := s.client.Copy(set, name).Wait()
		if err == nil {
			one(data.UIDValidity, data.DestUIDs)
		}
		return err
	})
	if err != nil {
		return place, s.lost(source.Folders, fmt.Sprintf("copying a message to “%s”", folder), err)
	}
	return place, s.Remove(ctx, uid)
}

// Remove takes a message out of the open folder.
func (s *Session) Remove(ctx context.Context, uid uint32) error {
	set := imaplib.UIDSetNum(imaplib.UID(uid))
	err := s.run(ctx, func() error {
		err := s.client.Store(set,
			&imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd, Silent: true, Flags: []imaplib.Flag{imaplib.FlagDeleted}},
			nil).Close()
		if err != nil {
			return err
		}
		if s.client.Caps().Has(imaplib.CapUIDPlus) {
			return s.client.UIDExpunge(set).Close()
		}
		data, err := s.client.UIDSearch(&imaplib.SearchCriteria{Flag: []imaplib.Flag{imaplib.FlagDeleted}}, nil).Wait()
		if err != nil {
			return err
		}
		if all := data.AllUIDs(); len(all) != 1 || uint32(all[0]) != uid {
			return nil // marked as deleted; others' messages would go with it
		}
		return s.client.Expunge().Close()
	})
	if err != nil {
		return s.lost(source.Folders, "taking a message out of its folder", err)
	}
	return nil
}

// ensure finds a folder's name on the server, making the folder if it is missing.
func (s *Session) ensure(ctx context.Context, folder string) (string, error) {
	if strings.EqualFold(folder, "INBOX") {
		return "INBOX", nil
	}
	for try := 0; ; try++ {
		if s.names == nil || try > 0 {
			if _, err := s.Folders(ctx); err != nil {
				return "", err
			}
		}
		if name, ok := s.names[folder]; ok {
			return name, nil
		}
		for path, name := range s.names {
			if strings.EqualFold(path, folder) {
				return name, nil
			}
		}
		if try > 0 {
			return "", &source.Error{Step: source.Folders,
				Problem: fmt.Sprintf("the folder %q was made and is not listed", folder), Advice: "Make the folder in the mail " +
					"program.", Lasting: true}
		}
		name := folder
		if s.separator != 0 && s.separator != '/' {
			name = strings.ReplaceAll(folder, "/", string(s.separator))
		}
		err := s.run(ctx, func() error {
			err := s.client.Create(name, nil).Wait()
			var answer *imaplib.Error
			if err != nil && !(errors.As(err, &answer) && answer.Code == imaplib.ResponseCodeAlreadyExists) {
				return err
			}
			// Mail programs show subscribed folders; one that is not can still be used.
			if err := s.client.Subscribe(name).Wait(); err != nil && !errors.As(err, &answer) {
				return err
			}
			return nil
		})
		if err != nil {
			e := s.lost(source.Folders, fmt.Sprintf("making the folder %q", folder), err)
			return "", e
		}
	}
}

// Named searches by the Message-ID and keeps those that have it exactly.
func (s *Session) Named(ctx context.Context, messageID string) ([]uint32, error) {
	var uids []uint32
	err := s.run(ctx, func() error {
		data, err := s.client.UIDSearch(&imaplib.SearchCriteria{
			Header: []imaplib.SearchCriteriaHeaderField{{Key: "Message-ID", Value: messageID}}}, nil).Wait()
		if err != nil {
			return err
		}
		for _, u := range data.AllUIDs() {
			uids = append(uids, uint32(u))
		}
		return nil
	})
	if err != nil {
		return nil, s.lost(source.Folders, "looking for a message", err)
	}
	slices.Sort(uids)
	return uids, nil
}

// Append puts a message into a folder, which is made if it is missing.
func (s *Session) Append(ctx context.Context, folder string, message []byte, flags []string) error {
	name, err := s.ensure(ctx, folder)
	if err != nil {
		return err
	}
	options := &imaplib.AppendOptions{}
	for _, f := range flags {
		options.Flags = append(options.Flags, imaplib.Flag(f))
	}
	err = s.run(ctx, func() error {
		cmd := s.client.Append(name, int64(len(message)), options)
		if _, err := cmd.Write(message); err != nil {
			return err
		}
		if err := cmd.Close(); err != nil {
			return err
		}
		_, err := cmd.Wait()
		return err
	})
	if err != nil {
		return s.lost(source.Folders, fmt.Sprintf("putting a message into “%s”", folder), err)
	}
	return nil
}
