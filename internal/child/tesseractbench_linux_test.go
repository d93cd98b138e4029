package child

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"

	"inktray.example/inktray/internal/demo/paper"
)

// BenchmarkScans measures which words of printed pages are found, by the size of the print, its tilt and its grain: of
// a form as the demo has it, and of a licence that lies on every Debian, in a font of another origin. A page of
// 200 dots per inch, as copiers send them.
func BenchmarkScans(b *testing.B) {
	how := tesseract(b)
	form := []string{}
	for range 4 {
		form = append(form, declaration...)
	}
	licence := []string{}
	if data, err := os.ReadFile("/usr/share/common-licenses/Artistic"); err == nil {
		licence = strings.Split(string(data), "\n")[10:50]
	}
	serif, err := os.ReadFile("/usr/share/fonts/truetype/dejavu/DejaVuSans-Bold.ttf")
	if err != nil {
		b.Log(err)
	}
	for _, of := range []struct {
		name  string
		lines []string
		font  []byte
	}{{"a form", form, nil}, {"a licence", licence, serif}} {
		for _, look := range []paper.Look{{Points: 6}, {Points: 8}, {Points: 10}, {Points: 12}, {Points: 10, Tilt: 1},
			{Points: 10, Tilt: 3}, {Points: 10, Tilt: 6}, {Points: 10, Tilt: 12}, {Points: 10, Grain: 0.1},
			{Points: 10, Grain: 0.2}, {Points: 10, Turned: true}} {
			look.Font = of.font
			b.Run(fmt.Sprintf("%s/%v points, tilt %v, grain %v, turned %v", of.name, look.Points, look.Tilt, look.Grain,
				look.Turned), func(b *testing.B) {
				page, err := paper.Scan(of.lines, look)
				if err != nil || len(of.lines) == 0 {
					b.Skip(err)
				}
				data, err := paper.PNG(page)
				if err != nil {
					b.Fatal(err)
				}
				f := file(b, data)
				var there, all, sure int
				for b.Loop() {
					var straight bytes.Buffer
					if _, err := Straighten(b.Context(), f, &straight); err != nil {
						b.Fatal(err)
					}
					found, err := Recognize(b.Context(), file(b, straight.Bytes()), how)
					if err != nil {
						b.Fatal(err)
					}
					there, all = words(of.lines, &found)
					sure = found.Sure
				}
				var used syscall.Rusage
				if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &used); err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(float64(there)*100/float64(all), "%words")
				b.ReportMetric(float64(sure), "%sure")
				b.ReportMetric(float64(used.Maxrss)/1000, "MB")
			})
		}
	}
}
