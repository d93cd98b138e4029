// Package texts has the texts of Ink Tray in other languages than English: one file of the format PO (GNU gettext) for
// each language. The console takes its texts from the same files.
//
// The service makes its texts in English, where they arise, and keeps them so in its records. A catalogue knows each of
// them with its gaps, such as "the mailbox “{}” is out of reach: {}", recognises it, and says it in its language. So
// texts that an earlier version kept, or another machine of the office sent, are in the reader's language too. What a
// catalogue does not know stays in English.
package texts

import (
	"embed"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/leonelquinteros/gotext"
	"golang.org/x/text/language"
)

//go:embed *.po
var files embed.FS

// The contexts (msgctxt) of texts.
const (
	Console = ""        // most of those of the console
	Service = "service" // those of the service and the command line
)

// Catalogue says texts in one language. A nil catalogue leaves them in English. It can be used by several goroutines at
// the same time.
type Catalogue struct {
	lang    string
	exact   map[string]string
	byStart map[string][]*template // texts with gaps, by their first word
	open    []*template            // texts that begin with a gap
	sure    []*template            // those of them that have so many letters that nothing else is meant
	formats map[string]string      // texts with gaps, as they are
}

// template is a text with gaps.
type template struct {
	english func() *regexp.Regexp // most are never needed
	holds   string                // the longest text between its gaps: what lacks it does not fit
	weight  int                   // how many letters it has beside the gaps: of several that fit, the heaviest counts
	reason  []bool                // what stands in the gap follows a colon or stands in brackets, as reasons do
	quoted  []bool                // the gap is in quotation marks, so it holds a name, which is in no language
	said    []string              // what stands before each gap in the other language, and after the last one
	gaps    []int                 // which gap follows each of said
}

var gap = regexp.MustCompile(`\{\w*\}`)

// tags are the languages that there are; English is the first, which is taken where none fits.
var tags = sync.OnceValue(func() []language.Tag {
	all := []language.Tag{language.English}
	entries, err := files.ReadDir(".")
	if err != nil {
		panic(err) // it is part of the program
	}
	for _, e := range entries {
		tag := language.MustParse(strings.TrimSuffix(e.Name(), path.Ext(e.Name())))
		if tag != language.English {
			all = append(all, tag)
		}
	}
	return all
})

var matcher = sync.OnceValue(func() language.Matcher { return language.NewMatcher(tags()) })

var read struct {
	sync.Mutex
	catalogues map[language.Tag]*Catalogue
}

// catalogueOf reads the catalogue of a language where it was not read yet.
func catalogueOf(tag language.Tag) *Catalogue {
	read.Lock()
	defer read.Unlock()
	if c, ok := read.catalogues[tag]; ok {
		return c
	}
	c, err := newCatalogue(tag.String())
	if err != nil {
		panic(fmt.Errorf("the texts of %s: %w", tag, err)) // they are part of the program
	}
	if read.catalogues == nil {
		read.catalogues = map[language.Tag]*Catalogue{}
	}
	read.catalogues[tag] = c
	return c
}

// For chooses a catalogue by languages in the form of Accept-Language (RFC 9110 section 12.5.4), such as
// "de-AT, en;q=0.5". It is nil for English, and where there is no better one.
func For(accept string) *Catalogue {
	wanted, _, err := language.ParseAcceptLanguage(accept)
	if err != nil || len(wanted) == 0 {
		return nil
	}
	_, i, _ := matcher().Match(wanted...)
	if i == 0 {
		return nil
	}
	return catalogueOf(tags()[i])
}

// Languages are the languages that there are beside English, as tags of BCP 47.
func Languages() (all []string) {
	for _, tag := range tags()[1:] {
		all = append(all, tag.String())
	}
	return all
}

// Each calls f with every text of a context in a language, as it is in the file.
func Each(lang, context string, f func(english, said string)) error {
	data, err := files.ReadFile(lang + ".po")
	if err != nil {
		return err
	}
	po := gotext.NewPo()
	po.Parse(data)
	all := po.GetDomain().GetTranslations()
	if context != "" {
		all = po.GetDomain().GetCtxTranslations()[context]
	}
	for english, t := range all {
		if english != "" { // the head of the file
			f(english, t.Get())
		}
	}
	return nil
}

func newCatalogue(lang string) (*Catalogue, error) {
	c := &Catalogue{lang: lang, exact: map[string]string{},
		byStart: map[string][]*template{}, formats: map[string]string{}}
	err := Each(lang, Service, func(english, said string) {
		if said == "" {
			return
		}
		c.formats[english] = said
		if !gap.MatchString(english) {
			c.exact[english] = said
			c.exact[bare(english)] = bare(said)
			return
		}
		if strings.HasPrefix(english, " ") { // it stands within a longer text, or by itself
			english, said = bare(english), bare(said)
		}
		t := newTemplate(english, said)
		if start := firstWord(english); start != "" {
			c.byStart[start] = append(c.byStart[start], t)
		} else if t.weight >= 5 {
			c.open = append(c.open, t)
		}
	})
	heaviest := func(a, b *template) int { return b.weight - a.weight }
	for _, all := range c.byStart {
		slices.SortFunc(all, heaviest)
	}
	slices.SortFunc(c.open, heaviest)
	c.sure = c.open
	if i := slices.IndexFunc(c.open, func(t *template) bool { return t.weight < 2*heavy }); i >= 0 {
		c.sure = c.open[:i]
	}
	return c, err
}

// bare is a text without what joins it to others.
func bare(text string) string { return strings.TrimSuffix(strings.TrimSpace(text), ".") }

// firstWord is what a text begins with, up to a space or a gap; "" where it begins with a gap.
func firstWord(text string) string {
	if i := strings.IndexAny(text, " {"); i >= 0 {
		if text[i] == '{' && i > 0 {
			return ""
		}
		return text[:i]
	}
	return text
}

func newTemplate(english, said string) *template {
	t := &template{}
	var expr strings.Builder
	expr.WriteString(`(?s)^`)
	names := map[string]int{}
	at := 0
	for i, g := range gap.FindAllStringIndex(english, -1) {
		before := english[at:g[0]]
		t.holds = longer(t.holds, before)
		expr.WriteString(regexp.QuoteMeta(before))
		t.weight += letters(before)
		t.reason = append(t.reason, strings.HasSuffix(before, ": ") || strings.HasSuffix(before, "("))
		quoted := strings.Count(english[:g[0]], "“") > strings.Count(english[:g[0]], "”")
		if t.quoted = append(t.quoted, quoted); quoted {
			expr.WriteString(`([^”]*)`)
		} else {
			expr.WriteString(`(.*?)`)
		}
		if name := english[g[0]:g[1]]; name != "{}" {
			names[name] = i
		}
		at = g[1]
	}
	expr.WriteString(regexp.QuoteMeta(english[at:]) + `$`)
	t.weight += letters(english[at:])
	t.holds = longer(t.holds, english[at:])
	t.english = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr.String()) })
	at = 0
	for i, g := range gap.FindAllStringIndex(said, -1) {
		t.said = append(t.said, said[at:g[0]])
		if n, named := names[said[g[0]:g[1]]]; named {
			i = n
		}
		t.gaps = append(t.gaps, i)
		at = g[1]
	}
	t.said = append(t.said, said[at:])
	return t
}

func longer(a, b string) string {
	if len(b) > len(a) {
		return b
	}
	return a
}

func letters(s string) (n int) {
	for _, r := range s {
		if unicode.IsLetter(r) {
			n++
		}
	}
	return n
}

// Language is the language as a tag of BCP 47.
func (c *Catalogue) Language() string {
	if c == nil {
		return "en"
	}
	return c.lang
}

// Say says a text in the language of the catalogue.
func (c *Catalogue) Say(english string) string {
	said, _ := c.Find(english)
	return said
}

// Word says a word that stands alone: in a column ("state") or before a value ("label"). The catalogue has it with its
// use before it, as in "state: filed", so that a name of the same letters within a text stays as it is.
func (c *Catalogue) Word(use, english string) string {
	if c == nil {
		return english
	}
	if said, ok := c.exact[use+": "+english]; ok {
		return said
	}
	return c.Say(english)
}

// Sentence says a text of several words that has no gaps. Any other stays as it is: it can be a name, or a word of the
// interface.
func (c *Catalogue) Sentence(text string) string {
	if c == nil || strings.Count(text, " ") < 3 {
		return text
	}
	if said, ok := c.exact[text]; ok {
		return said
	}
	return text
}

// Format says a text with the verbs of package fmt in its gaps, such as "%d files are in %s.\n". The text that it
// returns has the same verbs in the same order.
func (c *Catalogue) Format(format string) string {
	if c == nil {
		return format
	}
	escaped := strings.ReplaceAll(format, "%%", "\x00")
	verbs := verb.FindAllString(escaped, -1)
	said, ok := c.formats[strings.ReplaceAll(verb.ReplaceAllString(escaped, "{}"), "\x00", "%")]
	if !ok {
		return format
	}
	said = strings.ReplaceAll(said, "%", "%%")
	for _, v := range verbs {
		said = strings.Replace(said, "{}", v, 1)
	}
	return said
}

// verb is one of package fmt.
var verb = regexp.MustCompile(`%[-+# 0]*[\d*]*(?:\.[\d*]+)?[a-zA-Z]`)

// Count says a number with its noun, such as "3 files", or a moment. Any other text stays as it is.
func (c *Catalogue) Count(text string) string {
	if c == nil {
		return text
	}
	said, _ := c.count(text)
	return said
}

func (c *Catalogue) count(text string) (string, bool) {
	if said, ok := c.moment(text); ok {
		return said, true
	}
	found := counted.FindStringSubmatch(text)
	if found == nil {
		return text, false
	}
	noun, ok := c.exact[found[2]]
	if !ok {
		return text, false
	}
	return found[1] + " " + noun, true
}

// layouts are how texts give moments, in the form of package time. A catalogue has each of them, still with the English
// names of days and months, and these names.
var layouts = []string{"2 January 2006", "2 January 2006, 15:04", "2 January 2006, 15:04:05",
	"15:04 on Monday 2 January 2006"}

// longestMoment is that of the longest names.
const longestMoment = len("15:04 on Wednesday 22 September 2006")

// moment says a moment that has one of the layouts.
func (c *Catalogue) moment(text string) (string, bool) {
	if len(text) > longestMoment || text == "" || text[0] < '0' || text[0] > '9' {
		return text, false
	}
	for _, layout := range layouts {
		t, err := time.Parse(layout, text)
		said, ok := c.exact[layout]
		if err != nil || !ok {
			continue
		}
		said = t.Format(said)
		for _, name := range []string{t.Month().String(), t.Weekday().String()} {
			if its, ok := c.exact[name]; ok {
				said = strings.Replace(said, name, its, 1)
			}
		}
		return said, true
	}
	return text, false
}

// counted is a number with its noun.
var counted = regexp.MustCompile(`^(\d[\d.,]*) ([a-z][a-z ]*)$`)

// A search is for one text and the texts within it. It is bounded: a text can come from outside.
type search struct {
	*Catalogue
	left int // how many octets may still be looked at
}

// most is how many octets are looked at for one text, those of the texts within it counted again. The sentence about a
// rule in BenchmarkSayASentence needs 1,600. longest is how long a text may be, in octets.
const (
	most    = 20_000
	longest = 4_000
)

// heavy is how many letters a text with gaps has at least to count before the text is taken apart.
const heavy = 6

// Find says a text, and whether the catalogue knows it or a part of it.
func (c *Catalogue) Find(english string) (said string, known bool) {
	if c == nil || len(english) > longest || strings.TrimSpace(english) == "" {
		return english, false
	}
	return (&search{c, most}).find(english)
}

func (s *search) find(text string) (string, bool) {
	if said, ok := s.count(text); ok {
		return said, true
	}
	if said, ok := s.exact[text]; ok {
		return said, true
	}
	if s.left < 0 {
		return text, false
	}
	s.left -= len(text)
	start := s.byStart[firstWord(text)]
	light := start[len(start):]
	if i := slices.IndexFunc(start, func(t *template) bool { return t.weight < heavy }); i >= 0 {
		start, light = start[:i], start[i:]
	}
	for _, way := range []func() (string, bool){
		func() (string, bool) { return s.clauses(text) },
		func() (string, bool) { return s.fill(start, text, near) },
		func() (string, bool) { return s.fill(s.sure, text, near) },
		func() (string, bool) { return s.parts(text, ". ", some) },
		func() (string, bool) { return s.parts(text, "; ", some) },
		func() (string, bool) { return s.withoutStop(text) },
		func() (string, bool) { return s.parts(text, ": ", some) },
		func() (string, bool) { return s.fill(start, text, far) },
		func() (string, bool) { return s.otherCase(text) },
		func() (string, bool) { return s.fill(s.open, text, far) },
		func() (string, bool) { return s.joined(text, all) },
		func() (string, bool) { return s.fill(light, text, sure) },
		func() (string, bool) { return s.joined(text, some) },
	} {
		if said, ok := way(); ok {
			return said, true
		}
	}
	return text, false
}

// otherCase says a text that begins with a capital letter.
func (s *search) otherCase(text string) (string, bool) {
	lower, ok := withCase(text, unicode.ToLower)
	if !ok {
		return text, false
	}
	said, ok := s.find(lower)
	said, _ = withCase(said, unicode.ToUpper)
	return said, ok
}

// withoutStop says a text that ends with a full stop.
func (s *search) withoutStop(text string) (string, bool) {
	rest, ok := strings.CutSuffix(text, ".")
	if !ok {
		return text, false
	}
	said, ok := s.find(rest)
	return said + ".", ok
}

// howMany says how many parts of a text have to be known: some of them, or all.
type howMany int

const (
	some howMany = iota
	all
)

// clauses says a text of several clauses, such as "mark the message read and label it “Filed”", where each is known.
func (s *search) clauses(text string) (string, bool) {
	for _, part := range strings.Split(text, " and ") {
		if !strings.Contains(part, " ") {
			return text, false
		}
	}
	return s.parts(text, " and ", all)
}

// joined says a text that is a list.
func (s *search) joined(text string, need howMany) (string, bool) {
	for _, mark := range []string{" / ", ", ", " or ", " and "} {
		if said, ok := s.parts(text, mark, need); ok {
			return said, true
		}
	}
	return text, false
}

// parts says a text that consists of several, with a mark between them.
func (s *search) parts(text, mark string, need howMany) (string, bool) {
	parts := strings.Split(text, mark)
	if len(parts) == 1 {
		return text, false
	}
	known := 0
	for i, p := range parts {
		said, ok := s.find(p)
		if ok {
			known++
		}
		parts[i] = said
	}
	if known == 0 || need == all && known < len(parts) {
		return text, false
	}
	if said, ok := s.exact[strings.TrimSpace(mark)]; ok {
		mark = " " + said + " "
	}
	return strings.Join(parts, mark), true
}

// reach is what may stand in the gaps of a template.
type reach int

const (
	near reach = iota // no end of a sentence
	far               // anything
	sure              // what the catalogue knows, and names
)

// fill says a text by the first template that fits.
func (s *search) fill(all []*template, text string, how reach) (string, bool) {
	for _, t := range all {
		if !strings.Contains(text, t.holds) {
			continue
		}
		found := t.english().FindStringSubmatch(text)
		if found == nil || how == near && t.tooFar(found[1:]) {
			continue
		}
		unsure := false
		for i := range t.quoted {
			if t.quoted[i] {
				continue
			}
			said, known := s.find(found[i+1])
			first, _ := utf8.DecodeRuneInString(found[i+1])
			unsure = unsure || !known && unicode.IsLower(first) && !strings.ContainsAny(found[i+1], ".@/*-_0123456789")
			found[i+1] = said
		}
		if how == sure && unsure {
			continue
		}
		var b strings.Builder
		for i, before := range t.said {
			b.WriteString(before)
			if i < len(t.gaps) {
				b.WriteString(found[t.gaps[i]+1])
			}
		}
		return b.String(), true
	}
	return text, false
}

// tooFar says whether a gap holds the end of a sentence, or of what comes before a colon.
func (t *template) tooFar(gaps []string) bool {
	for i, g := range gaps {
		if !t.quoted[i] && (strings.Contains(g, ". ") || strings.HasSuffix(g, ".") || strings.Contains(g, "; ") ||
			!t.reason[i] && strings.Contains(g, ": ")) {
			return true
		}
	}
	return false
}

// withCase changes the case of the first letter, and says whether that changed anything.
func withCase(text string, to func(rune) rune) (string, bool) {
	first, n := utf8.DecodeRuneInString(text)
	changed := to(first)
	return string(changed) + text[n:], changed != first
}
