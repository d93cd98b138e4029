package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"slices"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// clean is what all that people read is written through. What comes from messages may hold anything: control
// characters would steer a terminal, and overrides of the direction would show a text as another one. Here they
// become spaces; in JSON, where programs need them, they become \u escapes.
type clean struct {
	to   io.Writer
	json bool
	rest []byte // the beginning of a character whose end is still to come
}

// steers says whether a character changes what a terminal does or in which direction it writes. Marks that give the
// direction of a single letter, as Arabic and Hebrew need them, do not.
func steers(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || 0x202a <= r && r <= 0x202e || 0x2066 <= r &&
		r <= 0x2069 || r == 0x2028 || r == 0x2029
}

func (c *clean) Write(p []byte) (int, error) {
	data := slices.Concat(c.rest, p)
	c.rest = nil
	if tail := unfinished(data); tail > 0 {
		c.rest = bytes.Clone(data[len(data)-tail:])
		data = data[:len(data)-tail]
	}
	out := make([]byte, 0, len(data)+16)
	for len(data) > 0 {
		r, n := utf8.DecodeRune(data)
		switch {
		case r == utf8.RuneError && n == 1:
			out = append(out, "\uFFFD"...)
		case !steers(r):
			out = append(out, data[:n]...)
		case c.json && r >= ' ':
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, ' ')
		}
		data = data[n:]
	}
	if _, err := c.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// unfinished is how many octets at the end of data begin a character without ending it.
func unfinished(data []byte) int {
	for n := 1; n < utf8.UTFMax && n <= len(data); n++ {
		if b := data[len(data)-n]; utf8.RuneStart(b) {
			if !utf8.FullRune(data[len(data)-n:]) {
				return n
			}
			return 0
		}
	}
	return 0
}

// plain is the cause, for what is not text that people read: files, and what this program itself tells a
// terminal.
func plain(w io.Writer) io.Writer {
	if c, ok := w.(*clean); ok {
		return c.to
	}
	return w
}

// isTerminal says whether somebody reads along.
func isTerminal(w io.Writer) bool {
	f, ok := plain(w).(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}
