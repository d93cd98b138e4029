package ocr

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
)

const head = "level\tpage_num\tblock_num\tpar_num\tline_num\tword_num\tleft\ttop\twidth\theight\tconf\ttext\n"

func row(level, page, block, line, word, left int, sure, text string) string {
	return fmt.Sprintf("%d\t%d\t%d\t1\t%d\t%d\t%d\t20\t30\t12\t%s\t%s\n", level, page, block, line, word, left, sure, text)
}

func TestATableOfWordsIsUnderstood(t *testing.T) {
	found, err := Parse(strings.NewReader(head + row(1, 1, 0, 0, 0, 0, "-1", "") +
		row(5, 1, 1, 1, 1, 10, "96.4", "Liege-") + row(5, 1, 1, 2, 1, 10, "90", "platz") +
		row(5, 1, 1, 2, 2, 50, "95", "BK-2002") + row(5, 1, 1, 2, 3, 90, "12", "~|;") +
		row(5, 1, 2, 1, 1, 10, "95", "Mr-") + row(5, 1, 2, 2, 1, 10, "95", "Smith\r")))
	if err != nil {
		t.Fatal(err)
	}
	if want := "Liegeplatz BK-2002\nMr-\nSmith"; found.Text() != want {
		t.Errorf("it reads %q, want %q", found.Text(), want)
	}
	if len(found.Pages) != 1 || found.Pages[0] != (Page{30, 12}) || found.Sure < 93 || found.Sure > 96 {
		t.Errorf("pages %v, %d sure", found.Pages, found.Sure)
	}
	if w := found.Words[2]; w.Text != "BK-2002" || w.Left != 50 || w.Top != 20 || w.Width != 30 || w.Sure != 95 {
		t.Errorf("a word is %+v", w)
	}
}

// A photograph yields a few unsure letters, which are no text.
func TestTheGrainOfAPictureIsNoText(t *testing.T) {
	found, err := Parse(strings.NewReader(head + row(5, 1, 1, 1, 1, 10, "40", "ee") + row(5, 1, 1, 1, 2, 10, "31", "Ss")))
	if err != nil || found.Text() != "" || found.Sure != 0 {
		t.Errorf("it reads %q, %d sure, %v", found.Text(), found.Sure, err)
	}
}

func TestWhatIsNoTableIsAnError(t *testing.T) {
	for _, wrong := range []string{"dues\n", "level\tpage\n", strings.Repeat("x", 2<<20)} {
		if found, err := Parse(strings.NewReader(wrong)); err == nil {
			t.Errorf("%.20q is understood as %+v", wrong, found)
		}
	}
	for _, nothing := range []string{"", head, head + "5\t1\n", head + row(5, 1<<30, 1, 1, 1, 1, "99", "x"),
		head + row(5, 1, 1, 1, 1, 1, "NaN", "x"), head + row(5, 1, 1, 1, 1, 1, "99", "\x00\xff"),
		head + row(5, 1, 1, 1, 1, 1, "99", strings.Repeat("x", 300))} {
		if found, err := Parse(strings.NewReader(nothing)); err != nil || len(found.Words) > 0 {
			t.Errorf("%.200q: %+v, %v", nothing, found.Words, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(head + row(5, 1, 1, 1, 1, 10, "96.4", "Liege-") + row(5, 1, 1, 2, 1, 10, "90", "platz")))
	f.Fuzz(func(t *testing.T, data []byte) {
		found, err := Parse(bytes.NewReader(data))
		if err == nil && (found.Sure < 0 || found.Sure > 100 || found.Sure > 0 && found.Text() == "") {
			t.Errorf("%d sure of %q", found.Sure, found.Text())
		}
	})
}
