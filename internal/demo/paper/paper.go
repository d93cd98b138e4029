// Package paper draws papers as a scanner sees them: printed lines, a little tilted and grainy. The demo sends such
// papers, and tests read them.
package paper

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"math/rand/v2"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/f64"
	"golang.org/x/image/math/fixed"

	xdraw "golang.org/x/image/draw"
)

// Look is how a paper lies in the scanner. The zero value is 11 point at 200 dots per inch, straight and clean.
type Look struct {
	Points float64 // size of the print
	DPI    int     // dots per inch
	Tilt   float64 // degrees, clockwise
	Grain  float64 // of grey, as a share of black: 0.1 is a poor copy
	Seed   uint64  // of the grain
	Turned bool    // it lies on its side
	Font   []byte  // OpenType; nil for a plain one
	Code   string  // what a QR code at the top on the right holds; "" for none
}

// Scan draws lines of text on a page of A4.
func Scan(lines []string, l Look) (*image.Gray, error) {
	if l.Points == 0 {
		l.Points = 11
	}
	if l.DPI == 0 {
		l.DPI = 200
	}
	if l.Font == nil {
		l.Font = goregular.TTF
	}
	known, err := opentype.Parse(l.Font)
	if err != nil {
		return nil, err
	}
	face, err := opentype.NewFace(known, &opentype.FaceOptions{Size: l.Points, DPI: float64(l.DPI)})
	if err != nil {
		return nil, err
	}
	defer face.Close()
	width, height := 827*l.DPI/100, 1169*l.DPI/100 // A4 in hundredths of an inch
	page := image.NewGray(image.Rect(0, 0, width, height))
	draw.Draw(page, page.Bounds(), image.White, image.Point{}, draw.Src)
	pen := font.Drawer{Dst: page, Src: image.NewUniform(color.Gray{30}), Face: face}
	margin, step := l.DPI*3/4, int(l.Points*1.5/72*float64(l.DPI))
	for i, line := range lines {
		pen.Dot = fixed.P(margin, margin+(i+1)*step)
		pen.DrawString(line)
	}
	if l.Code != "" {
		inch := image.Rect(width-margin-l.DPI, margin, width-margin, margin+l.DPI)
		if err := code(page, l.Code, inch); err != nil {
			return nil, err
		}
	}
	if l.Tilt != 0 {
		tilted := image.NewGray(page.Bounds())
		draw.Draw(tilted, tilted.Bounds(), image.White, image.Point{}, draw.Src)
		sin, cos := math.Sincos(l.Tilt * math.Pi / 180)
		x, y := float64(width)/2, float64(height)/2
		turn := f64.Aff3{cos, -sin, x - cos*x + sin*y, sin, cos, y - sin*x - cos*y}
		xdraw.BiLinear.Transform(tilted, turn, page, page.Bounds(), xdraw.Over, nil)
		page = tilted
	}
	if l.Grain > 0 {
		random := rand.New(rand.NewPCG(l.Seed, 1))
		for i, p := range page.Pix {
			page.Pix[i] = uint8(min(255, max(0, float64(p)+random.NormFloat64()*255*l.Grain)))
		}
	}
	if l.Turned {
		turned := image.NewGray(image.Rect(0, 0, height, width))
		for y := range height {
			for x := range width {
				turned.Pix[turned.PixOffset(height-1-y, x)] = page.Pix[page.PixOffset(x, y)]
			}
		}
		page = turned
	}
	return page, nil
}

// code draws a QR code.
func code(page *image.Gray, text string, at image.Rectangle) error {
	m, err := qrcode.NewQRCodeWriter().Encode(text, gozxing.BarcodeFormat_QR_CODE, at.Dx(), at.Dy(), nil)
	if err != nil {
		return err
	}
	for y := range m.GetHeight() {
		for x := range m.GetWidth() {
			if m.Get(x, y) {
				page.SetGray(at.Min.X+x, at.Min.Y+y, color.Gray{30})
			}
		}
	}
	return nil
}

// PNG is a picture as a file.
func PNG(picture image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, picture)
	return b.Bytes(), err
}

// PDF is a document of scanned pages, as copiers send it.
func PDF(pages ...*image.Gray) ([]byte, error) {
	d := fpdf.New("P", "mm", "A4", "")
	for i, page := range pages {
		data, err := PNG(page)
		if err != nil {
			return nil, err
		}
		name := fmt.Sprint("page", i)
		d.AddPage()
		d.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "png"}, bytes.NewReader(data))
		d.ImageOptions(name, 0, 0, 210, 297, false, fpdf.ImageOptions{ImageType: "png"}, 0, "")
	}
	var b bytes.Buffer
	err := d.Output(&b)
	return b.Bytes(), err
}

// Hybrid is a PDF of one page with a file in it, as electronic invoices have it (PDF/A-3, ISO 19005-3; embedded files
// of ISO 32000-1, 7.11.4). The lines are in ASCII; the first one is a heading.
func Hybrid(lines []string, name, content string) []byte {
	var draws strings.Builder
	for i, line := range lines {
		size := 11
		if i == 0 {
			size = 20
		}
		fmt.Fprintf(&draws, "BT /F1 %d Tf 72 %d Td (%s) Tj ET\n", size, 770-i*24,
			strings.NewReplacer(`\`, `\\`, "(", `\(`, ")", `\)`).Replace(line))
	}
	stream := func(of, dictionary string) string {
		return fmt.Sprintf("<<%s/Length %d>>stream\n%s\nendstream", dictionary, len(of), of)
	}
	file := func(name string, at int) string {
		return fmt.Sprintf("<</Type/Filespec/AFRelationship/Alternative/F(%s)/UF(%s)/EF<</F %d 0 R/UF %d 0 R>>>>", name,
			name, at, at)
	}
	var b bytes.Buffer
	var at []int
	b.WriteString("%PDF-1.7\n")
	for i, one := range []string{
		"<</Type/Catalog/Pages 2 0 R/Names<</EmbeddedFiles<</Names[(a)6 0 R(b)8 0 R]>>>>>>",
		"<</Type/Pages/Kids[3 0 R]/Count 1>>",
		"<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R>>>>>>",
		stream(draws.String(), ""), "<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>",
		file("photo.jpg", 7), stream("x", "/Type/EmbeddedFile"), file(name, 9),
		stream(content, "/Type/EmbeddedFile/Subtype/text#2Fxml")} {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, one)
	}
	start := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, one := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", one)
	}
	fmt.Fprintf(&b, "trailer<</Size %d/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, start)
	return b.Bytes()
}
