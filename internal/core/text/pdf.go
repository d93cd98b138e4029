package text

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/klippa-app/go-pdfium"
	pdferrors "github.com/klippa-app/go-pdfium/errors"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"
	"github.com/klippa-app/go-pdfium/webassembly"
	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"
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

// ofPDF reads a PDF as its pages show it, row by row.
func ofPDF(r io.ReaderAt, size int64, folder string) (string, error) {
	pool, err := readerIn(folder)
	if err != nil {
		return "", err
	}
	p, err := pool.GetInstance(time.Minute)
	if err != nil {
		return "", err
	}
	defer p.Close()
	d, err := p.OpenDocument(&requests.OpenDocument{FileReader: io.NewSectionReader(r, 0, size), FileReaderSize: size})
	switch {
	case errors.Is(err, pdferrors.ErrPassword):
		return "", errLocked
	case err != nil:
		return "", problem("it is broken (%v)", err)
	}
	pages, err := p.FPDF_GetPageCount(&requests.FPDF_GetPageCount{Document: d.Document})
	if err != nil {
		return "", problem("it is broken (%v)", err)
	}
	var b strings.Builder
	for i := 0; i < min(pages.PageCount, mostPage) && b.Len() < Most; i++ {
		text, err := ofPage(p, d.Document, i)
		if err != nil {
			return "", problem("page %d is broken", i+1)
		}
		b.WriteString(text + "\n")
	}
	return b.String(), nil
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
