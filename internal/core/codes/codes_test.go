package codes

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/datamatrix"
	"github.com/makiuchi-d/gozxing/oned"
	"github.com/makiuchi-d/gozxing/qrcode"

	"inktray.example/inktray/internal/demo/paper"
)

// page is a page full of text at 200 dots per inch, with letters that look like bars.
func page(t testing.TB, look paper.Look) *image.Gray {
	t.Helper()
	lines := []string{"Brackwater harbour office", "", ""}
	for i := range 60 {
		lines = append(lines, fmt.Sprintf("%d  |||| The berth at the quay lies |I|l|| empty || till Monday, %d EUR", i, i*17))
	}
	p, err := paper.Scan(lines, look)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// put draws a code at a place of a page, on white.
func put(t testing.TB, on *image.Gray, w gozxing.Writer, f gozxing.BarcodeFormat, text string, at image.Rectangle) {
	t.Helper()
	m, err := w.Encode(text, f, at.Dx(), at.Dy(), nil)
	if err != nil {
		t.Fatal(err)
	}
	draw.Draw(on, image.Rect(at.Min.X-20, at.Min.Y-20, at.Min.X+m.GetWidth()+20, at.Min.Y+m.GetHeight()+20), image.White,
		image.Point{}, draw.Src)
	for y := range m.GetHeight() {
		for x := range m.GetWidth() {
			if m.Get(x, y) {
				on.SetGray(at.Min.X+x, at.Min.Y+y, color.Gray{30})
			}
		}
	}
}

func said(all []Code) (s []string) {
	for _, c := range all {
		s = append(s, c.Kind+" "+c.Text)
	}
	return s
}

// turned is a page that lies on its side.
func turned(p *image.Gray) *image.Gray {
	w, h := p.Bounds().Dx(), p.Bounds().Dy()
	out := image.NewGray(image.Rect(0, 0, h, w))
	for y := range h {
		for x := range w {
			out.SetGray(h-1-y, x, p.GrayAt(x, y))
		}
	}
	return out
}

func TestCodesAreReadAnywhereOnAPage(t *testing.T) {
	p := page(t, paper.Look{})
	box := func(x, y, w, h int) image.Rectangle { return image.Rect(x, y, x+w, y+h) }
	put(t, p, qrcode.NewQRCodeWriter(), gozxing.BarcodeFormat_QR_CODE, "WD-44 Größe", box(100, 100, 160, 160))
	put(t, p, oned.NewCode128Writer(), gozxing.BarcodeFormat_CODE_128, "BK-2026-0044", box(400, 100, 400, 80))
	put(t, p, qrcode.NewQRCodeWriter(), gozxing.BarcodeFormat_QR_CODE, "https://brackwater.example/44",
		box(1300, 100, 200, 200))
	put(t, p, oned.NewCode39Writer(), gozxing.BarcodeFormat_CODE_39, "DUES 17", box(100, 700, 600, 60))
	put(t, p, oned.NewEAN13Writer(), gozxing.BarcodeFormat_EAN_13, "4006381333931", box(900, 700, 300, 90))
	put(t, p, oned.NewCode128Writer(), gozxing.BarcodeFormat_CODE_128, "BK-2026-0044", box(400, 1000, 400, 80)) // twice
	put(t, p, datamatrix.NewDataMatrixWriter(), gozxing.BarcodeFormat_DATA_MATRIX, "PARCEL-9", box(100, 1200, 120, 120))
	put(t, p, oned.NewITFWriter(), gozxing.BarcodeFormat_ITF, "12345678901231", box(500, 1500, 500, 80))
	put(t, p, oned.NewCode93Writer(), gozxing.BarcodeFormat_CODE_93, "GAUGE-3", box(100, 1800, 500, 80))
	put(t, p, oned.NewEAN8Writer(), gozxing.BarcodeFormat_EAN_8, "96385074", box(900, 1800, 300, 80))
	want := []string{"QR code WD-44 Größe", "Code 128 BK-2026-0044", "QR code https://brackwater.example/44",
		"Code 39 DUES 17", "EAN-13 4006381333931", "Data Matrix PARCEL-9", "Interleaved 2 of 5 12345678901231",
		"Code 93 GAUGE-3", "EAN-8 96385074"}
	all, err := Read(p)
	if err != nil || !slices.Equal(said(all), want) {
		t.Errorf("read are %q, %v", said(all), err)
	}
	for _, c := range all {
		if strings.HasSuffix(c.Text, "0044") &&
			(c.Left < 0.2 || c.Left+c.Width > 0.55 || c.Top < 0.03 || c.Top+c.Height > 0.1) {
			t.Errorf("%s stands at %.2f, %.2f, is %.2f by %.2f", c.Text, c.Left, c.Top, c.Width, c.Height)
		}
	}
	slices.Sort(want)
	for _, more := range []int{1, 2, 3} {
		p = turned(p)
		all, err := Read(p)
		got := said(all)
		if slices.Sort(got); err != nil || !slices.Equal(got, want) {
			t.Errorf("turned by %d degrees, read are %q, %v", more*90, got, err)
		}
	}
}

func TestTextsAreNoCodes(t *testing.T) {
	for _, look := range []paper.Look{{}, {Tilt: 5}, {Turned: true}, {Grain: 0.1}, {Points: 6}, {DPI: 40}} {
		if all, err := Read(page(t, look)); err != nil || len(all) > 0 {
			t.Errorf("on a page %+v there are %q, %v", look, said(all), err)
		}
	}
}

func TestOddPicturesHoldNoCodes(t *testing.T) {
	for _, size := range [][2]int{{0, 0}, {1, 1}, {1, 5000}, {5000, 1}, {19, 400}, {21, 21}, {3000, 25}} {
		p := image.NewGray(image.Rect(0, 0, size[0], size[1]))
		for _, of := range []func(x, y int) uint8{func(int, int) uint8 { return 255 }, func(int, int) uint8 { return 0 },
			func(x, y int) uint8 { return uint8(x%2) * 255 }, func(x, y int) uint8 { return uint8((x ^ y) * 37) }} {
			for i := range p.Pix {
				p.Pix[i] = of(i%p.Stride, i/p.Stride)
			}
			if all, err := Read(p); err != nil || len(all) > 0 {
				t.Errorf("%v: %q, %v", size, said(all), err)
			}
		}
	}
}

// BenchmarkRead reads a page full of text, on which all kinds are looked for in vain.
func BenchmarkRead(b *testing.B) {
	p := page(b, paper.Look{})
	for b.Loop() {
		if _, err := Read(p); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkPhotos reads the photographs of codes that come with the library's tests, and reports how many it reads, of
// which kind. What they hold is not told there, so only that something is read is counted.
func BenchmarkPhotos(b *testing.B) {
	root, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/makiuchi-d/gozxing").Output()
	if err != nil {
		b.Skip(err)
	}
	for _, kind := range []string{"qrcode", "datamatrix", "oned/code128", "oned/code39", "oned/code93", "oned/ean13",
		"oned/ean8", "oned/itf"} {
		top, sub, _ := strings.Cut(kind, "/")
		folder := filepath.Join(strings.TrimSpace(string(root)), top, "testdata", sub)
		b.Run(kind, func(b *testing.B) {
			for b.Loop() {
				read, total, several := 0, 0, 0
				err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
					if err != nil || d.IsDir() {
						return err
					}
					f, err := os.Open(path)
					if err != nil {
						return err
					}
					defer f.Close()
					p, _, err := image.Decode(f)
					if err != nil {
						return nil
					}
					g := image.NewGray(p.Bounds())
					draw.Draw(g, g.Bounds(), p, p.Bounds().Min, draw.Src)
					all, err := Read(g)
					total++
					if len(all) > 0 {
						read++
					}
					if len(all) > 1 {
						several++
					}
					return err
				})
				if err != nil || total == 0 {
					b.Skip("no photographs: ", err)
				}
				b.ReportMetric(float64(read), "read")
				b.ReportMetric(float64(total), "photos")
				b.ReportMetric(float64(several), "with-several")
			}
		})
	}
}
