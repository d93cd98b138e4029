package text

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"path"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/klippa-app/go-pdfium"
	"github.com/klippa-app/go-pdfium/enums"
	pdferrors "github.com/klippa-app/go-pdfium/errors"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"
	"github.com/klippa-app/go-pdfium/responses"
	"github.com/klippa-app/go-pdfium/webassembly"
	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"

	"inktray.example/inktray/internal/core/ocr"
)

// pdfPages is the memory that reading a PDF may take, in pages of 64 KB.
const pdfPages = 4096

// mostReaders are there at once; one that a broken file upset is not used again.
const mostReaders = 100

// reader is PDFium as WebAssembly: what it computes on hostile files stays within its
// own memory. It sees no file and no network.
type reader struct {
	once sync.Once
	pool pdfium.Pool
	err  error
}

var readers sync.Map // by folder

// Prepare makes the reader of PDFs ready for this machine and keeps it in a folder,
// under its Version, or finds it there. It takes seconds and some 350 MB of memory the
// first time.
func Prepare(folder string) error {
	_, err := readerIn(folder)
	return err
}

// Version names what the reader of PDFs is made of.
func Version() string {
	name := "pdfium"
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, m := range info.Deps {
			if m.Path == "github.com/klippa-app/go-pdfium" || m.Path == "github.com/tetratelabs/wazero" {
				name += "-" + m.Version
			}
		}
	}
	return name
}

func readerIn(folder string) (pdfium.Pool, error) {
	kept, _ := readers.LoadOrStore(folder, &reader{})
	r := kept.(*reader)
	r.once.Do(func() {
		config := wazero.NewRuntimeConfig().WithCoreFeatures(
			api.CoreFeaturesV2 | experimental.CoreFeaturesExceptionHandling).WithMemoryLimitPages(pdfPages)
		if folder != "" {
			var cache wazero.CompilationCache
			if cache, r.err = wazero.NewCompilationCacheWithDir(filepath.Join(folder, Version())); r.err != nil {
				return
			}
			config = config.WithCompilationCache(cache)
		}
		r.pool, r.err = webassembly.Init(webassembly.Config{Context: context.Background(), MaxTotal: mostReaders,
			RuntimeConfig: config, FSConfig: wazero.NewFSConfig(), Stdout: io.Discard, Stderr: io.Discard})
	})
	return r.pool, r.err
}

// ofPDF reads a PDF as its pages show it, row by row, and keeps the electronic invoice that is embedded in it.
func ofPDF(r io.ReaderAt, size int64, folder string, found *Found) (string, error) {
	p, d, pages, err := openPDF(r, size, folder)
	if err != nil {
		return "", err
	}
	defer p.Close()
	found.Pages = pages
	var b strings.Builder
	for i := 0; i < min(pages, mostPage) && b.Len() < Most; i++ {
		text, err := ofPage(p, d, i)
		if err != nil {
			return "", problem("page %d is broken", i+1)
		}
		b.WriteString(text + "\n")
		if len(found.Pictures) < MostPictures && isPicture(p, d, i, strings.TrimSpace(text)) {
			found.Pictures = append(found.Pictures, i)
		}
	}
	found.embedded(p, d) // at last: a file in it may break the reader
	return b.String(), nil
}

// openPDF opens a PDF; the instance must be closed where there is no error.
func openPDF(r io.ReaderAt, size int64, folder string) (p pdfium.Pdfium, d references.FPDF_DOCUMENT, pages int,
	err error) {
	pool, err := readerIn(folder)
	if err != nil {
		return nil, d, 0, err
	}
	if p, err = pool.GetInstance(time.Minute); err != nil {
		return nil, d, 0, err
	}
	opened, err := p.OpenDocument(&requests.OpenDocument{FileReader: io.NewSectionReader(r, 0, size),
		FileReaderSize: size})
	if err == nil {
		var count *responses.FPDF_GetPageCount
		if count, err = p.FPDF_GetPageCount(&requests.FPDF_GetPageCount{Document: opened.Document}); err == nil {
			return p, opened.Document, count.PageCount, nil
		}
	}
	_ = p.Close() // nothing more comes of it
	if errors.Is(err, pdferrors.ErrPassword) {
		return nil, d, 0, errLocked
	}
	return nil, d, 0, problem("it is broken (%v)", err)
}

const (
	fewLetters  = 200 // a page with fewer may be a picture under a line that a fax machine or a scanner wrote, octets
	mostObjects = 200 // of a page that are looked at
)

// isPicture says whether a page is a picture of a page: it has no text, or little, and a picture covers half of it.
func isPicture(p pdfium.Pdfium, d references.FPDF_DOCUMENT, i int, text string) bool {
	if len(text) >= fewLetters {
		return false
	}
	page := requests.Page{ByIndex: &requests.PageByIndex{Document: d, Index: i}}
	count, err := p.FPDFPage_CountObjects(&requests.FPDFPage_CountObjects{Page: page})
	if err != nil {
		return false
	}
	if text == "" {
		return count.Count > 0
	}
	whole, err := p.GetPageSize(&requests.GetPageSize{Page: page})
	if err != nil {
		return false
	}
	for k := range min(count.Count, mostObjects) {
		object, err := p.FPDFPage_GetObject(&requests.FPDFPage_GetObject{Page: page, Index: k})
		if err != nil {
			continue
		}
		kind, err := p.FPDFPageObj_GetType(&requests.FPDFPageObj_GetType{PageObject: object.PageObject})
		if err != nil || kind.Type != enums.FPDF_PAGEOBJ_IMAGE {
			continue
		}
		at, err := p.FPDFPageObj_GetBounds(&requests.FPDFPageObj_GetBounds{PageObject: object.PageObject})
		if err == nil && float64(at.Right-at.Left)*float64(at.Top-at.Bottom) > whole.Width*whole.Height/2 {
			return true
		}
	}
	return false
}

// Drawing says which page of a PDF is drawn.
type Drawing struct {
	Reader   string `json:"reader,omitempty"` // as in Request
	Page     int    `json:"page"`             // from 0
	DPI      int    `json:"dpi"`              // at most; fewer where the page is large
	Straight bool   `json:"straight,omitempty"`
}

// Drawn is a page as it was drawn, or a picture that was straightened.
type Drawn struct {
	Tilt float64 // by how many degrees its lines went down to the right, before it was straightened
}

// mostDrawn bounds the longer side of a page that is drawn, in pixels.
const mostDrawn = 5000

// Draw draws a page of a PDF in grey, as PNG (RFC 2083). The error is an *Error where it is the file's.
func Draw(w io.Writer, r io.ReaderAt, size int64, of Drawing) (out Drawn, err error) {
	defer mended(&err)
	p, d, pages, err := openPDF(r, size, of.Reader)
	if err != nil {
		return out, err
	}
	defer p.Close()
	if of.Page < 0 || of.Page >= pages {
		return out, problem("it has no page %d", of.Page+1)
	}
	err = onPage(p, d, of.Page, of.DPI, func(page image.Image) (err error) {
		out, err = inGrey(w, page, of.Straight)
		return err
	})
	return out, err
}

// onPage draws a page of a PDF in grey and looks at it.
func onPage(p pdfium.Pdfium, d references.FPDF_DOCUMENT, i, dpi int, look func(page image.Image) error) error {
	page := requests.Page{ByIndex: &requests.PageByIndex{Document: d, Index: i}}
	whole, err := p.GetPageSize(&requests.GetPageSize{Page: page})
	if err != nil || whole.Width <= 0 || whole.Height <= 0 {
		return problem("page %d is broken", i+1)
	}
	scale := min(float64(dpi)/72, mostDrawn/max(whole.Width, whole.Height)) // a point is 1/72 inch
	drawn, err := p.RenderPageInPixels(&requests.RenderPageInPixels{Page: page, Width: max(1, int(whole.Width*scale)),
		Height: max(1, int(whole.Height*scale)), ImageFormat: requests.RenderImageFormatGrayscale,
		RenderFlags: enums.FPDF_RENDER_FLAG_ANNOT})
	if err != nil {
		return problem("page %d cannot be drawn", i+1)
	}
	defer drawn.Cleanup()
	return look(drawn.Result.RenderedImage)
}

// inGrey writes a picture, straightened where that is wanted.
func inGrey(w io.Writer, picture image.Image, straight bool) (out Drawn, err error) {
	if straight {
		picture, out.Tilt = ocr.Straighten(ocr.Grey(picture))
	}
	return out, (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, picture)
}

// mostEmbedded is how many of the files in a PDF are looked at.
const mostEmbedded = 1000

// embedded reads the electronic invoice that is attached to a PDF, as hybrids have one (PDF/A-3, ISO 19005-3). Of the
// files in a PDF, only those are unpacked that XML can be.
func (f *Found) embedded(p pdfium.Pdfium, d references.FPDF_DOCUMENT) {
	count, err := p.FPDFDoc_GetAttachmentCount(&requests.FPDFDoc_GetAttachmentCount{Document: d})
	if err != nil {
		return // what is attached cannot be listed, and may be anything
	}
	for i := 0; i < min(count.AttachmentCount, mostEmbedded) && f.Invoice == nil; i++ {
		at, err := p.FPDFDoc_GetAttachment(&requests.FPDFDoc_GetAttachment{Document: d, Index: i})
		if err != nil {
			continue
		}
		name, err := p.FPDFAttachment_GetName(&requests.FPDFAttachment_GetName{Attachment: at.Attachment})
		if err != nil || !strings.EqualFold(path.Ext(name.Name), ".xml") {
			continue
		}
		file, err := p.FPDFAttachment_GetFile(&requests.FPDFAttachment_GetFile{Attachment: at.Attachment})
		if err == nil {
			err = f.electronic(bytes.NewReader(file.Contents), file.Contents[:min(len(file.Contents), Head)])
		}
		if err != nil {
			f.Unread = fmt.Sprintf("the file “%s” in it cannot be read", name.Name)
		}
	}
	if f.Invoice != nil {
		f.Unread = ""
	}
}

func ofPage(p pdfium.Pdfium, d references.FPDF_DOCUMENT, i int) (string, error) {
	text, err := p.GetPageText(&requests.GetPageText{
		Page: requests.Page{ByIndex: &requests.PageByIndex{Document: d, Index: i}}})
	if err != nil {
		return "", err
	}
	return joined(text.Text), nil
}

// hyphen is what PDFium writes for one at the end of a line, instead of the line's end.
const hyphen = '\x02'

// joined makes whole again what was parted at the ends of lines: words are one, and
// the hyphen of a name is its own.
func joined(s string) string {
	if !strings.ContainsRune(s, hyphen) {
		return s
	}
	runes := []rune(s)
	var b strings.Builder
	for i, r := range runes {
		switch {
		case r != hyphen:
			b.WriteRune(r)
		case i == 0 || i+1 == len(runes) || !unicode.IsLower(runes[i+1]) || !unicode.IsLetter(runes[i-1]):
			b.WriteByte('-')
		}
	}
	return b.String()
}
