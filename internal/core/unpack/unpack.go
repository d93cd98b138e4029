// Package unpack looks into items that hold others: archives (zip, tar, gzip,
// bzip2, xz, zstd, 7z, rar), winmail.dat (MS-OXTNEF) and opaque signed mail
// (RFC 8551). Everything it reads is hostile: it stops at its limits and says
// which was reached. It is run in a process of its own.
package unpack

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
	"golang.org/x/text/encoding/charmap"
)

// Limits bound what is unpacked of one item. A limit of 0 is the usual one.
type Limits struct {
	Entries int   `json:"entries"` // files in it; 10,000
	Octets  int64 `json:"octets"`  // of all files together; 2 GB
	Ratio   int64 `json:"ratio"`   // times larger than the item, once there are 64 MB; 200
}

const (
	usualEntries = 10_000
	usualOctets  = 2_000_000_000
	usualRatio   = 200
	ratioFrom    = 64_000_000
)

func (l Limits) usual() Limits {
	if l.Entries == 0 {
		l.Entries = usualEntries
	}
	if l.Octets == 0 {
		l.Octets = usualOctets
	}
	if l.Ratio == 0 {
		l.Ratio = usualRatio
	}
	return l
}

// Request says what is to be opened and how.
type Request struct {
	Name      string   `json:"name"`      // of the item
	Type      string   `json:"type"`      // its media type
	Passwords []string `json:"passwords"` // tried in turn
	Limits    Limits   `json:"limits"`
	Contents  bool     `json:"contents"` // whether contents are wanted, not only names
	Only      []string `json:"only"`     // contents of these numbers; all where it is empty
	Heads     int      `json:"heads"`    // how many octets of each content come with its entry, as Entry.First
}

// Entry is one file that was found.
type Entry struct {
	Number string `json:"number"` // within the item: stable, as the same bytes give the same numbers
	Name   string `json:"name"`   // with its folders, "/" between; never leads outside
	Type   string `json:"type,omitempty"`
	Size   int64  `json:"size"`             // octets
	Left   string `json:"left,omitempty"`   // why it is never filed: it is a link
	Remark string `json:"remark,omitempty"` // what was odd about it
	Inline bool   `json:"inline,omitempty"`
	Text   bool   `json:"text,omitempty"` // text of a message, not a file
	// Header is, of an entry of a message, the header of the message that holds it; of
	// the entry without a number, that of the message itself.
	Header string `json:"header,omitempty"`
	Opens  bool   `json:"opens,omitempty"` // it is a message that was encoded itself
	// First are the first octets of the content, Request.Heads of them. Spoiled says why they cannot be read.
	First   []byte `json:"first,omitempty"`
	Spoiled string `json:"spoiled,omitempty"`
}

// Bounds on what is told of an entry, in octets: it comes out of a message and may be of any length.
const (
	longestName   = 4 << 10
	longestHeader = 16 << 10
)

// tail is the end of a name, where it says what it is of.
func tail(name string) string {
	if len(name) <= longestName {
		return name
	}
	return strings.ToValidUTF8(name[len(name)-longestName:], "")
}

// Error says why an item cannot be opened.
type Error struct {
	Problem   string // a sentence without its full stop
	Encrypted bool
	Empty     bool // of a text: there is none in the file, which was read
	Limit     bool
}

func (e *Error) Error() string { return e.Problem }

func broken(what string, err error) error {
	return &Error{Problem: fmt.Sprintf("the %s is broken (%v)", what, err)}
}

func encrypted(what string, tried int) error {
	e := &Error{Problem: "the " + what + " is encrypted", Encrypted: true}
	switch {
	case tried == 1:
		e.Problem += ", and the known password does not open it"
	case tried > 1:
		e.Problem += fmt.Sprintf(", and none of the %d known passwords opens it", tried)
	}
	return e
}

// Visit is called for each entry in order. content is nil unless contents were
// asked for; it must be read before Visit returns.
type Visit func(e Entry, content io.Reader) error

// Open looks into an item. Its size in octets is that of src.
func Open(src io.ReaderAt, size int64, r Request, visit Visit) error {
	first := make([]byte, 512)
	n, _ := src.ReadAt(first, 0)
	first = first[:n]
	o := &opener{src: src, size: size, request: r, limits: r.Limits.usual(), visit: visit}
	stream := func() io.Reader { return bufio.NewReaderSize(io.NewSectionReader(src, 0, size), 64<<10) }
	has := func(magic string) bool { return bytes.HasPrefix(first, []byte(magic)) }
	switch {
	case n == 0:
		return &Error{Problem: "it is empty"}
	case r.Type == "message/rfc822" || r.Type == "message/global":
		return o.message()
	case strings.Contains(r.Type, "pkcs7-mime"):
		return o.smime()
	case has("\x78\x9f\x3e\x22"):
		return o.tnef()
	case has("PK\x03\x04") || has("PK\x05\x06"):
		return o.zip()
	case has("7z\xbc\xaf\x27\x1c"):
		return o.sevenZip()
	case has("Rar!\x1a\x07"):
		return o.rar()
	case has("\x1f\x8b"):
		z, err := gzip.NewReader(stream())
		if err != nil {
			return broken("archive", err)
		}
		return o.compressed(z)
	case has("BZh"):
		return o.compressed(bzip2.NewReader(stream()))
	case has("\xfd7zXZ\x00"):
		z, err := xz.NewReader(stream())
		if err != nil {
			return broken("archive", err)
		}
		return o.compressed(z)
	case has("\x28\xb5\x2f\xfd"):
		z, err := zstd.NewReader(stream(), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return broken("archive", err)
		}
		defer z.Close()
		return o.compressed(z)
	case isTar(first):
		return o.tar(stream())
	case strings.Contains(r.Type, "tnef") || strings.EqualFold(r.Name, "winmail.dat"):
		return &Error{Problem: "it is not a winmail.dat, though it says so"}
	}
	return &Error{Problem: "it is not an archive that can be opened here, though its name says that it is one"}
}

type opener struct {
	src     io.ReaderAt
	size    int64
	request Request
	limits  Limits
	visit   Visit
	count   int
	octets  int64
}

// wants says whether an entry's content is to be opened.
func (o *opener) wants(number string) bool { return o.request.Heads > 0 || o.whole(number) }

// whole says whether an entry's whole content is wanted.
func (o *opener) whole(number string) bool {
	if !o.request.Contents {
		return false
	}
	for _, n := range o.request.Only {
		if n == number {
			return true
		}
	}
	return len(o.request.Only) == 0
}

// next numbers an entry and counts it against the limits.
func (o *opener) next() (number string, err error) {
	o.count++
	if o.count > o.limits.Entries {
		return "", &Error{Problem: fmt.Sprintf("there are more than %d files in it, which is the limit", o.limits.Entries),
			Limit: true}
	}
	return fmt.Sprint(o.count), nil
}

// room counts octets against the limits.
func (o *opener) room(octets int64) error {
	o.octets += octets
	switch {
	case o.octets > o.limits.Octets || octets < 0:
		return &Error{Problem: fmt.Sprintf("it would become larger than %d MB, which is the limit", o.limits.Octets/1e6),
			Limit: true}
	case o.octets > ratioFrom && o.octets/max(o.size, 1) >= o.limits.Ratio:
		return &Error{
			Problem: fmt.Sprintf("it would become more than %d times as large as it is, as a trap does", o.limits.Ratio),
			Limit:   true}
	}
	return nil
}

// counted reads and counts against the limits.
type counted struct {
	o *opener
	r io.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	if limit := c.o.room(int64(n)); limit != nil {
		return n, limit
	}
	return n, err
}

// give hands an entry over. A size below 0 is not known before the content was
// read; it is read and counted then.
func (o *opener) give(e Entry, content io.Reader) error {
	long := len(e.Name) > longestName
	e.Name, e.Remark = clean(tail(e.Name), e.Remark)
	if e.Type = tail(e.Type); long && e.Remark == "" {
		e.Remark = "its name in the archive is longer than any name may be; the end of it counts"
	}
	if len(e.Header) > longestHeader {
		e.Header = strings.ToValidUTF8(e.Header[:longestHeader], "")
	}
	c := &counted{o: o, r: content}
	all := io.Reader(c)
	if o.request.Heads > 0 && content != nil {
		var err error
		e.First, err = io.ReadAll(io.LimitReader(c, int64(o.request.Heads)))
		var limit *Error
		switch {
		case errors.As(err, &limit):
			return err
		case err != nil: // this one; the others may be whole
			e.First, e.Spoiled = nil, err.Error()
			e.Size = max(e.Size, 0)
			return o.visit(e, nil)
		}
		all = io.MultiReader(bytes.NewReader(e.First), c)
	}
	if !o.whole(e.Number) {
		if e.Size < 0 {
			if _, err := io.Copy(io.Discard, c); err != nil {
				return err
			}
			e.Size = c.n
		}
		return o.visit(e, nil)
	}
	return o.visit(e, all)
}

// clean makes an entry's name lead nowhere but down, and says where it led.
func clean(name, remark string) (string, string) {
	if !utf8.ValidString(name) {
		if s, err := charmap.CodePage437.NewDecoder().String(name); err == nil { // APPNOTE.TXT 4.4.17, appendix D
			name = s
		}
		name = strings.ToValidUTF8(name, "\uFFFD")
	}
	written := name
	name = strings.ReplaceAll(name, `\`, "/")
	if len(name) > 1 && name[1] == ':' {
		name = name[2:]
	}
	escaped := strings.HasPrefix(name, "/") || len(name) != len(strings.ReplaceAll(written, `\`, "/"))
	var kept []string
	for _, part := range strings.Split(name, "/") {
		switch strings.TrimSpace(part) {
		case "", ".":
		case "..":
			escaped = true
		default:
			kept = append(kept, part)
		}
	}
	if escaped && remark == "" {
		remark = fmt.Sprintf("its path in the archive, %q, leads outside; it is filed inside", written)
	}
	if len(kept) > 32 { // nobody made these by hand
		kept = append(kept[:31], kept[len(kept)-1])
	}
	return strings.Join(kept, "/"), remark
}

func isTar(first []byte) bool {
	return len(first) >= 262 && string(first[257:262]) == "ustar"
}

// compressed looks into a compressed stream: a tar, or one file.
func (o *opener) compressed(r io.Reader) error {
	in := bufio.NewReaderSize(r, 64<<10)
	first, err := in.Peek(512)
	if err != nil && err != io.EOF {
		return broken("archive", err)
	}
	if isTar(first) {
		return o.tar(in)
	}
	number, err := o.next()
	if err != nil {
		return err
	}
	name := path.Base(strings.ReplaceAll(o.request.Name, `\`, "/"))
	name = strings.TrimSuffix(name, path.Ext(name))
	if name == "" {
		name = "file"
	}
	return o.told("archive", o.give(Entry{Number: number, Name: name, Size: -1}, in))
}

// told keeps what was said of a limit, and says of the rest that it is broken.
func (o *opener) told(what string, err error) error {
	var known *Error
	var from *visitError
	if err == nil || errors.As(err, &known) || errors.As(err, &from) {
		return err
	}
	return broken(what, err)
}

// visitError is the caller's own, passed through.
type visitError struct{ err error }

func (v *visitError) Error() string { return v.err.Error() }
func (v *visitError) Unwrap() error { return v.err }

// Passed marks an error of a Visit function as the caller's own, so that it is
// not taken for a broken archive.
func Passed(err error) error {
	if err == nil {
		return nil
	}
	return &visitError{err}
}

func (o *opener) tar(r io.Reader) error {
	t := tar.NewReader(&skimmed{o: o, r: r})
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return o.told("archive", err)
		}
		e := Entry{Name: h.Name, Size: h.Size}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
		case tar.TypeDir, tar.TypeXHeader, tar.TypeXGlobalHeader:
			continue
		default:
			e.Left, e.Size = "a link or a device, which is never followed", 0
		}
		if e.Number, err = o.next(); err != nil {
			return err
		}
		if err := o.told("archive", o.give(e, t)); err != nil {
			return err
		}
	}
}

// skimmed counts what a tar passes over, too: a compressed stream of nothing
// can be endless.
type skimmed struct {
	o *opener
	r io.Reader
	n int64
}

func (s *skimmed) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	s.n += int64(n)
	if s.n > ratioFrom && s.n/max(s.o.size, 1) >= s.o.limits.Ratio || s.n > s.o.limits.Octets+
		int64(s.o.limits.Entries)*1024 {
		return n, &Error{
			Problem: fmt.Sprintf("it would become more than %d times as large as it is, as a trap does", s.o.limits.Ratio),
			Limit:   true}
	}
	return n, err
}
