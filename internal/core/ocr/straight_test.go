package ocr_test

import (
	"image"
	"math"
	"testing"

	"inktray.example/inktray/internal/core/ocr"
	"inktray.example/inktray/internal/demo/paper"
)

func lines() (all []string) {
	for range 8 {
		all = append(all, "Brackwater harbour office, dues for quay 7 and oily water", "Number WD-2026-0417", "",
			"The fee of 1,180.50 EUR is to be paid by 12 December 2026")
	}
	return all
}

func TestTheTiltOfAPageIsFound(t *testing.T) {
	for _, tilt := range []float64{0, 0.6, -1.5, 4, -9, 14} {
		for _, grain := range []float64{0, 0.1} {
			page, err := paper.Scan(lines(), paper.Look{Tilt: tilt, Grain: grain, DPI: 100})
			if err != nil {
				t.Fatal(err)
			}
			if got := ocr.Tilt(page); math.Abs(got-tilt) > 0.2 {
				t.Errorf("a tilt of %v with a grain of %v is seen as %v", tilt, grain, got)
			}
			straight, turned := ocr.Straighten(page)
			if math.Abs(turned-tilt) > 0.35 || straight.Bounds() != page.Bounds() {
				t.Errorf("a tilt of %v: turned by %v to %v", tilt, turned, straight.Bounds())
			}
			if left := ocr.Tilt(ocr.Grey(straight)); math.Abs(left) > 0.35 {
				t.Errorf("of a tilt of %v, %v is left", tilt, left)
			}
		}
	}
}

func TestWhatHasNoLinesIsNotTurned(t *testing.T) {
	empty := image.NewGray(image.Rect(0, 0, 600, 800))
	grain, err := paper.Scan(nil, paper.Look{Grain: 0.3, DPI: 100})
	if err != nil {
		t.Fatal(err)
	}
	disc := image.NewGray(image.Rect(0, 0, 600, 600))
	for y := range 600 {
		for x := range 600 {
			if math.Hypot(float64(x-300), float64(y-300)) > 200 {
				disc.Pix[disc.PixOffset(x, y)] = 255
			}
		}
	}
	for name, page := range map[string]*image.Gray{"empty": empty, "grain": grain, "a disc": disc,
		"one point": image.NewGray(image.Rect(0, 0, 1, 1)), "a line": image.NewGray(image.Rect(0, 0, 5000, 1))} {
		if got := ocr.Tilt(page); math.Abs(got) > 0.3 {
			t.Errorf("%s is seen as tilted by %v", name, got)
		}
	}
}

func TestPlacesAreFoundOnThePageAsItWas(t *testing.T) {
	// 10 degrees down to the right: what lay right of the middle lay lower before.
	x, y := ocr.Back(900, 500, 1000, 1000, 10)
	sin, cos := math.Sincos(10 * math.Pi / 180)
	if math.Abs(x-(500+400*cos)) > 0.01 || math.Abs(y-(500+400*sin)) > 0.01 {
		t.Errorf("it is at %v, %v", x, y)
	}
}
