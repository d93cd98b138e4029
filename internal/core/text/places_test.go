package text

import (
	"bytes"
	"errors"
	"math"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/ocr"
	"inktray.example/inktray/internal/demo/paper"
	"inktray.example/inktray/internal/testbed"
)

func TestTextsAreFoundOnThePagesOfAPDF(t *testing.T) {
	data := paper.Hybrid([]string{"Invoice HD-7", "Total: 1,180.50 EUR", "and once more HD-7"}, "a.txt", "x")
	search := Search{Reader: testbed.Ready(t), Texts: []string{"HD-7", "1,180.50 EUR", "not there", ""}}
	spots, err := Find(bytes.NewReader(data), int64(len(data)), search)
	if err != nil || len(spots) != 3 {
		t.Fatal(spots, err)
	}
	for i, want := range []struct {
		text int
		top  float64 // of its line, in points from the top of 842
	}{{0, 842 - 770}, {0, 842 - 722}, {1, 842 - 746}} {
		s := spots[i]
		if s.Text != want.text || s.Page != 0 || math.Abs((s.Top+s.Height)*842-want.top) > 5 || s.Width < 0.02 ||
			s.Width > 0.3 || s.Left < 0.1 || s.Left > 0.4 {
			t.Errorf("%d: %+v, want text %d at %v", i, s, want.text, want.top/842)
		}
	}
	var known *Error
	if _, err := Find(strings.NewReader("dues"), 4, search); !errors.As(err, &known) {
		t.Error("of no PDF:", err)
	}
	many := paper.Hybrid([]string{strings.Repeat("x ", 400)}, "a.txt", "x")
	search.Texts = []string{"x"}
	if spots, err := Find(bytes.NewReader(many), int64(len(many)), search); err != nil || len(spots) != mostPlaces {
		t.Errorf("of many: %d, %v", len(spots), err)
	}
}

func TestTextsAreFoundAmongTheWordsOfAScan(t *testing.T) {
	word := func(text string, left, top int) ocr.Word {
		return ocr.Word{Text: text, Page: 1, Left: left, Top: top, Width: 100, Height: 20}
	}
	r := &ocr.Reading{Pages: []ocr.Page{{Width: 1000, Height: 1000}}, Words: []ocr.Word{word("Total:", 100, 100),
		word("(1,180.50", 300, 100), word("EUR).", 420, 100), word("1,180.50", 100, 490), word("SEK", 220, 490)}}
	spots := FindRead(r, 4, []string{"1,180.50 EUR", "SEK", "EUR 7", ""})
	if len(spots) != 3 || spots[0].Page != 4 || spots[0].Left != 0.3 || spots[1].Left != 0.42 || spots[2].Text != 1 {
		t.Fatal(spots)
	}
	r.Tilt = 10 // the page as it is shown goes down to the right, around its middle
	turned := FindRead(r, 0, []string{"SEK"})
	if len(turned) != 1 || turned[0].Top > 0.48 || turned[0].Top+turned[0].Height < 0.44 || turned[0].Left < 0.2 {
		t.Errorf("on a tilted page: %+v", turned)
	}
	r.Pages = nil
	if got := FindRead(r, 0, []string{"SEK"}); len(got) != 0 {
		t.Errorf("on a page of no size: %+v", got)
	}
}
