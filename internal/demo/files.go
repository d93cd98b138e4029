package demo

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"fmt"
	"html"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
	"sync"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"github.com/xuri/excelize/v2"
)

// The files of the scenario open in real programs.

func must[T any](v T, err error) T {
	if err != nil {
		panic(fmt.Sprintf("demo: %v", err)) // everything here is made from constants
	}
	return v
}

// pdf is one page with a heading and lines.
func pdf(heading string, made time.Time, lines ...string) []byte {
	doc := fpdf.New("P", "mm", "A4", "")
	doc.SetCreationDate(made)
	doc.SetModificationDate(made)
	doc.SetTitle(heading, true)
	tr := doc.UnicodeTranslatorFromDescriptor("")
	doc.AddPage()
	doc.SetFont("Times", "B", 20)
	doc.CellFormat(0, 14, tr(heading), "B", 1, "", false, 0, "")
	doc.Ln(6)
	doc.SetFont("Times", "", 12)
	for _, line := range lines {
		doc.MultiCell(0, 7, tr(line), "", "", false)
	}
	var b bytes.Buffer
	if err := doc.Output(&b); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// xlsx is one sheet with a head.
func xlsx(sheet string, rows [][]any) []byte {
	f := excelize.NewFile()
	defer f.Close()
	if err := f.SetSheetName("Sheet1", sheet); err != nil {
		panic(err)
	}
	for i, row := range rows {
		if err := f.SetSheetRow(sheet, fmt.Sprintf("A%d", i+1), &row); err != nil {
			panic(err)
		}
	}
	return must(f.WriteToBuffer()).Bytes()
}

func csvFile(rows [][]string) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = ';'
	if err := w.WriteAll(rows); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// docx is the least package that word processors open (ECMA-376 part 2).
func docx(paragraphs ...string) []byte {
	var body bytes.Buffer
	for _, p := range paragraphs {
		fmt.Fprintf(&body, `<w:p><w:r><w:t xml:space="preserve">%s</w:t></w:r></w:p>`, html.EscapeString(p))
	}
	const head = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`
	return zipped([]zipEntry{
		{"[Content_Types].xml",
			[]byte(head +
				`<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/word/document.xml" ContentType="application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"/></Types>`)},
		{"_rels/.rels",
			[]byte(head +
				`<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="word/document.xml"/></Relationships>`)},
		{"word/document.xml",
			[]byte(head + `<w:document xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"><w:body>` +
				body.String() + `</w:body></w:document>`)},
	})
}

type zipEntry struct {
	name string
	data []byte
}

func zipped(entries []zipEntry) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, e := range entries {
		w := must(z.CreateHeader(&zip.FileHeader{Name: e.name, Method: zip.Deflate}))
		must(w.Write(e.data))
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// drawings are the first pictures that were drawn, by what they show: the same old mail is often made more than once.
// They are bounded, because new mail goes on coming with new pictures.
var drawings = struct {
	sync.Mutex
	kept map[string][]byte
}{kept: map[string][]byte{}}

const mostDrawings = 100

// drawn draws a picture, or gives the one that is kept.
func drawn(key string, draw func() []byte) []byte {
	drawings.Lock()
	defer drawings.Unlock()
	data, ok := drawings.kept[key]
	if !ok {
		data = draw()
		if len(drawings.kept) < mostDrawings {
			drawings.kept[key] = data
		}
	}
	return data
}

// photo is murky water with something on the bottom.
func photo(seed uint64) []byte {
	return drawn(fmt.Sprintf("photo %d", seed), func() []byte { return drawPhoto(seed) })
}

func drawPhoto(seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 7))
	const w, h = 640, 420
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	x0, y0, size := r.Float64()*w, h*0.6+r.Float64()*h*0.3, 40+r.Float64()*60
	for y := range h {
		for x := range w {
			depth := float64(y) / h
			wave := math.Sin(float64(x)/37+depth*9)*8 + r.Float64()*6
			c := color.RGBA{uint8(20 + 10*depth), uint8(90 - 50*depth + wave), uint8(95 - 40*depth + wave), 255}
			if d := math.Hypot(float64(x)-x0, (float64(y)-y0)*1.6); d < size {
				c = color.RGBA{uint8(70 + wave), uint8(58 + wave), 40, 255}
			}
			img.Set(x, y, c)
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 80}); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// mark is a small picture of the kind that is under signatures.
func mark(c color.RGBA) []byte {
	img := image.NewRGBA(image.Rect(0, 0, 96, 32))
	for y := range 32 {
		for x := range 96 {
			if math.Abs(math.Sin(float64(x)/10)*10+16-float64(y)) < 4 {
				img.Set(x, y, c)
			}
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		panic(err)
	}
	return b.Bytes()
}
