package mailfile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/source"
)

// letters are the flags that a file's name can carry, in the order in which they
// are written.
var letters = []struct {
	letter byte
	flag   string
}{{'D', `\Draft`}, {'F', `\Flagged`}, {'R', `\Answered`}, {'S', `\Seen`}, {'T', `\Deleted`}}

// keywordFile names the labels whose letters a to z file names carry, as Dovecot
// keeps it.
const keywordFile = "dovecot-keywords"

// flags reads what a file's name says.
func (s *Session) flags(name string) []string {
	_, info, _ := strings.Cut(path.Base(name), ":2,")
	var flags []string
	for _, l := range letters {
		if strings.IndexByte(info, l.letter) >= 0 {
			flags = append(flags, l.flag)
		}
	}
	for _, c := range info {
		if c >= 'a' && c <= 'z' && int(c-'a') < len(s.keywords) && s.keywords[c-'a'] != "" {
			flags = append(flags, s.keywords[c-'a'])
		}
	}
	return flags
}

func (s *Session) readKeywords(dir string) []string {
	r, err := s.disk.Open(path.Join(dir, keywordFile))
	if err != nil {
		return nil
	}
	defer r.Close()
	data, _ := io.ReadAll(io.LimitReader(r, 64<<10))
	words := make([]string, 26)
	for line := range strings.Lines(string(data)) {
		number, word, _ := strings.Cut(strings.TrimSpace(line), " ")
		if n, err := strconv.Atoi(number); err == nil && n >= 0 && n < len(words) {
			words[n] = word
		}
	}
	return words
}

// letter is that of a label, 0 where the folder has none for it. In a Maildir of
// one's own a letter is given.
func (s *Session) letter(label string) (byte, error) {
	at := slices.IndexFunc(s.keywords, func(w string) bool { return strings.EqualFold(w, label) })
	if at >= 0 {
		return byte('a' + at), nil
	}
	if !s.config.Own {
		return 0, nil
	}
	if s.keywords == nil {
		s.keywords = make([]string, 26)
	}
	at = slices.Index(s.keywords, "")
	if at < 0 {
		return 0, nil
	}
	s.keywords[at] = label
	var b bytes.Buffer
	for i, w := range s.keywords {
		if w != "" {
			fmt.Fprintf(&b, "%d %s\n", i, w)
		}
	}
	temporary := path.Join(s.at, "tmp", unique(time.Now()))
	if err := write(s.disk, temporary, time.Time{}, &b); err != nil {
		return 0, err
	}
	return byte('a' + at), errors.Join(s.disk.Replace(temporary, path.Join(s.at, keywordFile)), s.disk.SyncDir(s.at))
}

// Write opens a folder for changing, which is as for reading.
func (s *Session) Write(ctx context.Context, folder string) (source.State, error) {
	return s.Open(ctx, folder)
}

// Mark renames a message's file.
func (s *Session) Mark(_ context.Context, uid uint32, on, off []string) ([]string, error) {
	r, _, f, err := s.open(uid)
	if err != nil {
		return nil, err
	}
	r.Close()
	_, info, _ := strings.Cut(path.Base(f.path), ":2,")
	set := map[byte]bool{}
	for i := range len(info) {
		set[info[i]] = true
	}
	change := func(flags []string, to bool) error {
		for _, flag := range flags {
			at := slices.IndexFunc(letters, func(l struct {
				letter byte
				flag   string
			}) bool {
				return strings.EqualFold(l.flag, flag)
			})
			switch {
			case at >= 0:
				set[letters[at].letter] = to
			case strings.HasPrefix(flag, `\`):
			case !to && !slices.ContainsFunc(s.keywords, func(w string) bool { return strings.EqualFold(w, flag) }):
			default:
				letter, err := s.letter(flag)
				if err != nil {
					return trouble("changing the labels of a message", err)
				}
				if letter == 0 {
					return source.ErrNoLabels
				}
				set[letter] = to
			}
		}
		return nil
	}
	if err := change(on, true); err != nil {
		return nil, err
	}
	if err := change(off, false); err != nil {
		return nil, err
	}
	var carries []byte
	for c, is := range set {
		if is {
			carries = append(carries, c)
		}
	}
	slices.Sort(carries)
	to := path.Join(s.at, "cur", f.name+":2,"+string(carries))
	if to != f.path {
		if err := s.disk.Replace(f.path, to); err != nil {
			return nil, trouble("changing the labels of a message", err)
		}
		if err := errors.Join(s.disk.SyncDir(path.Dir(to)), s.disk.SyncDir(path.Dir(f.path))); err != nil {
			return nil, trouble("changing the labels of a message", err)
		}
	}
	s.files[uid] = file{f.name, to}
	return s.flags(to), nil
}

// Move renames a message's file into another folder, which is made if it is missing.
func (s *Session) Move(ctx context.Context, uid uint32, folder string) (source.Place, error) {
	place := source.Place{Folder: folder}
	r, _, f, err := s.open(uid)
	if err != nil {
		return place, err
	}
	r.Close()
	dir, err := s.ensure(folder)
	if err != nil {
		return place, err
	}
	to := path.Join(dir, "cur", path.Base(f.path))
	if !strings.Contains(to, ":") {
		to = path.Join(dir, "new", path.Base(f.path))
	}
	// Numbered first: when it is there, it is known.
	numbering, err := s.numbers.Of(ctx, folder, []string{f.name})
	if err != nil {
		return place, err
	}
	if err := s.disk.Publish(f.path, to); err != nil {
		return place, trouble("moving a message to “"+folder+"”", err)
	}
	if err := errors.Join(s.disk.SyncDir(path.Dir(to)), s.disk.SyncDir(path.Dir(f.path))); err != nil {
		return place, trouble("moving a message to “"+folder+"”", err)
	}
	delete(s.files, uid)
	place.UIDValidity, place.UID = numbering.UIDValidity, numbering.UIDs[f.name]
	return place, nil
}

// Named reads the headers of all messages.
func (s *Session) Named(ctx context.Context, messageID string) ([]uint32, error) {
	all, err := s.UIDs(ctx, source.Query{})
	if err != nil {
		return nil, err
	}
	var found []uint32
	for _, uid := range all {
		raw, _, err := s.read(uid)
		if errors.Is(err, source.ErrGone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if raw.Message.Envelope.MessageID == messageID {
			found = append(found, uid)
		}
	}
	return found, nil
}

// Remove takes a message out of the open folder.
func (s *Session) Remove(_ context.Context, uid uint32) error {
	r, _, f, err := s.open(uid)
	if errors.Is(err, source.ErrGone) {
		return nil
	}
	if err != nil {
		return err
	}
	r.Close()
	if err := s.disk.Remove(f.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return trouble("taking a message out of its folder", err)
	}
	delete(s.files, uid)
	if err := s.disk.SyncDir(path.Dir(f.path)); err != nil {
		return trouble("taking a message out of its folder", err)
	}
	return nil
}

// Tidy removes messages.
func (s *Session) Tidy(ctx context.Context, uids []uint32) error {
	for _, uid := range uids {
		if err := s.Remove(ctx, uid); err != nil {
			return err
		}
	}
	return nil
}

// Append puts a message into a folder, which is made if it is missing.
func (s *Session) Append(_ context.Context, folder string, message []byte, flags []string) error {
	dir, err := s.ensure(folder)
	if err != nil {
		return err
	}
	name, err := DeliverInto(s.disk, dir, time.Now(), bytes.NewReader(message))
	if err != nil {
		return trouble("putting a message into “"+folder+"”", err)
	}
	var carries []byte
	for _, l := range letters {
		if slices.ContainsFunc(flags, func(f string) bool { return strings.EqualFold(f, l.flag) }) {
			carries = append(carries, l.letter)
		}
	}
	if len(carries) == 0 {
		return nil
	}
	if err := s.disk.Replace(path.Join(dir, "new", name), path.Join(dir, "cur", name+":2,"+string(carries))); err != nil {
		return trouble("putting a message into “"+folder+"”", err)
	}
	if err := errors.Join(s.disk.SyncDir(path.Join(dir, "cur")), s.disk.SyncDir(path.Join(dir, "new"))); err != nil {
		return trouble("putting a message into “"+folder+"”", err)
	}
	return nil
}
