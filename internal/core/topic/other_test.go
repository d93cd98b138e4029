package topic

import (
	"bytes"
	"flag"
	"fmt"
	"html"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

var handbook = flag.String("handbook", "/usr/share/doc/debian-handbook/html",
	"the folder of Debian's package debian-handbook, whose text other topics are measured on")

// book is text by other authors in several languages, which people translated: the sections of a handbook. A section is
// a topic, its chapter holds topics that are related to it, and each paragraph is a message without subject, sender and
// attachments. No paragraph is both an example and measured, in whatever language.
type book struct {
	rand     *rand.Rand
	names    []string                       // of the sections that are topics
	sections []string                       // all
	chapter  map[string]string              // by section
	text     map[string]map[string][]string // by section and language; the same paragraph has the same index
}

var (
	bookLanguages = []string{"de-DE", "en-US", "fr-FR"}
	bookUp        = regexp.MustCompile(`<link rel="up" href="([^"]+)"`)
	bookPara      = regexp.MustCompile(`(?s)<div class="para">(.*?)</div>`)
	bookTag       = regexp.MustCompile(`(?s)<[^>]*>`)
)

func openBook(b testing.TB, seed uint64) *book {
	k := &book{rand: rand.New(rand.NewPCG(seed, 3)), chapter: map[string]string{}, text: map[string]map[string][]string{}}
	files, err := filepath.Glob(filepath.Join(*handbook, "en-US", "sect.*.html"))
	if err != nil || len(files) == 0 {
		b.Skip("the package debian-handbook is not here")
	}
	for _, file := range files {
		section := filepath.Base(file)
		of := map[string][]string{}
		for _, language := range bookLanguages {
			data, err := os.ReadFile(filepath.Join(*handbook, language, section))
			if err != nil {
				b.Fatal(err)
			}
			if up := bookUp.FindSubmatch(data); up != nil {
				k.chapter[section] = string(up[1])
			}
			for _, p := range bookPara.FindAllSubmatch(data, -1) {
				text := html.UnescapeString(bookTag.ReplaceAllString(string(p[1]), " "))
				of[language] = append(of[language], strings.Join(strings.Fields(text), " "))
			}
		}
		if len(of["de-DE"]) != len(of["en-US"]) || len(of["fr-FR"]) != len(of["en-US"]) {
			continue // they are not translated in full
		}
		k.sections = append(k.sections, section)
		k.text[section] = of
		if len(k.long(section)) >= 36 {
			k.names = append(k.names, section)
		}
	}
	return k
}

// long are the paragraphs of a section that are long enough to be a message.
func (k *book) long(section string) (list []int) {
	for i := range k.text[section]["en-US"] {
		if !slices.ContainsFunc(bookLanguages, func(l string) bool { return len(k.text[section][l][i]) < 100 }) {
			list = append(list, i)
		}
	}
	return list
}

// half says whether a paragraph is one of those of which examples are made; the others are measured on.
func (k *book) half(section string, i int) bool { return (i/2+len(section))%2 == 0 }

func (k *book) message(section string, examples bool) (Mail, bool) {
	var list []int
	for _, i := range k.long(section) {
		if k.half(section, i) == examples {
			list = append(list, i)
		}
	}
	if len(list) == 0 {
		return Mail{}, false
	}
	i := list[k.rand.IntN(len(list))]
	return Mail{Text: k.text[section][bookLanguages[k.rand.IntN(len(bookLanguages))]][i]}, true
}

// another is a message of another section, in every second case of the same chapter.
func (k *book) another(section string, examples bool) Mail {
	related := k.rand.IntN(2) == 0
	for tries := 0; ; tries++ {
		other := k.sections[k.rand.IntN(len(k.sections))]
		if other == section || tries < 500 && related != (k.chapter[other] == k.chapter[section]) {
			continue
		}
		if m, ok := k.message(other, examples); ok {
			return m
		}
	}
}

func (k *book) examples(section string, each int) (list []Example) {
	for range each {
		m, _ := k.message(section, true)
		list = append(list, Example{Mail: m, About: true}, Example{Mail: k.another(section, true)})
	}
	return list
}

func (k *book) stream(section string, examples bool) Example {
	if k.rand.IntN(4) > 0 {
		return Example{Mail: k.another(section, examples)}
	}
	m, _ := k.message(section, examples)
	return Example{Mail: m, About: true}
}

// BenchmarkOtherOrigin measures on text by other authors, as BenchmarkLearningCurve does on invented mail. The range is
// that of the single topics, without the tenth of them that is best and that which is worst.
func BenchmarkOtherOrigin(b *testing.B) {
	rows := &bytes.Buffer{}
	fmt.Fprintln(rows, "| examples | other mail | answers | precision | recall | asks about | of single topics: "+
		"precision | recall |")
	fmt.Fprintln(rows, "|---|---|---|---|---|---|---|---|")
	for b.Loop() {
		for _, of := range []struct {
			each, noticed int
			after         []int
		}{{20, 0, []int{0}}, {20, 500, []int{0, 20, 60}}, {50, 500, []int{0}}} {
			all := make([]tally, len(of.after))
			single := make([][2][]float64, len(of.after))
			for seed := range uint64(4) {
				k := openBook(b, seed)
				w := weighting(of.noticed, func() Mail {
					m, _ := k.message(k.names[k.rand.IntN(len(k.names))], true)
					return m
				})
				for _, section := range k.names {
					k.measure(section, of.each, w, of.after, func(n int, one tally) {
						all[n].add(one)
						single[n][0] = append(single[n][0], one.precision())
						single[n][1] = append(single[n][1], one.recall())
					})
				}
			}
			for n, r := range all {
				fmt.Fprintf(rows, "| %d + %d | %d | %d | %.2f | %.2f | %.0f %% | %s | %s |\n", of.each, of.each,
					of.noticed, of.after[n], r.precision(), r.recall(), 100*r.asks(), middle(single[n][0]), middle(single[n][1]))
				b.ReportMetric(r.precision(), fmt.Sprintf("precision-%d-%d-%d", of.each, of.noticed, of.after[n]))
			}
		}
	}
	b.Log("\n" + rows.String())
	if *writeDocs {
		testbed.WriteSection(b, "../../../docs/topics.md", "other origin", rows.String())
	}
}

// measure learns a section from examples and answers, and counts what becomes of messages that were not among them.
func (k *book) measure(section string, each int, w *Weighting, after []int, count func(n int, one tally)) {
	examples := k.examples(section, each)
	answers := 0
	for n := range after {
		examples = answered(examples, w, after[n]-answers, func() Example { return k.stream(section, true) })
		answers = after[n]
		learned := Learn(examples, w)
		var one tally
		for range 120 {
			e := k.stream(section, false)
			f := Read(&e.Mail)
			one.count(learned.Judge(&f), DefaultConfidence, e.About)
		}
		count(n, one)
	}
}

func (r *tally) add(o tally) {
	r.found, r.wrong, r.missed = r.found+o.found, r.wrong+o.wrong, r.missed+o.missed
	r.left, r.asked = r.left+o.left, r.asked+o.asked
}

// middle is between what the middle eight tenths lie.
func middle(values []float64) string {
	slices.Sort(values)
	tenth := len(values) / 10
	return fmt.Sprintf("%.2f to %.2f", values[tenth], values[len(values)-1-tenth])
}
