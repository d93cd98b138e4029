package text

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"inktray.example/inktray/internal/demo/paper"
)

// coded is a page with a QR code.
func coded(t testing.TB, text string) *image.Gray {
	t.Helper()
	p, err := paper.Scan([]string{"Brackwater harbour office"}, paper.Look{DPI: 100, Code: text})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// withOrientation is a JPEG with what its camera notes.
func withOrientation(t testing.TB, p image.Image, turn uint16) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := jpeg.Encode(&b, p, nil); err != nil {
		t.Fatal(err)
	}
	notes := []byte("Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01" +
		strings.Repeat("\x00", 8))
	binary.BigEndian.PutUint16(notes[len(notes)-8:], turn)
	out := append([]byte("\xff\xd8\xff\xe1"), byte((len(notes)+2)>>8), byte(len(notes)+2))
	return append(append(out, notes...), b.Bytes()[2:]...)
}

func TestPicturesAreTurnedAsTheirCameraSays(t *testing.T) {
	page := coded(t, "WD-44")
	w, h := page.Bounds().Dx(), page.Bounds().Dy()
	for turn := uint16(1); turn <= 8; turn++ {
		lies := page
		if turn > 1 { // as the camera saw it
			back := map[uint16]int{2: 2, 3: 3, 4: 4, 5: 5, 6: 8, 7: 7, 8: 6}[turn]
			lies = upright(page, back)
		}
		file := withOrientation(t, lies, turn)
		got, err := decoded(bytes.NewReader(file))
		if err != nil || got.Bounds().Dx() != w || got.Bounds().Dy() != h {
			t.Fatalf("turned %d: %v, %v", turn, got.Bounds(), err)
		}
		all, left, err := Codes(bytes.NewReader(file), int64(len(file)), CodeRequest{Pages: 10})
		if err != nil || left != 0 || len(all) != 1 || all[0].Text != "WD-44" || all[0].Left < 0.6 || all[0].Top > 0.3 {
			t.Errorf("turned %d: %+v, %v", turn, all, err)
		}
	}
	for _, odd := range []uint16{0, 9, 40000} {
		if got, err := decoded(bytes.NewReader(withOrientation(t, page, odd))); err != nil || got.Bounds().Dx() != w {
			t.Errorf("turned by an odd %d: %v", odd, err)
		}
	}
}

// tiffOf is a TIFF with several pages, not compressed.
func tiffOf(pages ...*image.Gray) []byte {
	out := []byte("II*\x00\x00\x00\x00\x00")
	link := 4
	for _, p := range pages {
		at := len(out)
		out = append(out, p.Pix...)
		if len(out)%2 > 0 {
			out = append(out, 0)
		}
		binary.LittleEndian.PutUint32(out[link:], uint32(len(out)))
		tags := [][2]uint32{{256, uint32(p.Bounds().Dx())}, {257, uint32(p.Bounds().Dy())}, {258, 8}, {259, 1}, {262, 1},
			{273, uint32(at)}, {277, 1}, {278, uint32(p.Bounds().Dy())}, {279, uint32(len(p.Pix))}}
		out = binary.LittleEndian.AppendUint16(out, uint16(len(tags)))
		for _, tag := range tags {
			out = binary.LittleEndian.AppendUint16(out, uint16(tag[0]))
			out = binary.LittleEndian.AppendUint16(out, 4) // a number of 32 bits
			out = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(out, 1), tag[1])
		}
		link = len(out)
		out = binary.LittleEndian.AppendUint32(out, 0)
	}
	return out
}

func TestCodesAreReadOnEachPageOfATIFF(t *testing.T) {
	file := tiffOf(coded(t, "one"), coded(t, "two"), coded(t, "three"))
	all, left, err := Codes(bytes.NewReader(file), int64(len(file)), CodeRequest{Pages: 2})
	if err != nil || left != 1 || len(all) != 2 || all[0].Text != "one" || all[1].Text != "two" || all[1].Page != 1 {
		t.Errorf("%+v, %d left, %v", all, left, err)
	}
	endless := bytes.Clone(file)
	copy(endless[len(endless)-4:], endless[4:8]) // the last page is followed by the first one
	for what, odd := range map[string][]byte{"endless": endless, "cut": file[:len(file)/2], "short": file[:9]} {
		var known *Error
		if all, _, err := Codes(bytes.NewReader(odd), int64(len(odd)), CodeRequest{Pages: 2}); !errors.As(err, &known) {
			t.Errorf("%s: %+v, %v", what, all, err)
		}
	}
}

func TestCodesOfOtherFiles(t *testing.T) {
	var large bytes.Buffer
	if err := png.Encode(&large, image.NewPaletted(image.Rect(0, 0, 9000, 9000), color.Palette{color.White})); err != nil {
		t.Fatal(err)
	}
	for _, file := range []struct{ is, wrong string }{{"", ""}, {"a,b\n1,2\n", ""}, {"%PDF-1.4 broken", "broken"},
		{"\x89PNG\r\n\x1a\nbroken", "not a picture"}, {large.String(), "more than Ink Tray reads"}} {
		all, left, err := Codes(strings.NewReader(file.is), int64(len(file.is)), CodeRequest{Pages: 10})
		if len(all) > 0 || left > 0 || (err != nil) != (file.wrong != "") ||
			err != nil && !strings.Contains(err.Error(), file.wrong) {
			t.Errorf("%.20q: %+v, %d left, %v", file.is, all, left, err)
		}
	}
	page, err := paper.PDF(coded(t, "one"), coded(t, "two"), coded(t, "three"))
	if err != nil {
		t.Fatal(err)
	}
	all, left, err := Codes(bytes.NewReader(page), int64(len(page)), CodeRequest{Pages: 2})
	if err != nil || left != 1 || len(all) != 2 || all[1].Text != "two" || all[1].Page != 1 || all[1].Left < 0.6 {
		t.Errorf("of a PDF: %+v, %d left, %v", all, left, err)
	}
}

// FuzzCodes looks for codes in whatever comes: the file's faults are told as such, and nothing else goes wrong.
func FuzzCodes(f *testing.F) {
	page := coded(f, "WD-44").SubImage(image.Rect(480, 180, 660, 360)).(*image.Gray)
	small := image.NewGray(image.Rect(0, 0, 180, 180))
	for y := range 180 {
		copy(small.Pix[y*180:(y+1)*180], page.Pix[page.PixOffset(480, 180+y):])
	}
	var b bytes.Buffer
	if err := png.Encode(&b, small); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Add(tiffOf(small, small))
	f.Add(withOrientation(f, small, 6))
	f.Fuzz(func(t *testing.T, file []byte) {
		if PDF(file[:min(len(file), Head)]) {
			return
		}
		all, left, err := Codes(bytes.NewReader(file), int64(len(file)), CodeRequest{Pages: 3})
		var known *Error
		if err != nil && !errors.As(err, &known) || left < 0 || len(all) > 150 {
			t.Errorf("%d codes, %d left, %v", len(all), left, err)
		}
	})
}
