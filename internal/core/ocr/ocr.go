// Package ocr understands what Tesseract reads in pictures of pages: its table of words (TSV), each with its place and
// how sure it is. The table comes from a process that has seen a hostile picture, so nothing in it is believed.
package ocr

import (
	"bufio"
	"errors"
	"io"
	"math"
	"strconv"
	"strings"
	"unicode"
)

// Bounds of what is understood of one picture.
const (
	// Most is how much of a table is read, in octets.
	Most      = 16 << 20
	mostWords = 100_000
	mostWord  = 200 // octets
	// LeastSure is how sure a word has to be, of 100. What is less is mostly the grain of a picture.
	LeastSure = 30
	// Paper is how sure all words together have to be, of 100. What is less is a picture of something else.
	Paper = 45
)

// Word is a word on a page. Its place is in pixels of the picture, from the left and the top.
type Word struct {
	Text                     string
	Page                     int // of the picture, from 1: a TIFF may hold several
	Left, Top, Width, Height int
	Sure                     int // of 100
	Line                     [4]int
}

// Page is the size of a page, in pixels.
type Page struct{ Width, Height int }

// Reading is what was read in a picture.
type Reading struct {
	Words []Word
	Pages []Page
	Sure  int // of 100: the mean of its characters; 0 where there is no text
	// Tilt is by how many degrees the page had to be turned before it was read: see Back.
	Tilt float64
}

var errTable = errors.New("what Tesseract says is not a table of words")

// Parse understands a table of words.
func Parse(r io.Reader) (Reading, error) {
	var out Reading
	lines := bufio.NewScanner(io.LimitReader(r, Most))
	lines.Buffer(nil, 1<<20)
	var sure, letters float64
	for first := true; lines.Scan(); first = false {
		fields := strings.Split(strings.TrimRight(lines.Text(), "\r"), "\t")
		if first && (len(fields) < 12 || fields[0] != "level") {
			return Reading{}, errTable
		}
		if first || len(fields) < 12 {
			continue
		}
		var n [10]int
		ok := true
		for i := range n {
			var err error
			n[i], err = strconv.Atoi(fields[i])
			ok = ok && err == nil && n[i] >= 0 && n[i] < 1<<24
		}
		certain, err := strconv.ParseFloat(fields[10], 64)
		if !ok || err != nil {
			continue
		}
		switch n[0] {
		case 1:
			if len(out.Pages) < 1000 {
				out.Pages = append(out.Pages, Page{n[8], n[9]})
			}
		case 5:
			text := strings.Map(printable, strings.ToValidUTF8(strings.Join(fields[11:], " "), ""))
			text = strings.TrimSpace(text)
			if text == "" || len(text) > mostWord || certain < LeastSure || certain > 100 || len(out.Words) >= mostWords {
				continue
			}
			out.Words = append(out.Words, Word{Text: text, Page: n[1], Left: n[6], Top: n[7], Width: n[8], Height: n[9],
				Sure: int(math.Round(certain)), Line: [4]int{n[1], n[2], n[3], n[4]}})
			sure += certain * float64(len(text))
			letters += float64(len(text))
		}
	}
	if err := lines.Err(); err != nil {
		return Reading{}, err
	}
	if letters > 0 {
		out.Sure = int(math.Round(sure / letters))
	}
	if out.Sure < Paper {
		out.Words, out.Sure = nil, 0
	}
	return out, nil
}

func printable(r rune) rune {
	if unicode.IsControl(r) || r == unicode.ReplacementChar {
		return -1
	}
	return r
}

// Text is what was read, line by line. A word that is parted at the end of a line is one.
func (r *Reading) Text() string {
	var b strings.Builder
	for i, w := range r.Words {
		last := i+1 == len(r.Words) || r.Words[i+1].Line != w.Line
		if last && i+1 < len(r.Words) && parted(w.Text, r.Words[i+1].Text) {
			b.WriteString(strings.TrimSuffix(w.Text, "-"))
			continue
		}
		b.WriteString(w.Text)
		if last {
			b.WriteByte('\n')
		} else {
			b.WriteByte(' ')
		}
	}
	return strings.TrimRight(b.String(), "\n")
}

// parted says whether a word goes on in the next line.
func parted(word, next string) bool {
	before, is := strings.CutSuffix(word, "-")
	if !is || before == "" {
		return false
	}
	r := []rune(before)
	return unicode.IsLetter(r[len(r)-1]) && unicode.IsLower([]rune(next)[0])
}
