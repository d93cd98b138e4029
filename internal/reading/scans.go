package reading

import (
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/ocr"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/office"
)

// Bounds of reading scans.
const (
	scanDPI       = 300                 // of pages that are drawn to be read
	mostScanTime  = 10 * time.Minute    // for one message
	mostKept      = 256 << 20           // octets of what is kept of scans that were read
	unused        = 30 * 24 * time.Hour // after which it is kept no longer
	lookAgain     = time.Minute         // how often Tesseract is looked for, at most
	mostLanguages = 4                   // where nobody chose some: each takes its time
)

// Scans reads the text in pictures of pages, one file at a time, and keeps what was read by the file's checksum. Its
// zero value reads nothing; Folder must be set.
type Scans struct {
	Folder string // where what was read is kept; it can be read again

	begin  sync.Once
	one    *semaphore.Weighted // had while a file is read
	total  int64               // octets that are kept, once tidied; only who has one uses it
	tidied time.Time

	mutex  sync.Mutex
	found  *child.Tesseract
	absent error     // why there is none
	looked time.Time // when it was looked for
}

// alone waits until no other file is read.
func (s *Scans) alone(ctx context.Context) (let func(), err error) {
	s.begin.Do(func() { s.one = semaphore.NewWeighted(1) })
	if err := s.one.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { s.one.Release(1) }, nil
}

// Tesseract is the program that reads pictures; the error says why there is none.
func (s *Scans) Tesseract(ctx context.Context) (*child.Tesseract, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.looked.IsZero() || time.Since(s.looked) > lookAgain {
		found, err := child.FindTesseract(ctx)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		s.found, s.absent, s.looked = found, err, time.Now()
	}
	return s.found, s.absent
}

// BeginScans finds out at the start whether scans can be read here.
func (rd *Reader) BeginScans(ctx context.Context) error {
	t, err := rd.LookForTesseract(ctx)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		rd.Log.Info("the text in scans is not read", "because", err)
	default:
		rd.Log.Info("the text in scans is read", "by", "Tesseract "+t.Version, "in", strings.Join(t.Languages, ", "))
	}
	return nil
}

// LookForTesseract finds out whether scans can be read here, and tells those who plan.
func (rd *Reader) LookForTesseract(ctx context.Context) (*child.Tesseract, error) {
	found, err := rd.Scans.Tesseract(ctx)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if told := rd.Office.TesseractIsThere(ctx, err == nil); told != nil {
		return found, told
	}
	return found, err
}

// Languages are those in which scans are read: the chosen ones that are installed, or all.
func Languages(t *child.Tesseract, chosen []string) []string {
	here := slices.DeleteFunc(slices.Clone(chosen), func(l string) bool { return !slices.Contains(t.Languages, l) })
	if len(here) == 0 {
		here = t.Languages[:min(len(t.Languages), mostLanguages)]
	}
	return here
}

// Page is what was read of one page that is a picture.
type Page struct {
	Page    int // of the file, from 0
	Reading ocr.Reading
}

// scanned is what was read of the pages of one file that are pictures.
type scanned struct {
	Pages []Page
	Left  int    // pages that nobody read: there are more than are read of one file
	Wrong string // why a page could not be read
	Bad   int    // how many could not
	short bool   // time or memory ran out, which may be otherwise another time
}

// scan reads the pages of a file that are pictures: those that are named, or the file itself where it is a picture.
// The error is the machine's, or tells that the message's budget is used up.
func (rd *Reader) scan(ctx context.Context, l *Message, f *os.File, pages []int) (*scanned, error) {
	settings := rd.Office.Settings()
	if !settings.Pictures {
		return nil, nil
	}
	t, err := rd.Scans.Tesseract(ctx)
	if err != nil {
		return nil, ctx.Err() // it was there before, and pictures are as they are without it
	}
	how := child.Recognition{Program: t.Path, Folder: t.Folder, Languages: Languages(t, settings.Scans.Languages),
		Upright: t.Upright}
	key, err := rd.keyOf(f, t, &how, settings.Scans.Pages)
	if err != nil {
		return nil, err
	}
	if kept := rd.Scans.kept(key); kept != nil {
		return kept, nil
	}
	if l.Patience > 0 {
		return nil, ErrSlow
	}
	let, err := rd.Scans.alone(ctx)
	if err != nil {
		return nil, err
	}
	defer let()
	if kept := rd.Scans.kept(key); kept != nil || ctx.Err() != nil {
		return kept, ctx.Err() // somebody read the same meanwhile
	}
	out := &scanned{}
	if len(pages) == 0 {
		if pages, err = rd.pagesOf(f); err != nil {
			return nil, err
		}
	}
	if len(pages) == 0 { // it is read as it is
		reading, err := rd.recognize(ctx, l, f, how)
		if err := out.add(reading, 0, err); err != nil {
			return nil, err
		}
	}
	for i, page := range pages {
		if i >= settings.Scans.Pages {
			out.Left = len(pages) - i
			break
		}
		reading, err := rd.recognizePage(ctx, l, f, page, how)
		if err := out.add(reading, page, err); err != nil {
			return nil, err
		}
	}
	if out.short {
		return out, nil
	}
	rd.Scans.keep(key, out)
	return out, nil
}

// pagesOf are the pages of a picture: one, and none of a TIFF, which may hold several and is read as it is.
func (rd *Reader) pagesOf(f *os.File) ([]int, error) {
	head, err := headOf(f)
	if err != nil || text.TIFF(head) {
		return nil, err
	}
	return []int{thePicture}, nil
}

// headOf is the beginning of a file, which tells what it is.
func headOf(f *os.File) ([]byte, error) {
	head := make([]byte, text.Head)
	n, err := f.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, err
	}
	return head[:n], nil
}

// add takes up what was read of a page, or why it could not be read.
func (s *scanned) add(reading ocr.Reading, page int, err error) error {
	var known *unpack.Error
	switch {
	case errors.As(err, &known):
		s.Bad++
		s.Wrong, s.short = cmp.Or(s.Wrong, known.Problem), s.short || known.Limit
	case err != nil:
		return err
	default:
		s.Pages = append(s.Pages, Page{Page: page, Reading: reading})
	}
	return nil
}

// recognizePage draws a page of a PDF, or straightens a picture, and reads it.
func (rd *Reader) recognizePage(ctx context.Context, l *Message, f *os.File, page int,
	how child.Recognition) (reading ocr.Reading, err error) {
	drawn, err := os.CreateTemp(rd.Spool, "page-")
	if err != nil {
		return reading, fmt.Errorf("making room to work in: %w", err)
	}
	defer func() { err = errors.Join(err, drawn.Close(), os.Remove(drawn.Name())) }()
	var as text.Drawn
	err = l.Child(ctx, func(ctx context.Context) error {
		if page == thePicture {
			as, err = child.Straighten(ctx, f, drawn)
			return err
		}
		how.DPI = scanDPI
		as, err = child.Draw(ctx, f, text.Drawing{Reader: rd.Ready, Page: page, DPI: scanDPI, Straight: true}, drawn)
		return err
	})
	if err == nil {
		reading, err = rd.recognize(ctx, l, drawn, how)
	}
	reading.Tilt = as.Tilt
	return reading, err
}

// thePicture stands for the page of a file that is a picture itself.
const thePicture = -1

// recognize reads a picture, as far as the message's budget for scans goes.
func (rd *Reader) recognize(ctx context.Context, l *Message, f *os.File,
	how child.Recognition) (reading ocr.Reading, err error) {
	left := mostScanTime - l.scanning
	if left <= 0 {
		return reading, over("reading the scans of the message takes longer than %v, which is the limit", mostScanTime)
	}
	began := time.Now()
	defer func() { l.scanning += time.Since(began) }()
	within, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	return child.Recognize(within, f, how)
}

// into puts what was read into what is known of a file.
func (s *scanned) into(read *mail.Read) {
	texts := []string{}
	if read.Text != "" {
		texts = append(texts, read.Text)
	}
	var sure, letters int
	for i := range s.Pages {
		r := &s.Pages[i].Reading
		if said := r.Text(); said != "" {
			texts = append(texts, said)
			sure += r.Sure * len(said)
			letters += len(said)
			read.Scanned++
		}
	}
	read.Left, read.LeftFor = s.Left+s.Bad, s.Wrong
	read.Text = strings.Join(texts, "\n")
	if len(read.Text) > text.Most {
		read.Text = strings.ToValidUTF8(read.Text[:text.Most], "")
	}
	switch {
	case read.Text != "":
		read.Problem, read.Empty = "", false
		if letters > 0 {
			read.Sure = max(1, sure/letters)
		}
	case s.Wrong != "":
		read.Problem, read.Empty = s.Wrong, false
	default:
		read.Problem, read.Empty = "there is no text in it, not even in its pictures", true
	}
}

// keyOf names what a reading hangs on: the content, and how it is read.
func (rd *Reader) keyOf(f *os.File, t *child.Tesseract, how *child.Recognition, pages int) (string, error) {
	h := sha256.New()
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	fmt.Fprintf(h, "\n%s %v %v %d %s", t.Version, how.Languages, how.Upright, pages, text.Version())
	return hex.EncodeToString(h.Sum(nil)), nil
}

// kept gives what was read before; nil where nothing was, or cannot be had.
func (s *Scans) kept(key string) *scanned {
	path := filepath.Join(s.Folder, key)
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return nil
	}
	var out scanned
	if json.NewDecoder(z).Decode(&out) != nil {
		return nil
	}
	now := time.Now()
	_ = os.Chtimes(path, now, now) // what is used stays longest
	return &out
}

// keep keeps what was read. It is read again where it cannot be kept, for want of room.
func (s *Scans) keep(key string, what *scanned) {
	err := os.MkdirAll(s.Folder, 0o700)
	var f *os.File
	if err == nil {
		f, err = os.CreateTemp(s.Folder, "new-")
	}
	if err != nil {
		return
	}
	z := gzip.NewWriter(f)
	err = errors.Join(json.NewEncoder(z).Encode(what), z.Close())
	if info, err := f.Stat(); err == nil {
		s.total += info.Size()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(f.Name(), filepath.Join(s.Folder, key))
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return
	}
	if now := time.Now(); s.total > mostKept || now.Sub(s.tidied) > 24*time.Hour {
		s.tidy(now)
	}
}

// tidy throws away what was not used for a month, and what was not used for longest, where too much is kept.
func (s *Scans) tidy(now time.Time) {
	s.tidied = now
	files, err := os.ReadDir(s.Folder)
	if err != nil {
		return
	}
	var all []fs.FileInfo
	s.total = 0
	for _, one := range files {
		if info, err := one.Info(); err == nil {
			all = append(all, info)
			s.total += info.Size()
		}
	}
	slices.SortFunc(all, func(a, b fs.FileInfo) int { return a.ModTime().Compare(b.ModTime()) })
	most := s.total
	if s.total > mostKept {
		most = mostKept * 9 / 10
	}
	for _, one := range all {
		if s.total <= most && now.Sub(one.ModTime()) < unused {
			break
		}
		if os.Remove(filepath.Join(s.Folder, one.Name())) == nil {
			s.total -= one.Size()
		}
	}
}

// Forget throws away all that was read, because a person's traces are erased.
func (s *Scans) Forget(ctx context.Context) error {
	let, err := s.alone(ctx)
	if err != nil {
		return err
	}
	defer let()
	s.total = 0
	if err := os.RemoveAll(s.Folder); err != nil {
		return fmt.Errorf("throwing away what was read of scans: %w", err)
	}
	return nil
}

// ScansSetting is how scans are read here.
type ScansSetting struct {
	office.Scans
	Tesseract *child.Tesseract // nil where there is none
	Absent    string           // why
	Reads     []string         // the languages in which scans are read now
}

// ScansSetting says how scans are read here.
func (rd *Reader) ScansSetting(ctx context.Context) (out ScansSetting, err error) {
	found, err := rd.LookForTesseract(ctx)
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	out.Scans = rd.Office.Settings().Scans
	if err != nil {
		out.Absent = err.Error()
		return out, nil
	}
	out.Tesseract, out.Reads = found, Languages(found, out.Languages)
	return out, nil
}

// Find says where texts stand in a file that lies here: on the pages of a PDF, and among what was read of its pictures.
// A file of another kind has no places.
func (rd *Reader) Find(ctx context.Context, f *os.File, texts []string) (spots []text.Spot, err error) {
	l := &Message{}
	defer l.Close()
	head, err := headOf(f)
	if err != nil {
		return nil, err
	}
	var pages []int
	switch {
	case text.PDF(head):
		var found text.Found
		if err = l.Child(ctx, func(ctx context.Context) (err error) {
			if spots, err = child.Find(ctx, f, text.Search{Reader: rd.Ready, Texts: texts}); err != nil {
				return err
			}
			found, err = l.worker.Text(ctx, f, text.Request{Reader: rd.Ready})
			return err
		}); err != nil && len(found.Pictures) == 0 {
			return nil, err
		}
		if pages = found.Pictures; len(pages) == 0 {
			return spots, nil
		}
	case !text.Picture(head):
		return nil, nil
	}
	seen, err := rd.scan(ctx, l, f, pages)
	if err != nil || seen == nil {
		return spots, err
	}
	for i := range seen.Pages {
		p := &seen.Pages[i]
		spots = append(spots, text.FindRead(&p.Reading, max(0, p.Page), texts)...)
	}
	return spots, nil
}

// Patiently lets the processes that read for ctx leave the processors to others that want them.
func Patiently(ctx context.Context) context.Context { return child.Patiently(ctx) }
