package topic

import (
	_ "embed"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/mail"
)

//go:embed testdata/matters.txt
var matters string

// Stages of the invented mail: what examples are made of, what comes to the tray,
// and what is measured on. Each knows wordings that the ones before do not.
const (
	stageExamples = iota
	stageTray
	stageMeasured
)

// corpus makes mail to a harbour office that really varies: in three languages, of
// known and unknown senders, in wordings of which only a part was seen before,
// with replies, empty subjects and names of files that say nothing.
type corpus struct {
	lists map[string][]string // by matter, language and kind of line
	names []string            // of the matters
	rand  *rand.Rand
	count int
}

func newCorpus(t testing.TB, seed uint64) *corpus {
	c := &corpus{lists: map[string][]string{}, rand: rand.New(rand.NewPCG(seed, 7))}
	matter, language := "", ""
	for _, line := range strings.Split(matters, "\n") {
		switch {
		case strings.HasPrefix(line, "== "):
			if matter = line[3:]; matter != "filler" {
				c.names = append(c.names, matter)
			}
		case len(line) == 2:
			language = line
		case len(line) > 3 && line[1] == ':':
			key := matter + language + line[:1]
			c.lists[key] = append(c.lists[key], line[3:])
		}
	}
	for key, list := range c.lists {
		if len(list) < 6 {
			t.Fatalf("%s has %d lines", key, len(list))
		}
	}
	return c
}

func (c *corpus) one(list ...string) string { return list[c.rand.IntN(len(list))] }

var alternatives = regexp.MustCompile(`x\(([^|)]*)\|([^)]*)\)`)

// pick is a line of a list as far as the stage knows it.
func (c *corpus) pick(matter, language, kind string, stage int) string {
	list := c.lists[matter+language+kind]
	half, quarter := len(list)/2, len(list)/4
	from, to := 0, half
	switch n := c.rand.IntN(10); {
	case stage >= stageTray && n >= 4 && n < 7, stage == stageTray && n >= 7:
		from, to = half, half+quarter
	case stage == stageMeasured && n >= 7:
		from, to = half+quarter, len(list)
	}
	line := list[from+c.rand.IntN(to-from)]
	return alternatives.ReplaceAllStringFunc(line, func(s string) string {
		return c.one(alternatives.FindStringSubmatch(s)[1:]...)
	})
}

// make makes a message about a matter.
func (c *corpus) make(matter string, stage int) Mail {
	c.count++
	language := "en"
	switch n := c.rand.IntN(20); {
	case n < 7:
		language = "de"
	case n < 11:
		language = "fr"
	}
	m := Mail{Subject: c.pick(matter, language, "s", stage)}
	if c.rand.IntN(12) == 0 {
		m.Subject = c.one("", "Documents", "Your message", "Scan")
	}
	text := []string{c.pick("filler", language, "t", stage)}
	for range 1 + c.rand.IntN(3) {
		text = append(text, c.pick(matter, language, "t", stage))
	}
	text = append(text, c.pick("filler", language, "t", stage))
	if c.rand.IntN(5) == 0 { // a reply
		m.Subject = "Re: " + m.Subject
		text = append(text, "", "On Tuesday the harbour office wrote:", "> "+c.pick("filler", language, "t", stage), "> "+
			c.pick(matter, language, "t", stage))
	}
	m.Text = strings.Join(text, "\n")
	for range c.rand.IntN(3) {
		name := c.pick(matter, language, "n", stage)
		if c.rand.IntN(3) == 0 {
			name = fmt.Sprintf("scan%04d.pdf", c.rand.IntN(10_000))
		}
		m.Names = append(m.Names, name)
	}
	known := 2
	if stage == stageMeasured {
		known = 3
	}
	if c.rand.IntN(known) == 0 { // somebody who writes often, but not of one thing only
		of := c.rand.IntN(6)
		if c.rand.IntN(4) == 0 {
			matter = c.one(c.names...)
		}
		m.Sender = mail.Address{Local: c.one("office", "info"), Domain: fmt.Sprintf("firm%d.example", len(matter)*10+of)}
	} else {
		m.Sender = mail.Address{Local: fmt.Sprintf("person%d", c.rand.IntN(1_000_000)),
			Domain: fmt.Sprintf("place%d.example", c.rand.IntN(1_000_000))}
	}
	return m
}

// other is a matter that is not this one.
func (c *corpus) other(matter string) string {
	for {
		if o := c.one(c.names...); o != matter {
			return o
		}
	}
}

// examples are so many of each sort.
func (c *corpus) examples(matter string, each int) []Example {
	var list []Example
	for range each {
		list = append(list, Example{Mail: c.make(matter, stageExamples), About: true},
			Example{Mail: c.make(c.other(matter), stageExamples)})
	}
	return list
}

// stream is mail as it comes: every fourth message is about the matter.
func (c *corpus) stream(matter string, n, stage int) []Example {
	var list []Example
	for range n {
		if c.rand.IntN(4) == 0 {
			list = append(list, Example{Mail: c.make(matter, stage), About: true})
		} else {
			list = append(list, Example{Mail: c.make(c.other(matter), stage)})
		}
	}
	return list
}
