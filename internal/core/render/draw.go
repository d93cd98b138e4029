package render

import (
	"bytes"
	"fmt"
	"image"
	_ "image/gif" // pictures that messages hold
	"image/jpeg"
	"image/png"
	"io"
	"strings"
	"time"
	"unicode"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goitalic"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"
)

// The page is A4, in millimetres; the typeface has Latin, Greek and Cyrillic.
const (
	pageWidth = 210.0
	margin    = 20.0
	textSize  = 10.5 // points
	lineHigh  = 5.2
	indentBy  = 6.0
	maxPixels = 40_000_000

	longestWord = 80      // characters
	atOnce      = 600     // octets that are written at once
	maxDrawn    = 500_000 // characters of one message
)

type drawer struct {
	*fpdf.Fpdf
	l     *letter
	font  *sfnt.Font
	shape sfnt.Buffer
	known map[rune]bool
	count int

	drawnSoFar int
}

func (l *letter) draw(w io.Writer, blocks []block) error {
	font, err := sfnt.Parse(goregular.TTF)
	if err != nil {
		return err
	}
	d := &drawer{Fpdf: fpdf.New("P", "mm", "A4", ""), l: l, font: font, known: map[rune]bool{}}
	at := l.message.Envelope.Date
	if at.IsZero() {
		at = time.Unix(0, 0)
	}
	// The same message gives the same bytes each time.
	d.SetCreationDate(at.UTC())
	d.SetModificationDate(at.UTC())
	d.SetCatalogSort(true)
	d.SetTitle(d.drawn(l.message.Envelope.Subject, false), true)
	d.SetMargins(margin, margin, margin)
	d.SetAutoPageBreak(true, margin)
	d.AddUTF8FontFromBytes("text", "", goregular.TTF)
	d.AddUTF8FontFromBytes("text", "B", gobold.TTF)
	d.AddUTF8FontFromBytes("text", "I", goitalic.TTF)
	d.SetFooterFunc(func() {
		d.SetY(-14)
		d.SetFont("text", "", 8)
		d.CellFormat(0, 5, fmt.Sprintf("%d", d.PageNo()), "", 0, "C", false, 0, "")
	})
	d.AddPage()
	d.head()
	for i := range blocks {
		if d.drawnSoFar > maxDrawn {
			l.report.Cut = true
			break
		}
		d.block(&blocks[i])
	}
	said := l.report.Sentence()
	if said != "" {
		if !l.report.Whole() {
			said += " The EML copy beside this file has all of it."
		}
		d.Ln(3)
		d.rule()
		d.SetFont("text", "I", 9)
		d.MultiCell(0, 4.6, said, "", "L", false)
	}
	return d.Output(w)
}

func (d *drawer) head() {
	if files := d.l.enclosed(); files != "" {
		d.l.head = append(d.l.head, [2]string{"Attachments", files})
	}
	for _, h := range d.l.head {
		d.SetFont("text", "B", 9.5)
		d.CellFormat(26, lineHigh, h[0], "", 0, "L", false, 0, "")
		d.SetFont("text", "", 9.5)
		d.MultiCell(0, lineHigh, d.drawn(h[1], true), "", "L", false)
	}
	d.Ln(1.5)
	d.rule()
}

func (d *drawer) rule() {
	d.SetDrawColor(150, 150, 150)
	d.Line(margin, d.GetY(), pageWidth-margin, d.GetY())
	d.Ln(3)
}

func (d *drawer) block(b *block) {
	left := margin + float64(b.indent)*indentBy
	d.SetLeftMargin(left)
	d.SetX(left)
	defer d.SetLeftMargin(margin)
	switch {
	case b.line:
		d.rule()
		return
	case b.picture != "":
		d.picture(b, left)
		return
	}
	size, high := textSize, lineHigh
	if b.heading > 0 {
		size = max(11, 18-2*float64(b.heading))
		high = size * 0.5
		d.Ln(1.5)
	}
	if b.mark != "" {
		d.SetFont("text", "", size)
		d.SetX(left - d.GetStringWidth(b.mark))
		d.Write(high, b.mark)
		d.SetX(left)
	}
	for _, r := range b.runs {
		style := ""
		switch {
		case r.bold || b.heading > 0:
			style = "B"
		case r.italic:
			style = "I"
		}
		d.SetFont("text", style, size)
		text := r.text
		if left := maxDrawn - d.drawnSoFar; len(text) > left {
			text, d.l.report.Cut = strings.ToValidUTF8(text[:max(0, left)], ""), true
		}
		d.drawnSoFar += len(r.text)
		text = d.drawn(text, true)
		if !b.fixed && strings.Trim(text, "\n") != text && strings.TrimSpace(text) == "" {
			d.Ln(high)
			continue
		}
		if r.link != "" {
			d.SetTextColor(30, 70, 130)
		}
		for text != "" { // the writer's time grows with the square of what it is given
			some := text
			if len(some) > atOnce {
				if at := strings.LastIndexAny(some[:atOnce], " \n"); at > 0 {
					some = some[:at+1]
				}
			}
			text = text[len(some):]
			if r.link != "" {
				d.WriteLinkString(high, some, r.link)
				continue
			}
			d.Write(high, some)
		}
		d.SetTextColor(0, 0, 0)
	}
	d.Ln(high + 1.8)
}

// drawn is the text with a box in place of what the typeface has no shape for;
// count says whether these are counted.
func (d *drawer) drawn(s string, count bool) string {
	var b strings.Builder
	long := 0 // a word longer than a line is parted
	for _, r := range strings.ReplaceAll(strings.ReplaceAll(s, "\r", ""), "\t", "    ") {
		if unicode.In(r, unicode.Cf, unicode.Mn) && !d.has(r) || r == '\ufe0f' {
			continue // joins what is not drawn
		}
		if long++; unicode.IsSpace(r) {
			long = 0
		} else if long > longestWord {
			b.WriteByte('\n')
			long = 0
		}
		if r == '\n' || d.has(r) {
			b.WriteRune(r)
			continue
		}
		if unicode.IsSpace(r) {
			b.WriteByte(' ')
			continue
		}
		b.WriteRune('□')
		if !count {
			continue
		}
		if d.l.report.Undrawn++; d.l.report.Undrawn <= 3 {
			if d.l.report.Such != "" {
				d.l.report.Such += ", "
			}
			d.l.report.Such += fmt.Sprintf("U+%04X", r)
		}
	}
	return b.String()
}

func (d *drawer) has(r rune) bool {
	known, seen := d.known[r]
	if !seen {
		i, err := d.font.GlyphIndex(&d.shape, r)
		known = err == nil && i != 0 && r <= 0xFFFF // the writer knows the basic plane only
		d.known[r] = known
	}
	return known
}

func (d *drawer) picture(b *block, left float64) {
	failed := func(text string) {
		d.SetFont("text", "I", 9)
		if b.alt != "" {
			text += ": " + d.drawn(b.alt, false)
		}
		d.MultiCell(0, 4.6, "["+text+"]", "", "L", false)
	}
	id, ok := strings.CutPrefix(b.picture, "cid:")
	if !ok {
		d.l.report.Remote++
		failed("a picture that lies elsewhere")
		return
	}
	p, there := d.l.pictures[id]
	if !there {
		d.l.report.Broken++
		failed("a picture that is not in the message")
		return
	}
	config, _, err := image.DecodeConfig(bytes.NewReader(p.data))
	if err != nil || config.Width*config.Height > maxPixels || config.Width <= 0 || config.Height <= 0 {
		d.l.report.Broken++
		failed("a picture that cannot be read")
		return
	}
	img, form, err := image.Decode(bytes.NewReader(p.data))
	if err != nil {
		d.l.report.Broken++
		failed("a picture that cannot be read")
		return
	}
	// Written again: the forms in which pictures come are more than the writer reads.
	var out bytes.Buffer
	kind := "PNG"
	if form == "jpeg" {
		kind = "JPG"
		err = jpeg.Encode(&out, img, &jpeg.Options{Quality: 90})
	} else {
		err = png.Encode(&out, img)
	}
	if err != nil {
		d.l.report.Broken++
		failed("a picture that cannot be read")
		return
	}
	d.count++
	name := fmt.Sprintf("picture %d", d.count)
	d.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: kind}, &out)
	wide := min(float64(config.Width)*25.4/96, pageWidth-margin-left)
	high := wide * float64(config.Height) / float64(config.Width)
	if most := 297 - 2*margin; high > most {
		wide, high = wide*most/high, most
	}
	d.ImageOptions(name, left, d.GetY(), wide, high, true, fpdf.ImageOptions{ImageType: kind}, 0, "")
	d.Ln(2)
}
