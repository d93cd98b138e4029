// Package codes reads the bar codes and QR codes in a picture of a page. A picture comes from strangers: callers look
// into it in a process of its own.
package codes

import (
	"cmp"
	"fmt"
	"image"
	"slices"
	"strings"
	"unicode"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/datamatrix"
	"github.com/makiuchi-d/gozxing/multi/qrcode"
	"github.com/makiuchi-d/gozxing/oned"
)

// Bounds of what is read in one picture.
const (
	most     = 50   // codes
	mostText = 4296 // characters of one: a QR code holds no more (ISO/IEC 18004)
	step     = 4    // pixels between the lines on which bar codes are looked for
)

// Code is a code on a page.
type Code struct {
	Text string `json:"text"`
	Kind string `json:"kind"` // such as “QR code”
	Page int    `json:"page"` // from 0
	// Left, Top, Width and Height are shares of the page, as it is shown.
	Left, Top, Width, Height float64
}

// kinds are the formats that are read, by their names here.
var kinds = map[gozxing.BarcodeFormat]string{gozxing.BarcodeFormat_QR_CODE: "QR code",
	gozxing.BarcodeFormat_DATA_MATRIX: "Data Matrix", gozxing.BarcodeFormat_CODE_128: "Code 128",
	gozxing.BarcodeFormat_CODE_39: "Code 39", gozxing.BarcodeFormat_CODE_93: "Code 93",
	gozxing.BarcodeFormat_EAN_13: "EAN-13", gozxing.BarcodeFormat_EAN_8: "EAN-8", gozxing.BarcodeFormat_UPC_A: "UPC-A",
	gozxing.BarcodeFormat_ITF: "Interleaved 2 of 5"}

// bars are the bar codes that are looked for, and on how many lines one has to be read: some have no check digits, and
// the strokes of letters look like them.
var bars = []struct {
	reader gozxing.Reader
	lines  int
}{
	{oned.NewCode128Reader(), 2},
	{oned.NewEAN13Reader(), 3},
	{oned.NewCode39Reader(), 4},
	{oned.NewCode93Reader(), 2},
	{oned.NewEAN8Reader(), 4},
	{oned.NewITFReader(), 5},
}

// Read reads the codes in a picture, from the top to the bottom and from the left to the right.
func Read(grey *image.Gray) (all []Code, err error) {
	defer func() {
		if p := recover(); p != nil { // the library's, on an odd picture
			err = fmt.Errorf("the codes in the picture cannot be read: %v", p)
		}
	}()
	size := grey.Bounds()
	if size.Dx() < 20 || size.Dy() < 20 {
		return nil, nil
	}
	s := &search{width: float64(size.Dx()), height: float64(size.Dy())}
	bitmap, err := gozxing.NewBinaryBitmap(gozxing.NewHybridBinarizer(gozxing.NewLuminanceSourceFromImage(grey)))
	if err != nil {
		return nil, err
	}
	matrix, err := bitmap.GetBlackMatrix()
	if err != nil {
		return nil, nil // it is all white
	}
	hints := map[gozxing.DecodeHintType]any{gozxing.DecodeHintType_TRY_HARDER: true}
	if found, err := qrcode.NewQRCodeMultiReader().DecodeMultiple(bitmap, hints); err == nil {
		for _, f := range found {
			s.add(f, s.place(f.GetResultPoints()))
		}
	}
	s.squares(grey)
	s.lines(matrix, false)
	matrix.Rotate90()
	s.lines(matrix, true)
	slices.SortStableFunc(s.found, func(a, b Code) int {
		if a.Top+a.Height > b.Top && b.Top+b.Height > a.Top { // beside each other
			return cmp.Compare(a.Left, b.Left)
		}
		return cmp.Compare(a.Top, b.Top)
	})
	return s.found, nil
}

// search gathers the codes of one picture.
type search struct {
	width, height float64
	found         []Code
}

// box is a place in a picture, in pixels.
type box struct{ left, top, right, bottom float64 }

func (b *box) grow(x, y float64) {
	b.left, b.right = min(b.left, x), max(b.right, x)
	b.top, b.bottom = min(b.top, y), max(b.bottom, y)
}

func (s *search) place(points []gozxing.ResultPoint) box {
	b := box{s.width, s.height, 0, 0}
	for _, p := range points {
		b.grow(p.GetX(), p.GetY())
	}
	return b
}

// add takes a code up, unless the same one was found before.
func (s *search) add(r *gozxing.Result, at box) {
	kind, known := kinds[r.GetBarcodeFormat()]
	text := strings.TrimSpace(strings.Map(printable, strings.ToValidUTF8(r.GetText(), "")))
	if !known || text == "" || len([]rune(text)) > mostText || len(s.found) >= most || at.right < at.left {
		return
	}
	c := Code{Text: text, Kind: kind, Left: at.left / s.width, Top: at.top / s.height,
		Width: (at.right - at.left) / s.width, Height: (at.bottom - at.top) / s.height}
	if !slices.ContainsFunc(s.found, func(o Code) bool { return o.Text == text && o.Kind == kind }) {
		s.found = append(s.found, c)
	}
}

func printable(r rune) rune {
	if unicode.IsControl(r) { // such as the signs between the parts of a GS1 code
		return ' '
	}
	return r
}

// squares looks for Data Matrix codes. The library looks for one in the middle of a picture, so it is shown parts.
func (s *search) squares(grey *image.Gray) {
	size := grey.Bounds()
	reader := datamatrix.NewDataMatrixReader()
	for _, share := range []int{1, 2, 4} {
		part := max(60, min(size.Dx(), size.Dy())/share)
		for top := size.Min.Y; top == size.Min.Y || top+part/2 < size.Max.Y; top += part / 3 {
			for left := size.Min.X; left == size.Min.X || left+part/2 < size.Max.X; left += part / 3 {
				at := image.Rect(left, top, left+part, top+part).Intersect(size)
				piece, _ := grey.SubImage(at).(*image.Gray)
				if blank(piece) {
					continue
				}
				bitmap, err := gozxing.NewBinaryBitmap(gozxing.NewHybridBinarizer(gozxing.NewLuminanceSourceFromImage(piece)))
				if err != nil {
					continue
				}
				if r, err := reader.DecodeWithoutHints(bitmap); err == nil {
					b := s.place(r.GetResultPoints())
					dx, dy := float64(at.Min.X-size.Min.X), float64(at.Min.Y-size.Min.Y)
					s.add(r, box{b.left + dx, b.top + dy, b.right + dx, b.bottom + dy})
				}
			}
		}
	}
}

// blank says whether there is too little contrast in a part of a picture for a code.
func blank(part *image.Gray) bool {
	b := part.Bounds()
	dark, all := 0, 0
	for y := b.Min.Y; y < b.Max.Y; y += 3 {
		for x := b.Min.X; x < b.Max.X; x += 3 {
			if all++; part.GrayAt(x, y).Y < 110 {
				dark++
			}
		}
	}
	return dark*20 < all // a code is dark for a third
}

// strip is a bar code that was read on some lines.
type strip struct {
	result *gozxing.Result
	at     box
	lines  int
	need   int
}

// lines looks for bar codes on the lines of a picture; across says that it was turned, counterclockwise.
func (s *search) lines(m *gozxing.BitMatrix, across bool) {
	var strips []*strip
	row := gozxing.NewBitArray(m.GetWidth())
	for y := 0; y < m.GetHeight(); y += step {
		row = m.GetRow(y, row)
		for _, part := range parts(row) {
			strips = s.part(row, part[0], part[1], y, strips)
		}
	}
	for _, f := range strips {
		if f.lines >= f.need {
			if across { // (x, y) was turned from (width-1-y, x)
				f.at = box{s.width - 1 - f.at.bottom, f.at.left, s.width - 1 - f.at.top, f.at.right}
			}
			s.add(f.result, f.at)
		}
	}
}

// Bar codes have white on both sides, of ten times their narrowest stroke (ISO/IEC 15417): it parts them from what else
// is on a line. How wide that is cannot be known before they are read.
var gaps = []int{12, 30, 80}

// fewest is how many edges a bar code has at least.
const fewest = 24

// parts are the stretches of a line in which a bar code may be, from the first black pixel to behind the last one.
func parts(row *gozxing.BitArray) (all [][2]int) {
	for _, gap := range gaps {
		from, to, edges := -1, 0, 0
		done := func() {
			if from >= 0 && edges >= fewest && !slices.Contains(all, [2]int{from, to}) {
				all = append(all, [2]int{from, to})
			}
			from, edges = -1, 0
		}
		for x := row.GetNextSet(0); x < row.GetSize(); {
			if from >= 0 && x-to >= gap {
				done()
			}
			if from < 0 {
				from = x
			}
			to = row.GetNextUnset(x)
			edges += 2
			x = row.GetNextSet(to)
		}
		done()
	}
	return all
}

// part reads a bar code on a stretch of a line, from the left and from the right.
func (s *search) part(row *gozxing.BitArray, from, to, y int, strips []*strip) []*strip {
	const margin = 60
	line := gozxing.NewBitArray(to - from + 2*margin)
	for x := from; x < to; x++ {
		if row.Get(x) {
			line.Set(x - from + margin)
		}
	}
	at := box{float64(from), float64(y), float64(to), float64(y)}
	for range 2 {
		for i := range bars {
			decoder, ok := bars[i].reader.(oned.RowDecoder)
			if !ok {
				continue
			}
			if r, err := decoder.DecodeRow(y, line, nil); err == nil {
				return seen(r, at, bars[i].lines, strips)
			}
		}
		line.Reverse()
	}
	return strips
}

// seen counts that a bar code was read on a line.
func seen(r *gozxing.Result, at box, need int, strips []*strip) []*strip {
	i := slices.IndexFunc(strips, func(o *strip) bool {
		return o.result.GetText() == r.GetText() && o.result.GetBarcodeFormat() == r.GetBarcodeFormat() &&
			at.left < o.at.right && at.right > o.at.left && at.top-o.at.bottom <= 12*step
	})
	switch {
	case i >= 0 && at.top > strips[i].at.bottom:
		strips[i].lines++
		fallthrough
	case i >= 0:
		strips[i].at.grow(at.left, at.top)
		strips[i].at.grow(at.right, at.bottom)
	case len(strips) < 100*most:
		strips = append(strips, &strip{result: r, at: at, lines: 1, need: need})
	}
	return strips
}
