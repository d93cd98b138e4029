// Package text reads the text that is inside of documents: PDF, Office Open XML
// (ECMA-376), OpenDocument (ISO/IEC 26300), CSV, web pages and plain text. Files can
// be hostile, so it is run in a confined process. It returns an error for what it cannot read.
package text

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/mail"
)

const (
	// Most is how much text of one file is read, in octets.
	Most = 1 << 20
	// Head is how much of a file's beginning tells what it is, in octets.
	Head = 512
	// MostFile is how large a file is read, in octets.
	MostFile = 64 << 20
	mostPage = 500
)

// mostPart bounds what is unpacked of a file, in octets.
var mostPart int64 = 128 << 20

// Request says what is read.
type Request struct {
	Name string `json:"name"`
	Type string `json:"type,omitempty"` // media type
	// Reader is the folder in which Prepare has kept the reader of PDFs; without one it
	// is made again each time, which takes seconds.
	Reader string `json:"reader,omitempty"`
}

// Error says why a file's text cannot be read, for a person.
type Error struct {
	Problem   string
	Encrypted bool
	Empty     bool // it was read, and there is no text in it
}

func (e *Error) Error() string { return e.Problem }

func problem(format string, args ...any) error { return &Error{Problem: fmt.Sprintf(format, args...)} }

// broken is what is wrong with a file, unless that is said already.
func broken(err error) error {
	var known *Error
	if errors.As(err, &known) {
		return known
	}
	return problem("it is broken (%v)", err)
}

var errLocked = &Error{Problem: "it is locked by a password", Encrypted: true}

// Found is what was read of a file.
type Found struct {
	Text    string
	Invoice *invoice.Invoice // where it is an electronic invoice, or holds one
	Unread  string           // why the electronic invoice in it cannot be read; "" where it was, or there is none
	// Pictures are the pages of a PDF, from 0, that are pictures without text, such as scanned ones have; the first
	// MostPictures of them. Of several pages, Pages is how many there are.
	Pictures []int
	Pages    int
}

// MostPictures is how many pages of one PDF are known to be pictures.
const MostPictures = 200

// Read reads the text of a file, and the electronic invoice that it is or holds.
func Read(r io.ReaderAt, size int64, of Request) (found Found, err error) {
	defer func() {
		if p := recover(); p != nil { // a library's, on a broken file
			found, err = Found{}, problem("it is broken")
		}
	}()
	if found.Text, err = read(r, size, of, &found); err != nil {
		return Found{Pictures: found.Pictures, Pages: found.Pages}, err
	}
	if found.Invoice != nil {
		found.Text = tidy(found.Invoice.Text() + found.Text)
	}
	return found, nil
}

// read reads the text of a file as it stands there, and keeps what is found beside it.
func read(r io.ReaderAt, size int64, of Request, found *Found) (text string, err error) {
	if size > MostFile {
		return "", problem("it has more than %d MB, which is the limit", MostFile/1_000_000)
	}
	head := make([]byte, min(size, Head))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return "", err
	}
	ext := strings.ToLower(path.Ext(of.Name))
	switch {
	case size == 0:
		return "", nil
	case PDF(head):
		if text, err = ofPDF(r, size, of.Reader, found); err == nil && found.Invoice != nil {
			return tidy(text), nil // there may be no text but in the invoice
		}
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		text, err = ofZip(r, size)
	case bytes.HasPrefix(head, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")):
		if ext == ".docx" || ext == ".xlsx" || ext == ".pptx" || ext == ".docm" || ext == ".xlsm" || ext == ".pptm" {
			return "", errLocked // such a file is wrapped into a compound file (MS-OFFCRYPTO)
		}
		return "", problem("it is in an old office format, which Ink Tray does not read")
	case bytes.HasPrefix(head, []byte(`{\rtf`)):
		return "", problem("it is in RTF, which Ink Tray does not read")
	case Picture(head):
		return "", problem("it is a picture, and perhaps a scan")
	case ext == ".pdf" || of.Type == "application/pdf":
		return "", problem("it is not a PDF, though its name says so")
	default:
		if err := found.electronic(io.NewSectionReader(r, 0, size), head); err != nil {
			return "", err
		}
		if text, err = plain(io.NewSectionReader(r, 0, size), ext, of.Type); err != nil {
			return "", err
		}
		return tidy(text), nil
	}
	if err != nil {
		return "", err
	}
	if text = tidy(text); text == "" {
		return "", &Error{Problem: "there is no text in it; perhaps it was scanned", Empty: true}
	}
	return text, nil
}

// electronic reads an electronic invoice, where the file is one. One that cannot be read keeps nobody from the text.
func (f *Found) electronic(r io.Reader, head []byte) error {
	if !bytes.ContainsRune(head, '<') { // in whatever character set
		return nil
	}
	in, err := invoice.Read(r)
	var known *invoice.Error
	switch {
	case errors.Is(err, invoice.ErrOther):
		return nil
	case errors.As(err, &known):
		f.Unread = "the electronic invoice cannot be read: " + known.Problem
		return nil
	}
	f.Invoice = in
	return err
}

// pictures are how the files begin that hold pictures: JPEG, PNG, GIF, TIFF, WebP and BMP.
var pictures = []string{"\xff\xd8\xff", "\x89PNG\r\n\x1a\n", "GIF8", "II*\x00", "MM\x00*", "RIFF", "BM"}

// TIFF says whether a file is one, which may hold several pages.
func TIFF(head []byte) bool {
	return bytes.HasPrefix(head, []byte("II*\x00")) || bytes.HasPrefix(head, []byte("MM\x00*"))
}

// Picture says whether a file is a picture whose text can be read, by its beginning.
func Picture(head []byte) bool {
	switch {
	case bytes.HasPrefix(head, []byte("RIFF")):
		return len(head) >= 12 && string(head[8:12]) == "WEBP"
	case bytes.HasPrefix(head, []byte("BM")): // then come its size and four zeros
		return len(head) >= 10 && string(head[6:10]) == "\x00\x00\x00\x00"
	}
	return slices.ContainsFunc(pictures, func(p string) bool { return bytes.HasPrefix(head, []byte(p)) })
}

// PDF says whether a file is one, by its beginning.
func PDF(head []byte) bool { return bytes.Contains(head, []byte("%PDF-")) }

// plain is what is in a text file, in whatever character set.
func plain(r io.Reader, ext, mediaType string) (string, error) {
	data, err := io.ReadAll(io.LimitReader(r, 2*Most))
	if err != nil {
		return "", err
	}
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")), bytes.HasPrefix(data, []byte("\xfe\xff")):
		big := data[0] == 0xfe
		var units []uint16
		for i := 2; i+1 < len(data); i += 2 {
			u := uint16(data[i]) | uint16(data[i+1])<<8
			if big {
				u = u<<8 | u>>8
			}
			units = append(units, u)
		}
		return string(utf16.Decode(units)), nil
	case bytes.IndexByte(data, 0) >= 0:
		return "", problem("it is not text, though its name says so")
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	text := mail.ConvertText(data, "")
	if ext == ".html" || ext == ".htm" || mediaType == "text/html" {
		text = mail.HTMLText(text)
	}
	return text, nil
}

func ofZip(r io.ReaderAt, size int64) (string, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return "", problem("it is broken (%v)", err)
	}
	files := map[string]*zip.File{}
	for _, f := range z.File {
		files[f.Name] = f
	}
	b := &builder{left: mostPart}
	switch {
	case files["word/document.xml"] != nil:
		for _, name := range matching(files, "word/document.xml", "word/header", "word/footer", "word/footnotes.xml",
			"word/endnotes.xml") {
			if err := b.xml(files[name], "t", "p", "tab"); err != nil {
				return "", err
			}
		}
	case files["ppt/presentation.xml"] != nil:
		for _, name := range matching(files, "ppt/slides/slide", "ppt/notesSlides/notesSlide") {
			if err := b.xml(files[name], "t", "p", "tab"); err != nil {
				return "", err
			}
		}
	case files["xl/workbook.xml"] != nil:
		return ofWorkbook(r, size)
	case files["content.xml"] != nil && files["mimetype"] != nil:
		if m := files["META-INF/manifest.xml"]; m != nil && b.holds(m, "encryption-data") {
			return "", errLocked
		}
		names := []string{"content.xml"}
		// heads and feet of pages; others hold placeholders there
		if b.begins(files["mimetype"], "application/vnd.oasis.opendocument.text") {
			names = []string{"styles.xml", "content.xml"}
		}
		for _, name := range matching(files, names...) {
			if err := b.xml(files[name], "", "p", "tab"); err != nil {
				return "", err
			}
		}
	default:
		return "", problem("it is an archive, and no document")
	}
	return b.String(), nil
}

// matching lists the files with these names, or whose names begin so and end with a
// number, in their order.
func matching(files map[string]*zip.File, names ...string) []string {
	var all []string
	for _, name := range names {
		var some []string
		for f := range files {
			number := strings.TrimSuffix(strings.TrimPrefix(f, name), ".xml")
			if _, err := strconv.Atoi(number); f == name || err == nil && strings.HasPrefix(f, name) &&
				strings.HasSuffix(f, ".xml") {
				some = append(some, f)
			}
		}
		slices.SortFunc(some, func(a, b string) int {
			if len(a) != len(b) {
				return len(a) - len(b)
			}
			return strings.Compare(a, b)
		})
		all = append(all, some...)
	}
	return all
}

// builder gathers text, up to limits.
type builder struct {
	strings.Builder
	left int64 // octets that may still be unpacked
}

func (b *builder) open(f *zip.File) (io.Reader, func() error, error) {
	if f.Flags&1 != 0 {
		return nil, nil, errLocked
	}
	rc, err := f.Open()
	if err != nil {
		return nil, nil, problem("it is broken (%v)", err)
	}
	return &bounded{r: rc, left: &b.left}, rc.Close, nil
}

// bounded fails where more is unpacked than the limit.
type bounded struct {
	r    io.Reader
	left *int64
}

func (l *bounded) Read(p []byte) (int, error) {
	if *l.left <= 0 {
		return 0, problem("it unpacks to more than %d MB, which is the limit", mostPart/1_000_000)
	}
	n, err := l.r.Read(p)
	*l.left -= int64(n)
	return n, err
}

// begins says whether a file begins with a text.
func (b *builder) begins(f *zip.File, with string) bool {
	r, closed, err := b.open(f)
	if err != nil {
		return false
	}
	defer closed()
	head := make([]byte, len(with))
	_, err = io.ReadFull(r, head)
	return err == nil && string(head) == with
}

// xml adds the text of an XML file: of the elements called text, or all of it; each
// paragraph is a line of its own, and so is each row of a table.
func (b *builder) xml(f *zip.File, text, paragraph, tab string) error {
	r, closed, err := b.open(f)
	if err != nil {
		return err
	}
	defer closed()
	d := xml.NewDecoder(r)
	d.Strict = false
	inside, rows := 0, 0
	for b.Len() < Most {
		t, err := d.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return broken(err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case text:
				inside++
			case tab, "s": // OpenDocument writes several spaces as an element
				b.WriteByte(' ')
			case "br", "line-break":
				b.WriteByte('\n')
			case "tr", "table-row":
				rows++
			case "tracked-changes", "annotation": // what was taken out, and what was said about it
				if err := d.Skip(); err != nil {
					return broken(err)
				}
			}
		case xml.EndElement:
			switch t.Name.Local {
			case text:
				inside--
			case "tr", "table-row":
				if rows--; rows == 0 {
					b.WriteByte('\n')
				}
			case paragraph, "h":
				if rows > 0 {
					b.WriteByte(' ')
				} else {
					b.WriteByte('\n')
				}
			}
		case xml.CharData:
			if inside > 0 || text == "" {
				b.Write(t)
			}
		}
	}
	return nil
}

// holds says whether an XML file has an element.
func (b *builder) holds(f *zip.File, element string) bool {
	r, closed, err := b.open(f)
	if err != nil {
		return false
	}
	defer closed()
	d := xml.NewDecoder(r)
	d.Strict = false
	for {
		t, err := d.Token()
		if err != nil {
			return false
		}
		if s, ok := t.(xml.StartElement); ok && s.Name.Local == element {
			return true
		}
	}
}

// ofWorkbook reads a workbook's cells as they are shown, a row a line.
func ofWorkbook(r io.ReaderAt, size int64) (string, error) {
	w, err := excelize.OpenReader(io.NewSectionReader(r, 0, size),
		excelize.Options{UnzipSizeLimit: mostPart, UnzipXMLSizeLimit: mostPart})
	if err != nil {
		return "", problem("it is broken (%v)", err)
	}
	defer w.Close()
	var b strings.Builder
	for _, sheet := range w.GetSheetList() {
		rows, err := w.Rows(sheet)
		if err != nil {
			continue // a sheet of charts
		}
		for rows.Next() && b.Len() < Most {
			cells, err := rows.Columns()
			if err != nil {
				return "", problem("it is broken (%v)", err)
			}
			b.WriteString(strings.Join(cells, " ") + "\n")
		}
		if err := errors.Join(rows.Error(), rows.Close()); err != nil {
			return "", problem("it is broken (%v)", err)
		}
	}
	return b.String(), nil
}

// tidy takes out what is no text, and empty lines.
func tidy(s string) string {
	var b strings.Builder
	for line := range strings.Lines(strings.ToValidUTF8(s, " ")) {
		line = strings.Join(strings.FieldsFunc(line, func(r rune) bool { return r <= ' ' || r == 0xa0 || r == 0x7f }), " ")
		if line == "" {
			continue
		}
		if b.Len()+len(line) > Most {
			break
		}
		b.WriteString(line + "\n")
	}
	return strings.TrimSpace(b.String())
}
