package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/rivo/uniseg"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/core/rule"
)

func (c *command) json(v any) error {
	e := json.NewEncoder(c.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// show writes a value as JSON, or as people read it.
func (c *command) show(v any, people func()) error {
	if c.format == "json" {
		return c.json(v)
	}
	if !c.quiet {
		people()
	}
	return nil
}

// columnsOfWords are the heads of columns that hold words of Ink Tray, such as "filed" or "old mail", and never names.
var columnsOfWords = []string{"ANSWERS", "COPY OF ITS RECORDS", "ENCRYPTION", "KIND", "KNOWS YOU", "LAST",
	"LAST RANG", "LOOKED AT", "MEANS", "ON", "REMARK", "RESULT", "ROLE", "STATE", "TOLD OF THE TRAY", "VERDICT"}

// labelled says the labels of facts, which come first in each row, in the language of the person.
func (c *command) labelled(rows [][]string) [][]string {
	for _, row := range rows {
		row[0] = c.texts.Word("label", row[0])
	}
	return rows
}

// table aligns rows under a head. What comes from messages may hold anything,
// so control characters are taken out.
func (c *command) table(head []string, rows [][]string) {
	width, words := make([]int, len(head)), make([]bool, len(head))
	for i := range head {
		words[i] = slices.Contains(columnsOfWords, head[i])
		head[i] = c.texts.Say(head[i])
	}
	for _, row := range rows {
		for i, cell := range row {
			if words[i] {
				row[i] = c.texts.Word("state", cell)
			} else {
				row[i] = c.texts.Sentence(cell)
			}
		}
	}
	clean := func(s string) string { return strings.ReplaceAll(visible(s), "\n", " ") }
	all := append([][]string{head}, rows...)
	for _, row := range all {
		for i := range row {
			row[i] = clean(row[i])
			width[i] = max(width[i], uniseg.StringWidth(row[i]))
		}
	}
	for n, row := range all {
		var line strings.Builder
		for i, cell := range row {
			line.WriteString(cell)
			if i < len(row)-1 {
				line.WriteString(strings.Repeat(" ", width[i]-uniseg.StringWidth(cell)+2))
			}
		}
		text := strings.TrimRight(line.String(), " ")
		bold := n == 0 && c.styled()
		fmt.Fprint(plain(c.out), map[bool]string{true: "\x1b[1m"}[bold])
		fmt.Fprint(c.out, text)
		fmt.Fprint(plain(c.out), map[bool]string{true: "\x1b[0m"}[bold])
		fmt.Fprintln(c.out)
	}
}

// visible takes out of a text what would steer a terminal; line ends stay.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		if steers(r) || r == '\t' {
			return ' '
		}
		return r
	}, s)
}

// styled says whether the output may hold bold letters: not in a file, on a terminal that cannot show them, or where
// NO_COLOR asks for plain text.
func (c *command) styled() bool {
	return c.terminal() && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func (c *command) terminal() bool {
	return isTerminal(c.out)
}

func short(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if uniseg.StringWidth(s) <= n {
		return s
	}
	var b strings.Builder
	for g := uniseg.NewGraphemes(s); g.Next(); {
		if uniseg.StringWidth(b.String()+g.Str()) > n-1 {
			break
		}
		b.WriteString(g.Str())
	}
	return b.String() + "…"
}

// wrap breaks a text into lines between words.
func wrap(s string, width int) string {
	var b strings.Builder
	line := 0
	for i, word := range strings.Fields(s) {
		n := uniseg.StringWidth(word)
		switch {
		case i == 0:
		case line+1+n > width:
			b.WriteByte('\n')
			line = 0
		default:
			b.WriteByte(' ')
			line++
		}
		b.WriteString(word)
		line += n
	}
	return b.String()
}

func size(octets int64) string { return rule.About(octets) }

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func whenOr(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return when(*t)
}

func who(name, address string) string {
	if name != "" {
		return name
	}
	return address
}

func deref[T any](p *T) (value T) {
	if p != nil {
		value = *p
	}
	return value
}

// progress draws a bar on a line of its own while a person looks on.
type progress struct {
	c     *command
	drawn bool
}

func (p *progress) draw(done, total int, text string) {
	if !isTerminal(p.c.errs) {
		return
	}
	f := plain(p.c.errs)
	const width = 30
	full := 0
	if total > 0 {
		full = done * width / total
	}
	fmt.Fprintf(f, "\r\x1b[K%s%s  %d of %d  %s", strings.Repeat("━", full), strings.Repeat("─", width-full), done, total,
		visible(text))
	p.drawn = true
}

func (p *progress) end() {
	if p.drawn {
		fmt.Fprintln(p.c.errs)
	}
}

// ifMatch is the revision that a change begins from (RFC 9110 section 13.1.1).
func ifMatch(revision int) *string {
	match := strconv.Quote(strconv.Itoa(revision))
	return &match
}

// receivedAs says from where a time of receipt is known that is not the mail server's.
func receivedAs(from *client.ReceivedFrom) string {
	switch deref(from) {
	case "received field":
		return " (as its Received field says)"
	case "file":
		return " (as the time of its file says)"
	case "date field":
		return " (as its Date field says, which the sender wrote)"
	case "unknown":
		return " (when Ink Tray first saw it; when it was received is not known)"
	}
	return ""
}
