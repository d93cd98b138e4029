package child

import (
	"bytes"
	"encoding/json"
	"errors"
	"image"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/ocr"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/demo/paper"
	"inktray.example/inktray/internal/testbed"
)

var declaration = []string{"Brackwater harbour office", "Declaration of ship's waste", "Ship: MV Oda Lind",
	"Number of the declaration: WD-2026-0417", "Date of arrival: 12 November 2026", "Oily water, cubic metres: 14.5",
	"Fee to be paid: 1,180.50 EUR", "The master signs that all this is true and complete."}

// tesseract is how a picture is read here; without the program the test is left out.
func tesseract(t testing.TB) Recognition {
	t.Helper()
	found, err := FindTesseract(t.Context())
	if err != nil {
		testbed.LeaveOut(t, "tesseract-ocr: "+err.Error())
	}
	return Recognition{Program: found.Path, Folder: found.Folder, Languages: []string{"eng"}, Upright: found.Upright}
}

func scan(t testing.TB, l paper.Look) *image.Gray {
	t.Helper()
	page, err := paper.Scan(declaration, l)
	if err != nil {
		t.Fatal(err)
	}
	return page
}

func words(lines []string, found *ocr.Reading) (there, all int) {
	read := strings.Fields(found.Text())
	for _, w := range strings.Fields(strings.Join(lines, " ")) {
		all++
		for i, r := range read {
			if r == w {
				read[i] = ""
				there++
				break
			}
		}
	}
	return there, all
}

func TestPicturesOfPagesAreRead(t *testing.T) {
	how := tesseract(t)
	for name, l := range map[string]paper.Look{"clean": {}, "tilted": {Tilt: 2}, "grainy": {Grain: 0.08, Seed: 1},
		"on its side": {Turned: true}} {
		data, err := paper.PNG(scan(t, l))
		if err != nil {
			t.Fatal(err)
		}
		found, err := Recognize(t.Context(), file(t, data), how)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if there, all := words(declaration, &found); there < all*9/10 || found.Sure < 70 {
			t.Errorf("%s: %d of %d words, %d %% sure: %s", name, there, all, found.Sure, found.Text())
		}
	}
}

func TestScannedPagesOfAPDFAreDrawnAndRead(t *testing.T) {
	how := tesseract(t)
	data, err := paper.PDF(scan(t, paper.Look{}), scan(t, paper.Look{Tilt: 1}))
	if err != nil {
		t.Fatal(err)
	}
	f, reader := file(t, data), testbed.Ready(t)
	read, err := Text(t.Context(), f, text.Request{Name: "a.pdf", Reader: reader})
	var known *unpack.Error
	if !errors.As(err, &known) || !known.Empty || len(read.Pictures) != 2 || read.Pages != 2 {
		t.Fatal(read, err)
	}
	for _, page := range read.Pictures {
		var drawn bytes.Buffer
		if _, err := Draw(t.Context(), f, text.Drawing{Reader: reader, Page: page, DPI: 300}, &drawn); err != nil {
			t.Fatal(err)
		}
		found, err := Recognize(t.Context(), file(t, drawn.Bytes()), how)
		if err != nil {
			t.Fatal(err)
		}
		if there, all := words(declaration, &found); there < all*9/10 {
			t.Errorf("page %d: %d of %d words: %s", page, there, all, found.Text())
		}
	}
	_, err = Draw(t.Context(), f, text.Drawing{Reader: reader, Page: 2, DPI: 300}, &bytes.Buffer{})
	if !errors.As(err, &known) || known.Problem != "it has no page 3" {
		t.Error(err)
	}
}

// What is no picture, a broken one, and one that says it is larger than any are the file's fault.
func TestHostilePicturesAreErrors(t *testing.T) {
	how := tesseract(t)
	data, err := paper.PNG(scan(t, paper.Look{}))
	if err != nil {
		t.Fatal(err)
	}
	bomb := bytes.Clone(data)
	copy(bomb[16:24], "\x7f\xff\xff\xff\x7f\xff\xff\xff")
	for name, data := range map[string][]byte{"nothing": {}, "text": []byte("dues"), "cut": data[:len(data)/2],
		"huge": bomb, "head": data[:20]} {
		found, err := Recognize(t.Context(), file(t, data), how)
		var known *unpack.Error
		if err != nil && !errors.As(err, &known) || err == nil && name != "cut" {
			t.Errorf("%s: %+v, %v", name, found, err)
		}
	}
	how.Program = "/bin/cat-that-is-not-there"
	var known *unpack.Error
	if _, err := Recognize(t.Context(), file(t, data), how); err == nil || errors.As(err, &known) {
		t.Error("a program that is not there:", err)
	}
}

// The program that a process becomes can do no more than the process could.
func TestWhatAProcessBecomesIsConfined(t *testing.T) {
	folder := t.TempDir()
	key := filepath.Join(folder, "key")
	if err := os.WriteFile(key, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	tried, err := json.Marshal(Probe{Read: key, Write: folder, Connect: l.Addr().String(), Run: "/bin/true"})
	if err != nil {
		t.Fatal(err)
	}
	without, err := Probe{Read: key, Write: folder, Connect: l.Addr().String(), Run: "/bin/true"}.Try(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	found, err := Recognize(t.Context(), file(t, []byte("x")),
		Recognition{Program: self, Folder: t.TempDir(), Languages: []string{string(tried)}})
	if err != nil {
		t.Fatal(err)
	}
	// Where the kernel has no Landlock, it can read what everybody can, as its libraries.
	got := strings.TrimSpace(strings.TrimPrefix(found.Text(), "could:"))
	if got != strings.Join(without, ", ") && got != "read other files" {
		t.Errorf("it could %q, a process that reads %q", got, without)
	}
	t.Log(got)
}
