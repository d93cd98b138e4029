package mailfile

import (
	"encoding/base64"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf16"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

// maxDepth bounds how deep folders within folders are looked for.
const maxDepth = 12

// list finds the folders: those of Maildir++ (".Archive.2026" beside the inbox)
// and those that lie in one another. It remembers where each is.
func (s *Session) list() ([]source.Folder, error) {
	s.dirs = map[string]string{"INBOX": "."}
	var found []source.Folder
	add := func(path, dir string) {
		if _, twice := s.dirs[path]; !twice {
			s.dirs[path] = dir
			found = append(found, source.Folder{Path: path, Role: mail.RoleByName(path), Selectable: true})
		}
	}
	var within func(dir, at string, depth int) error
	within = func(dir, at string, depth int) error {
		entries, err := s.disk.ReadDir(dir)
		if err != nil {
			return err
		}
		for _, e := range entries {
			name := e.Name()
			if !e.IsDir() || name == "cur" || name == "new" || name == "tmp" {
				continue
			}
			sub := path.Join(dir, name)
			switch {
			case strings.HasPrefix(name, "."):
				if dir == "." && len(name) > 1 && s.isMaildir(sub) {
					var levels []string
					for _, level := range strings.Split(name[1:], ".") {
						levels = append(levels, strings.ReplaceAll(fromUTF7(level), "/", "∕"))
					}
					add(strings.Join(levels, "/"), sub)
				}
			case depth < maxDepth:
				if s.isMaildir(sub) {
					add(at+fromUTF7(name), sub)
				}
				if err := within(sub, at+fromUTF7(name)+"/", depth+1); err != nil {
					return err
				}
			}
		}
		return nil
	}
	err := within(".", "", 0)
	slices.SortFunc(found, func(a, b source.Folder) int { return strings.Compare(a.Path, b.Path) })
	return append([]source.Folder{{Path: "INBOX", Role: "inbox", Selectable: true}}, found...), err
}

func (s *Session) isMaildir(dir string) bool {
	info, err := s.disk.Lstat(path.Join(dir, "cur"))
	return err == nil && info.IsDir()
}

// ensure finds a folder's directory, making it as Maildir++ has it where it is missing.
func (s *Session) ensure(folder string) (string, error) {
	dir, err := s.dir(folder)
	if err == nil {
		return dir, nil
	}
	var levels []string
	for _, level := range strings.Split(folder, "/") {
		levels = append(levels, toUTF7(strings.ReplaceAll(level, ".", "․"))) // a dot parts levels
	}
	dir = "." + strings.Join(levels, ".")
	for _, d := range []string{dir, dir + "/cur", dir + "/new", dir + "/tmp"} {
		if err := s.disk.Mkdir(d); err != nil {
			if _, is := s.disk.Lstat(d); is != nil {
				return "", trouble("making the folder “"+folder+"”", err)
			}
		}
	}
	for _, d := range []string{dir, "."} {
		if err := s.disk.SyncDir(d); err != nil {
			return "", trouble("making the folder “"+folder+"”", err)
		}
	}
	s.dirs = nil // listed again
	return dir, nil
}

// dir is where a folder is.
func (s *Session) dir(folder string) (string, error) {
	if strings.EqualFold(folder, "INBOX") {
		return ".", nil
	}
	for range 2 {
		if s.dirs == nil {
			if _, err := s.list(); err != nil {
				return "", trouble("listing the folders", err)
			}
		}
		if dir, ok := s.dirs[folder]; ok && s.isMaildir(dir) {
			return dir, nil
		}
		for p, dir := range s.dirs {
			if strings.EqualFold(p, folder) && s.isMaildir(dir) {
				return dir, nil
			}
		}
		s.dirs = nil
	}
	return "", &source.Error{Step: source.Folders, Problem: "there is no folder “" + folder + "” in the mailbox",
		Advice: "Choose one of its folders, or make this one in the mail program.", Lasting: true, Err: fs.ErrNotExist}
}

var utf7 = base64.NewEncoding("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+,").WithPadding(
	base64.NoPadding)

// fromUTF7 reads a folder's name in modified UTF-7 (RFC 3501 section 5.1.3). What
// is not in that form is taken as it is.
func fromUTF7(name string) string {
	var b strings.Builder
	for rest := name; rest != ""; {
		before, after, shifted := strings.Cut(rest, "&")
		b.WriteString(before)
		if !shifted {
			break
		}
		code, tail, closed := strings.Cut(after, "-")
		data, err := utf7.DecodeString(code)
		if !closed || err != nil || len(data)%2 == 1 {
			return name
		}
		if code == "" {
			b.WriteByte('&')
		}
		var units []uint16
		for i := 0; i < len(data); i += 2 {
			units = append(units, uint16(data[i])<<8|uint16(data[i+1]))
		}
		b.WriteString(string(utf16.Decode(units)))
		rest = tail
	}
	return b.String()
}

// toUTF7 writes a folder's name in modified UTF-7.
func toUTF7(name string) string {
	var b strings.Builder
	var wide []rune
	flush := func() {
		if len(wide) == 0 {
			return
		}
		var data []byte
		for _, u := range utf16.Encode(wide) {
			data = append(data, byte(u>>8), byte(u))
		}
		b.WriteString("&" + utf7.EncodeToString(data) + "-")
		wide = nil
	}
	for _, r := range name {
		switch {
		case r < ' ' || r > '~':
			wide = append(wide, r)
		case r == '&':
			flush()
			b.WriteString("&-")
		default:
			flush()
			b.WriteRune(r)
		}
	}
	flush()
	return b.String()
}
