package text

import (
	"io"
	"slices"
	"strings"

	"github.com/klippa-app/go-pdfium"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"

	"inktray.example/inktray/internal/core/ocr"
)

// Bounds of looking for texts.
const (
	MostLooked = 50  // texts
	mostPlaces = 10  // of one text
	lookedAt   = 100 // pages
	mostSpots  = 300 // in all
)

// Search says which texts are looked for on the pages of a PDF.
type Search struct {
	Reader string   `json:"reader,omitempty"` // as in Request
	Texts  []string `json:"texts"`
}

// Spot is where a text stands on a page. Its box is in shares of the page as it is shown, from the left and the top.
type Spot struct {
	Text                     int // index of the text that was looked for
	Page                     int // from 0
	Left, Top, Width, Height float64
}

// Find looks for texts on the pages of a PDF. A text that is parted by the end of a line has a spot for each part. The
// error is an *Error where it is the file's.
func Find(r io.ReaderAt, size int64, of Search) (spots []Spot, err error) {
	defer func() {
		if p := recover(); p != nil { // a library's, on a broken file
			spots, err = nil, problem("it is broken")
		}
	}()
	p, d, pages, err := openPDF(r, size, of.Reader)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	found := make([]int, len(of.Texts))
	for i := range min(pages, lookedAt) {
		more, err := findOn(p, d, i, of.Texts, found)
		if err != nil {
			return nil, problem("page %d is broken", i+1)
		}
		if spots = append(spots, more...); len(spots) >= mostSpots {
			return spots[:mostSpots], nil
		}
	}
	return spots, nil
}

// findOn looks for texts on a page; found counts how often each was found.
func findOn(p pdfium.Pdfium, d references.FPDF_DOCUMENT, i int, texts []string, found []int) (spots []Spot, err error) {
	page := requests.Page{ByIndex: &requests.PageByIndex{Document: d, Index: i}}
	loaded, err := p.FPDFText_LoadPage(&requests.FPDFText_LoadPage{Page: page})
	if err != nil {
		return nil, err
	}
	defer func() {
		_, _ = p.FPDFText_ClosePage(&requests.FPDFText_ClosePage{TextPage: loaded.TextPage}) // the document is closed next
	}()
	for k, wanted := range texts {
		if wanted == "" || found[k] >= mostPlaces {
			continue
		}
		search, err := p.FPDFText_FindStart(&requests.FPDFText_FindStart{TextPage: loaded.TextPage, Find: wanted})
		if err != nil {
			return nil, err
		}
		for found[k] < mostPlaces {
			next, err := p.FPDFText_FindNext(&requests.FPDFText_FindNext{Search: search.Search})
			if err != nil || !next.GotMatch {
				break
			}
			found[k]++
			boxes, err := boxesOf(p, page, loaded.TextPage, search.Search)
			if err != nil {
				return nil, err
			}
			for _, b := range boxes {
				b.Text, b.Page = k, i
				spots = append(spots, b)
			}
		}
		if _, err := p.FPDFText_FindClose(&requests.FPDFText_FindClose{Search: search.Search}); err != nil {
			return nil, err
		}
	}
	return spots, nil
}

// fine is how many parts of a page its places are told in.
const fine = 100_000

// boxesOf are the boxes of what a search has found.
func boxesOf(p pdfium.Pdfium, page requests.Page, on references.FPDF_TEXTPAGE,
	search references.FPDF_SCHHANDLE) (boxes []Spot, err error) {
	at, err := p.FPDFText_GetSchResultIndex(&requests.FPDFText_GetSchResultIndex{Search: search})
	if err != nil {
		return nil, err
	}
	count, err := p.FPDFText_GetSchCount(&requests.FPDFText_GetSchCount{Search: search})
	if err != nil {
		return nil, err
	}
	rects, err := p.FPDFText_CountRects(&requests.FPDFText_CountRects{TextPage: on, StartIndex: at.Index,
		Count: count.Count})
	if err != nil {
		return nil, err
	}
	shown := func(x, y float64) (left, top float64, err error) {
		at, err := p.FPDF_PageToDevice(&requests.FPDF_PageToDevice{Page: page, SizeX: fine, SizeY: fine, PageX: x, PageY: y})
		if err != nil {
			return 0, 0, err
		}
		return float64(at.DeviceX) / fine, float64(at.DeviceY) / fine, nil
	}
	for i := range min(rects.Count, mostPlaces) {
		r, err := p.FPDFText_GetRect(&requests.FPDFText_GetRect{TextPage: on, Index: i})
		if err != nil {
			return nil, err
		}
		x1, y1, err := shown(r.Left, r.Top)
		if err != nil {
			return nil, err
		}
		x2, y2, err := shown(r.Right, r.Bottom)
		if err != nil {
			return nil, err
		}
		boxes = append(boxes, within(x1, y1, x2, y2))
	}
	return boxes, nil
}

// within is the box between two corners, as far as it is on the page.
func within(x1, y1, x2, y2 float64) Spot {
	on := func(v float64) float64 { return min(1, max(0, v)) }
	left, top := on(min(x1, x2)), on(min(y1, y2))
	return Spot{Left: left, Top: top, Width: on(max(x1, x2)) - left, Height: on(max(y1, y2)) - top}
}

// FindRead looks for texts among the words that were read of a picture. page is that of the file, from 0, which the
// first page of the picture is.
func FindRead(r *ocr.Reading, page int, texts []string) (spots []Spot) {
	for k, wanted := range texts {
		tokens := strings.Fields(wanted)
		if len(tokens) == 0 {
			continue
		}
		for i, n := 0, 0; i+len(tokens) <= len(r.Words) && n < mostPlaces; i++ {
			run := r.Words[i : i+len(tokens)]
			if !stands(run, tokens) {
				continue
			}
			n++
			for _, w := range run {
				if s, ok := spotOf(r, &w); ok {
					s.Text, s.Page = k, page+w.Page-1
					spots = append(spots, s)
				}
			}
		}
	}
	return spots
}

// stands says whether words say a text. The first may have something before it, the last something behind, such as a
// bracket or a full stop.
func stands(run []ocr.Word, tokens []string) bool {
	last := len(tokens) - 1
	for i, token := range tokens {
		word := run[i].Text
		fits := word == token
		switch {
		case i == 0 && last == 0:
			fits = strings.Contains(word, token)
		case i == 0:
			fits = strings.HasSuffix(word, token)
		case i == last:
			fits = strings.HasPrefix(word, token)
		}
		if !fits {
			return false
		}
	}
	return true
}

// spotOf is the place of a word on the page as it is shown, which may be tilted.
func spotOf(r *ocr.Reading, w *ocr.Word) (Spot, bool) {
	if w.Page < 1 || w.Page > len(r.Pages) {
		return Spot{}, false
	}
	page := r.Pages[w.Page-1]
	if page.Width < 1 || page.Height < 1 {
		return Spot{}, false
	}
	var xs, ys []float64
	for _, corner := range [][2]int{{0, 0}, {w.Width, 0}, {0, w.Height}, {w.Width, w.Height}} {
		x, y := ocr.Back(float64(w.Left+corner[0]), float64(w.Top+corner[1]), page.Width, page.Height, r.Tilt)
		xs, ys = append(xs, x/float64(page.Width)), append(ys, y/float64(page.Height))
	}
	return within(slices.Min(xs), slices.Min(ys), slices.Max(xs), slices.Max(ys)), true
}
