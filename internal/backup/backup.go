// Package backup writes everything that an installation consists of into one sealed file, looks whether such a file is
// whole, and puts it back. It knows neither where backups are kept nor when they are made.
//
// A backup is an age file (age-encryption.org/v1), so that it can be opened without Ink Tray, too:
//
//	age --decrypt FILE | zstd -d | tar x
//
// In it is a Zstandard stream (RFC 8878) of a POSIX tar: about.json, secret.key, inktray.db, the files of mail, waiting
// and staged, and contents.json, which comes last and has the size and the SHA-256 of each file before it.
package backup

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
)

// Format is the version of the form of backups that is written here.
const Format = 1

// The files of a backup.
const (
	aboutFile    = "about.json"
	contentsFile = "contents.json"
	keyFile      = "secret.key"
	recordsFile  = "inktray.db"
)

// workFolder begins the names of the folders in which backups are prepared in the folder of the records.
const workFolder = "backing-up"

// Sweep removes what backups left that did not come to their end, before any is made.
func Sweep(data string) error {
	left, err := filepath.Glob(filepath.Join(data, workFolder+"*"))
	for _, name := range left {
		err = errors.Join(err, os.RemoveAll(name))
	}
	return err
}

// folders are what is in a backup beside the records: mail that only Ink Tray holds, contents that wait for a cabinet
// that is down, and what is on its way into an object store.
var folders = []string{"mail", "waiting", "staged"}

// About is what a backup says of itself.
type About struct {
	Format  int       `json:"format"`
	Version string    `json:"version"` // of the Ink Tray that made it
	Records int       `json:"records"` // the version of the records
	MadeAt  time.Time `json:"made_at"`
	// Installation names the installation, so that backups of several are told apart.
	Installation string `json:"installation"`
}

// File is one file of a backup.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"` // in octets
	SHA256 string `json:"sha256"`
}

// Contents are an opened backup.
type Contents struct {
	About About
	Files []File
}

// Size is how much a backup holds, in octets.
func (c *Contents) Size() (n int64) {
	for _, f := range c.Files {
		n += f.Size
	}
	return n
}

// Job is what a backup is made of.
type Job struct {
	About
	Data string // the folder of the records
	// Snapshot writes a copy of the records, as they are at one moment, and of their key, into files that are not there
	// yet.
	Snapshot func(ctx context.Context, records, key string) error
}

// Make writes a backup, sealed for recipients. What is filed or arrives meanwhile goes on undisturbed.
func (j *Job) Make(ctx context.Context, w io.Writer, recipients ...age.Recipient) (c Contents, err error) {
	work, err := os.MkdirTemp(j.Data, workFolder+"-") // with 0700; several may be made at once
	if err != nil {
		return c, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(work)) }()
	// A file that goes while the backup is made is still there under its second name.
	before, err := j.hold(work, nil)
	if err != nil {
		return c, fmt.Errorf("holding the files: %w", err)
	}
	copied, key := filepath.Join(work, recordsFile), filepath.Join(work, keyFile)
	if err := j.Snapshot(ctx, copied, key); err != nil {
		return c, fmt.Errorf("copying the records: %w", err)
	}
	held, err := j.hold(work, before)
	if err != nil {
		return c, fmt.Errorf("holding the files: %w", err)
	}
	sealed, err := age.Encrypt(w, recipients...)
	if err != nil {
		return c, err
	}
	packed, err := zstd.NewWriter(sealed, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return c, err
	}
	p := &packer{ctx: ctx, tar: tar.NewWriter(packed), at: j.MadeAt}
	j.Format = Format
	p.json(aboutFile, j.About)
	p.file(keyFile, key)
	p.file(recordsFile, copied)
	for _, h := range held {
		p.file(h.name, h.held)
	}
	c = Contents{About: j.About, Files: slices.Clone(p.files)}
	p.json(contentsFile, p.files)
	return c, cmp.Or(p.err, func() error {
		if err := p.tar.Close(); err != nil {
			return err
		}
		if err := packed.Close(); err != nil {
			return err
		}
		return sealed.Close()
	}())
}

// heldFile is a file with a second name, under which it stays while the backup is made.
type heldFile struct {
	name string // in the backup
	held string // its second name
	info fs.FileInfo
}

// hold gives the files beside the records second names. What is in before is kept, unless the same file is there still,
// perhaps under a new name.
func (j *Job) hold(work string, before []heldFile) (held []heldFile, err error) {
	held = []heldFile{}
	under := filepath.Join(work, "first")
	if before != nil {
		under = filepath.Join(work, "second")
	}
	if err := os.MkdirAll(under, 0o700); err != nil {
		return nil, err
	}
	for _, folder := range folders {
		root := filepath.Join(j.Data, folder)
		err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil || !d.Type().IsRegular() || filepath.Base(filepath.Dir(name)) == "tmp" {
				return err
			}
			second := filepath.Join(under, fmt.Sprint(len(held)))
			if err := hold(name, second); errors.Is(err, fs.ErrNotExist) {
				return nil // it went at this moment
			} else if err != nil {
				return err
			}
			info, err := os.Stat(second)
			if err != nil {
				return err
			}
			within, err := filepath.Rel(j.Data, name)
			held = append(held, heldFile{filepath.ToSlash(within), second, info})
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	was := make(map[string]bool, len(before))
	for _, b := range before {
		was[b.name] = true
	}
	now := make(map[string]bool, len(held))
	var renamed []heldFile
	for _, h := range held {
		if now[h.name] = true; !was[h.name] {
			renamed = append(renamed, h)
		}
	}
	for _, b := range before {
		if !now[b.name] && !slices.ContainsFunc(renamed, func(h heldFile) bool { return os.SameFile(h.info, b.info) }) {
			held = append(held, b)
		}
	}
	return held, nil
}

// hold gives a file a second name, or copies it where the file system cannot.
func hold(name, second string) error {
	err := os.Link(name, second)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return err
	}
	from, err := os.Open(name)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := os.OpenFile(second, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, to.Close())
}

// packer writes the files of a backup, up to the first error.
type packer struct {
	ctx   context.Context
	tar   *tar.Writer
	at    time.Time
	files []File
	err   error
}

func (p *packer) add(name string, size int64, at time.Time, r io.Reader) {
	if p.err != nil {
		return
	}
	h := &tar.Header{Name: name, Size: size, Mode: 0o600, ModTime: at, Format: tar.FormatPAX}
	if p.err = p.tar.WriteHeader(h); p.err != nil {
		return
	}
	sum := sha256.New()
	r = &watched{Reader: io.LimitReader(r, size), ctx: p.ctx}
	if _, p.err = io.Copy(p.tar, io.TeeReader(r, sum)); p.err == nil {
		p.files = append(p.files, File{name, size, hex.EncodeToString(sum.Sum(nil))})
	}
}

func (p *packer) json(name string, v any) {
	text, err := json.MarshalIndent(v, "", "  ")
	if p.err = cmp.Or(p.err, err); p.err == nil {
		p.add(name, int64(len(text)), p.at, strings.NewReader(string(text)))
	}
}

func (p *packer) file(name, from string) {
	if p.err != nil {
		return
	}
	f, err := os.Open(from)
	if err != nil {
		p.err = err
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if p.err = err; err == nil {
		p.add(name, info.Size(), info.ModTime(), f)
	}
}

// Error says what is wrong with a backup, in words for people.
type Error struct {
	Problem string // a sentence without its full stop
	Err     error  // the cause; may be nil
}

func (e *Error) Error() string {
	if e.Err == nil {
		return e.Problem
	}
	return e.Problem + ": " + e.Err.Error()
}

func (e *Error) Unwrap() error { return e.Err }

// mostText bounds the two lists of a backup, in octets.
const mostText = 256 << 20

// Read reads a backup to its end and proves that it is whole: every file has the size and checksum that were written
// down, and none is missing. put is given each file of the installation; nil reads only. The error is an *Error where
// the backup is not in order or is not opened by the identities, and else that of put.
func Read(ctx context.Context, r io.Reader, put func(name string, at time.Time, r io.Reader) error,
	identities ...age.Identity) (c Contents, err error) {
	watched := &watched{Reader: r, ctx: ctx}
	opened, err := age.Decrypt(watched, identities...)
	var none *age.NoIdentityMatchError
	switch {
	case watched.err != nil:
		return c, watched.err
	case errors.As(err, &none):
		return c, &Error{Problem: "it is not opened by this passphrase or key"}
	case err != nil:
		return c, &Error{Problem: "it is not a backup of Ink Tray", Err: err}
	}
	unpacked, err := zstd.NewReader(opened, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20))
	if err != nil {
		return c, err
	}
	defer unpacked.Close()
	u := unpacker{tar: tar.NewReader(unpacked), put: put}
	c, err = u.all()
	if watched.err != nil {
		return c, watched.err
	}
	return c, err
}

// watched reads for as long as ctx lasts, and remembers an error of the reading.
type watched struct {
	io.Reader
	ctx context.Context
	err error
}

func (w *watched) Read(p []byte) (n int, err error) {
	if err = w.ctx.Err(); err == nil {
		n, err = w.Reader.Read(p)
	}
	if err != nil && err != io.EOF {
		w.err = err
	}
	return n, err
}

type unpacker struct {
	tar *tar.Reader
	put func(name string, at time.Time, r io.Reader) error
}

func (u *unpacker) all() (c Contents, err error) {
	damaged := func(err error) error { return &Error{Problem: "it is damaged, or ends too early", Err: err} }
	for {
		h, err := u.tar.Next()
		if err != nil { // also at its end: the list of contents was not met
			return c, damaged(err)
		}
		switch {
		case len(c.Files) == 0 && h.Name != aboutFile:
			return c, &Error{Problem: "it is not a backup of Ink Tray"}
		case !wanted(h):
			return c, &Error{Problem: fmt.Sprintf("it holds %q, which is not a file of an Ink Tray", h.Name)}
		case h.Name == contentsFile:
			err := u.proved(&c)
			return c, err
		}
		sum := sha256.New()
		content := &counted{Reader: io.TeeReader(u.tar, sum)}
		if h.Name == aboutFile {
			if err := json.NewDecoder(io.LimitReader(content, mostText)).Decode(&c.About); err != nil {
				return c, damaged(err)
			}
			if c.About.Format > Format {
				return c, &Error{Problem: fmt.Sprintf("it was made by a newer Ink Tray (%s); use that one, or a later one",
					c.About.Version)}
			}
		} else if u.put != nil {
			if err := u.put(h.Name, h.ModTime, content); content.err != nil {
				return c, damaged(content.err)
			} else if err != nil {
				return c, err
			}
		}
		if _, err := io.Copy(io.Discard, content); err != nil {
			return c, damaged(err)
		}
		c.Files = append(c.Files, File{h.Name, content.n, hex.EncodeToString(sum.Sum(nil))})
	}
}

// counted counts what is read, and remembers an error.
type counted struct {
	io.Reader
	n   int64
	err error
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	if err != nil && err != io.EOF {
		c.err = err
	}
	return n, err
}

// wanted says whether a file may be in a backup.
func wanted(h *tar.Header) bool {
	if h.Typeflag != tar.TypeReg || !filepath.IsLocal(filepath.FromSlash(h.Name)) || path.Clean(h.Name) != h.Name {
		return false
	}
	first, _, within := strings.Cut(h.Name, "/")
	return within && slices.Contains(folders, first) ||
		slices.Contains([]string{aboutFile, contentsFile, keyFile, recordsFile}, h.Name)
}

// proved compares what was read with the list at the end of a backup.
func (u *unpacker) proved(c *Contents) error {
	var listed []File
	if err := json.NewDecoder(io.LimitReader(u.tar, mostText)).Decode(&listed); err != nil {
		return &Error{Problem: "it is damaged, or ends too early", Err: err}
	}
	if !slices.Equal(listed, c.Files) {
		return &Error{Problem: "its files are not those that it lists"}
	}
	for _, name := range []string{keyFile, recordsFile} {
		if !slices.ContainsFunc(listed, func(f File) bool { return f.Name == name }) {
			return &Error{Problem: "it has no " + name}
		}
	}
	if _, err := u.tar.Next(); err != io.EOF {
		return &Error{Problem: "it goes on after its end", Err: err}
	}
	return nil
}
