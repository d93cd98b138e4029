// Package mailfile reads mail that is in files: a Maildir, which can be watched,
// and mbox and .eml files, which are taken in once. Mail that Ink Tray receives or
// takes in itself is kept in Maildirs of its own.
package mailfile

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/source"
)

// maxMessage bounds a message, which is read whole, in octets.
const maxMessage = 256 << 20

// Config says where a Maildir is.
type Config struct {
	Folder  string         // the Maildir's own path
	Numbers source.Numbers // keeps the messages' numbers
	Own     bool           // it is Ink Tray's: labels may be named in it
	Quiet   bool           // nothing is watched; the folder is looked into at the interval
}

// Session reads one Maildir. Reading changes nothing in it: what is new stays in
// the folder "new" until somebody marks or moves it.
type Session struct {
	config   Config
	disk     disk.FS
	dirs     map[string]string // where each folder is
	folder   string
	at       string // directory of the folder that is open
	files    map[uint32]file
	names    map[string]uint32
	numbers  source.Numbered
	keywords []string // of the open folder, by their letter
	watch    *fsnotify.Watcher
	last     *read
}

// file is a message's file.
type file struct {
	name string // before the flags; it stays the same as long as the message is there
	path string
}

// read caches the message that was read last, because its parts are read one by one.
type read struct {
	name string
	raw  *mail.Raw
}

var (
	_ source.Changer = (*Session)(nil)
	_ source.Tidier  = (*Session)(nil)
)

func trouble(doing string, err error) error {
	e := &source.Error{Step: source.Folders, Problem: doing + ": " + err.Error(), Err: err}
	switch {
	case errors.Is(err, fs.ErrPermission):
		e.Advice = "Let the user under which Ink Tray runs read this folder; to mark and move messages, also write."
	case errors.Is(err, fs.ErrNotExist):
		e.Advice = "Check whether the folder exists, and whether its disk is mounted."
	}
	return e
}

// Dial opens a Maildir. The error, if any, is a *source.Error.
func Dial(_ context.Context, c Config) (*Session, error) {
	root, err := disk.Root(c.Folder)
	if err != nil {
		return nil, trouble("opening the folder "+c.Folder, err)
	}
	s := &Session{config: c, disk: root, numbers: source.Numbered{Numbers: c.Numbers}}
	if !s.isMaildir(".") {
		root.Close()
		return nil, &source.Error{Step: source.Folders, Problem: fmt.Sprintf("the folder %s is no Maildir: there is no "+
			"folder “cur” in it", c.Folder), Advice: "Choose the folder that holds “cur”, “new” and “tmp”.", Lasting: true}
	}
	if !c.Quiet {
		if s.watch, err = fsnotify.NewWatcher(); err != nil {
			s.watch = nil // looked into at the interval
		}
	}
	return s, nil
}

// Check says whether a Maildir can be read and watched.
func Check(ctx context.Context, c Config) []source.Check {
	fail := func(err error) []source.Check {
		e := &source.Error{Step: source.Folders, Problem: err.Error()}
		errors.As(err, &e)
		return []source.Check{{Step: e.Step, Detail: e.Problem, Advice: e.Advice}}
	}
	s, err := Dial(ctx, c)
	if err != nil {
		return fail(err)
	}
	defer s.Close()
	folders, err := s.Folders(ctx)
	if err == nil {
		_, err = s.scan(".")
	}
	if err != nil {
		return fail(err)
	}
	many := fmt.Sprintf("%d folders", len(folders))
	if len(folders) == 1 {
		many = "one folder"
	}
	checks := []source.Check{{Step: source.Folders, OK: true, Detail: many + " can be read"},
		{Step: source.Push, OK: true, Detail: "Ink Tray sees new files immediately"}}
	if !s.Pushes() {
		checks[1].Detail = "this system does not announce new files; Ink Tray checks the folder at the interval"
	}
	return checks
}

// Folders lists the folders.
func (s *Session) Folders(context.Context) ([]source.Folder, error) {
	folders, err := s.list()
	if err != nil {
		return nil, trouble("listing the folders", err)
	}
	return folders, nil
}

// scan lists a folder's messages. "new" comes first: a message that is marked as
// seen meanwhile goes from there to "cur".
func (s *Session) scan(dir string) ([]file, error) {
	found := map[string]file{}
	for _, sub := range []string{"new", "cur"} {
		entries, err := s.disk.ReadDir(path.Join(dir, sub))
		if err != nil && !(sub == "new" && errors.Is(err, fs.ErrNotExist)) {
			return nil, trouble("reading the folder", err)
		}
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") || e.IsDir() {
				continue
			}
			name, _, _ := strings.Cut(e.Name(), ":")
			found[name] = file{name, path.Join(dir, sub, e.Name())}
		}
	}
	files := make([]file, 0, len(found))
	for _, f := range found {
		files = append(files, f)
	}
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return files, nil
}

// Open opens a folder.
func (s *Session) Open(ctx context.Context, folder string) (source.State, error) {
	dir, err := s.dir(folder)
	if err != nil {
		return source.State{}, err
	}
	if s.at != dir && s.watch != nil {
		for _, old := range s.watch.WatchList() {
			_ = s.watch.Remove(old)
		}
		for _, sub := range []string{"new", "cur"} { // before they are read: what comes meanwhile is announced
			if err := s.watch.Add(filepath.Join(s.config.Folder, filepath.FromSlash(dir), sub)); err != nil && sub == "cur" {
				s.watch.Close()
				s.watch = nil
				break
			}
		}
	}
	s.drain()
	s.folder, s.at = folder, dir
	return s.look(ctx)
}

// look reads the open folder and numbers what is new in it, the oldest first.
func (s *Session) look(ctx context.Context) (source.State, error) {
	files, err := s.scan(s.at)
	if err != nil {
		return source.State{}, err
	}
	s.keywords = s.readKeywords(s.at)
	numbering, err := s.numbers.Of(ctx, s.folder, nil)
	if err != nil {
		return source.State{}, err
	}
	type arrival struct {
		name string
		at   time.Time
	}
	var fresh []arrival
	for _, f := range files {
		if _, known := numbering.UIDs[f.name]; known {
			continue
		}
		if info, err := s.disk.Lstat(f.path); err == nil {
			fresh = append(fresh, arrival{f.name, info.ModTime()})
		}
	}
	slices.SortFunc(fresh, func(a, b arrival) int { return cmp.Or(a.at.Compare(b.at), strings.Compare(a.name, b.name)) })
	names := make([]string, len(fresh))
	for i, f := range fresh {
		names[i] = f.name
	}
	if numbering, err = s.numbers.Of(ctx, s.folder, names); err != nil {
		return source.State{}, err
	}
	s.files, s.names = map[uint32]file{}, map[string]uint32{}
	for _, f := range files {
		if uid, ok := numbering.UIDs[f.name]; ok {
			s.files[uid], s.names[f.name] = f, uid
		}
	}
	return source.State{UIDValidity: numbering.UIDValidity, UIDNext: numbering.UIDNext, Messages: uint32(len(s.files))},
		nil
}

// drain forgets what was announced before: the folder is looked at again anyway.
func (s *Session) drain() {
	for s.watch != nil {
		select {
		case <-s.watch.Events:
		default:
			return
		}
	}
}

// UIDs lists messages.
func (s *Session) UIDs(_ context.Context, q source.Query) ([]uint32, error) {
	var uids []uint32
	for uid, f := range s.files {
		if uid < q.From || q.To > 0 && uid > q.To {
			continue
		}
		if len(q.Keywords) > 0 {
			flags := s.flags(f.path)
			if !slices.ContainsFunc(q.Keywords, func(k string) bool {
				return slices.ContainsFunc(flags, func(f string) bool { return strings.EqualFold(f, k) })
			}) {
				continue
			}
		}
		if !q.Since.IsZero() {
			if info, err := s.disk.Lstat(f.path); err == nil && info.ModTime().Before(q.Since.AddDate(0, 0, -1)) {
				continue
			}
		}
		uids = append(uids, uid)
	}
	slices.Sort(uids)
	return uids, nil
}

// open opens a message's file, also where it was renamed since.
func (s *Session) open(uid uint32) (io.ReadCloser, fs.FileInfo, file, error) {
	f, ok := s.files[uid]
	if !ok {
		return nil, nil, f, source.ErrGone
	}
	for range 3 {
		r, err := s.disk.Open(f.path)
		if err == nil {
			info, err := s.disk.Lstat(f.path)
			if err == nil {
				return r, info, f, nil
			}
			r.Close()
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, nil, f, trouble("reading a message", err)
		}
		files, err := s.scan(s.at)
		if err != nil {
			return nil, nil, f, err
		}
		at := slices.IndexFunc(files, func(other file) bool { return other.name == f.name })
		if at < 0 {
			delete(s.files, uid)
			return nil, nil, f, source.ErrGone
		}
		f = files[at]
		s.files[uid] = f
	}
	return nil, nil, f, source.ErrGone
}

// read reads a message.
func (s *Session) read(uid uint32) (*mail.Raw, fs.FileInfo, error) {
	r, info, f, err := s.open(uid)
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	if s.last != nil && s.last.name == f.name {
		return s.last.raw, info, nil
	}
	if info.Size() > maxMessage {
		return nil, nil, fmt.Errorf("the message has %d MB; the most that is read is %d", info.Size()>>20, maxMessage>>20)
	}
	data := bytes.NewBuffer(make([]byte, 0, info.Size()+bytes.MinRead))
	if _, err := data.ReadFrom(io.LimitReader(r, maxMessage)); err != nil {
		return nil, nil, trouble("reading a message", err)
	}
	s.last = &read{f.name, mail.Parse(data.Bytes())}
	return s.last.raw, info, nil
}

// storedAt is when a message's file was written, zero where that says nothing of the
// message: files that are taken in without a time bear the beginning of the epoch.
func storedAt(info fs.FileInfo) time.Time {
	if at := info.ModTime(); at.Year() > 1970 {
		return at
	}
	return time.Time{}
}

// Facts reads messages whole and understands them here.
func (s *Session) Facts(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	var all []source.Facts
	for _, uid := range uids {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		raw, info, err := s.read(uid)
		if errors.Is(err, source.ErrGone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all,
			source.Facts{UID: uid, Stored: storedAt(info), Size: raw.Message.Size, Flags: s.flags(s.files[uid].path),
				Header: raw.Message.Header, Structure: raw.Structure(), Whole: true})
	}
	slices.SortFunc(all, func(a, b source.Facts) int { return cmp.Compare(a.UID, b.UID) })
	return all, nil
}

// Part opens one part's content.
func (s *Session) Part(_ context.Context, facts *source.Facts, item string) (io.ReadCloser, error) {
	raw, _, err := s.read(facts.UID)
	if err != nil {
		return nil, err
	}
	r, err := raw.Open(item)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(r), nil
}

// Head reads the first octets of a part.
func (s *Session) Head(ctx context.Context, facts *source.Facts, item string, octets int64) ([]byte, error) {
	r, err := s.Part(ctx, facts, item)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, octets))
}

// Changed knows of nothing: files have no mod-sequences.
func (s *Session) Changed(context.Context, uint64) ([]uint32, error) { return nil, nil }

// Pushes says whether the system announces new files.
func (s *Session) Pushes() bool { return s.watch != nil }

// Wait returns when files come or change in the open folder.
func (s *Session) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	timer := time.NewTimer(longest)
	defer timer.Stop()
	var events <-chan fsnotify.Event
	var errs <-chan error
	if s.watch != nil {
		events, errs = s.watch.Events, s.watch.Errors
	}
	for {
		select {
		case <-ctx.Done():
			return source.Event{}, ctx.Err()
		case <-wake:
			return source.Event{}, nil
		case <-errs: // some were lost
			return source.Event{At: time.Now(), Arrived: true, Flags: true}, nil
		case e := <-events:
			if !e.Has(fsnotify.Create) {
				continue
			}
			name, _, _ := strings.Cut(filepath.Base(e.Name), ":")
			_, known := s.names[name]
			return source.Event{At: time.Now(), Arrived: !known, Flags: known}, nil
		case <-timer.C:
			if s.watch != nil {
				return source.Event{}, nil
			}
			if s.folder == "" {
				return source.Event{}, nil
			}
			before := s.names
			if _, err := s.look(ctx); err != nil {
				return source.Event{}, err
			}
			for name := range s.names {
				if _, old := before[name]; !old {
					return source.Event{At: time.Now(), Arrived: true}, nil
				}
			}
			return source.Event{}, nil
		}
	}
}

// Close ends the watching.
func (s *Session) Close() error {
	if s.watch != nil {
		s.watch.Close()
	}
	return s.disk.Close()
}
