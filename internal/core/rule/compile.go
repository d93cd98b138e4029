package rule

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
)

// Compiled is a rule made ready: patterns and expressions parsed, texts folded.
// It may be used by several goroutines at once.
type Compiled struct {
	Rule     *Rule
	Revision int
	Zone     *time.Location // UTC where the rule names none and Compile was given none

	match   *test
	unless  []*test
	entries []entry
	rest    *Target
	copies  []copyOf
	follow  []FollowUp
	leaves  map[Default]bool
	holds   map[Caution]bool
	values  []Value
}

type copyOf struct {
	form   CopyForm
	target Target
}

// Target is where an entry files.
type Target struct {
	Cabinet  string // its name
	Folder   *pattern.Pattern
	Own      *pattern.Pattern // of the message's own folder below it, nil where it has none
	Name     *pattern.Pattern
	IfExists IfExists
	Unpack   Unpack
	Drop     bool // an archive's inner folders
}

// ownFolder is the name of a folder that only one message has.
const ownFolder = "<received date> <subject first 60> <message.key>"

type entry struct {
	leave  bool
	kinds  bool // one of its tests asks for the kind
	names  bool // it names kinds, types, names or extensions
	tests  []itemTest
	all    bool // take: everything
	target Target
}

type itemTest struct {
	sentence string
	parts    []itemPart
	inside   func(*mail.Read) (why string, fits bool) // of the text inside, nil where nothing is asked of it
	invoice  func(*mail.Read) (why string, fits bool) // of the electronic invoice, likewise
	plain    []KindName                               // files of these kinds need be no electronic invoice
	values   [][][]valueCheck                         // each has an alternative, all of whose checks hold
}

type itemPart struct {
	fits func(*mail.Item) bool
	why  func(*mail.Item) string
}

// judge says whether an item fits; the text inside counts last.
func (t *itemTest) judge(item *mail.Item, l *looking) Answer {
	for i := range t.parts {
		if !t.parts[i].fits(item) {
			return No
		}
	}
	answer := t.content(item, l)
	if answer == No {
		return No
	}
	for _, any := range t.values {
		is := No
		for i := range any {
			one := allOf(any[i], item, l)
			if one == Yes {
				is = Yes
				break
			}
			if one == NotYet || one == Unknowable && is == No {
				is = one
			}
		}
		switch {
		case is == No:
			l.missed = cmp.Or(l.missed, missed(any, item, l))
			return No
		case is == NotYet || is == Unknowable && answer == Yes: // what is read first may settle it
			answer = is
		}
	}
	return answer
}

// missed says which value does not fit.
func missed(any [][]valueCheck, item *mail.Item, l *looking) string {
	for i := range any {
		for k := range any[i] {
			if is, _ := any[i][k].judge(item, l); is == No {
				return any[i][k].why(item, l)
			}
		}
	}
	return ""
}

// allOf says whether all of several checks of values hold.
func allOf(checks []valueCheck, item *mail.Item, l *looking) Answer {
	answer := Yes
	for i := range checks {
		switch is, _ := checks[i].judge(item, l); {
		case is == No:
			return No
		case is == NotYet || is == Unknowable && answer == Yes:
			answer = is
		}
	}
	return answer
}

// content says whether the text inside an item fits.
func (t *itemTest) content(item *mail.Item, l *looking) Answer {
	invoice := t.invoiceOf(item)
	switch {
	case t.inside == nil && invoice == nil:
		return Yes
	case !item.Readable():
		return No // there is no text in it
	case item.Inside == nil:
		l.miss("file.text")
		return NotYet
	case item.Inside.Problem != "" && !item.Inside.Empty:
		return Unknowable
	}
	if invoice != nil && item.Inside.Invoice == nil && item.Inside.Unread != "" {
		return Unknowable
	}
	if invoice != nil { // a scan holds no text, and is no electronic invoice
		if _, fits := invoice(item.Inside); !fits || t.inside == nil {
			return yes(fits)
		}
	}
	if item.Inside.Problem != "" {
		return Unknowable
	}
	_, fits := t.inside(item.Inside)
	if !fits && item.Inside.Left > 0 { // it may stand where nobody has looked
		return Unknowable
	}
	return yes(fits)
}

// invoiceOf is what an item's electronic invoice has to be; nil where nothing is asked of it.
func (t *itemTest) invoiceOf(item *mail.Item) func(*mail.Read) (why string, fits bool) {
	if slices.Contains(t.plain, KindName(item.Kind)) {
		return nil
	}
	return t.invoice
}

// reason says why an item fits.
func (t *itemTest) reason(item *mail.Item, l *looking) string {
	var texts []string
	for i := range t.parts {
		texts = append(texts, t.parts[i].why(item))
	}
	for _, test := range []func(*mail.Read) (string, bool){t.invoiceOf(item), t.inside} {
		if test != nil && item.Inside != nil {
			why, _ := test(item.Inside)
			if how := item.Inside.How(); how != "" {
				why += " (" + how + ")"
			}
			texts = append(texts, why)
		}
	}
	for _, any := range t.values {
		for i := range any {
			if allOf(any[i], item, l) != Yes {
				continue
			}
			for k := range any[i] {
				if why := any[i][k].why(item, l); !slices.Contains(texts, why) {
					texts = append(texts, why)
				}
			}
			break
		}
	}
	return strings.Join(texts, ", ")
}

func (e *entry) judge(item *mail.Item, l *looking) Answer {
	if e.all {
		return Yes
	}
	best := No
	for i := range e.tests {
		switch is := e.tests[i].judge(item, l); {
		case is == Yes:
			return Yes
		case is == NotYet || is == Unknowable && best == No:
			best = is
		}
	}
	return best
}

func (e *entry) reason(item *mail.Item, l *looking) string {
	for i := range e.tests {
		if e.tests[i].judge(item, l) == Yes {
			return e.tests[i].reason(item, l)
		}
	}
	return "every attachment"
}

// CopyTargets are the copies of the message that the rule files, by form.
func (c *Compiled) CopyTargets(f func(form CopyForm, t Target)) {
	for _, copy := range c.copies {
		f(copy.form, copy.target)
	}
}

// TakesAttachments says whether the rule takes anything but copies.
func (c *Compiled) TakesAttachments() bool {
	return c.rest != nil || slices.ContainsFunc(c.entries, func(e entry) bool { return !e.leave })
}

// Target is where the entry of a Choice files.
func (c *Compiled) Target(choice Choice) Target {
	if choice.Entry == len(c.entries) {
		return *c.rest
	}
	return c.entries[choice.Entry].target
}

// TableUse is where a rule's pattern names a table.
type TableUse struct{ Table, Place string }

// Tables lists the tables in which the rule's patterns look something up.
func (c *Compiled) Tables() []TableUse {
	var uses []TableUse
	of := func(t *Target, place string) {
		for key, p := range map[string]*pattern.Pattern{"folder": t.Folder, "name": t.Name} {
			if p == nil {
				continue
			}
			for _, u := range p.Uses() {
				if u.Field == "lookup" {
					uses = append(uses, TableUse{u.Argument, place + "." + key})
				}
			}
		}
	}
	for i := range c.entries {
		of(&c.entries[i].target, fmt.Sprintf("attachments[%d]", i))
	}
	if c.rest != nil {
		of(c.rest, "rest")
	}
	for i := range c.follow {
		f := &c.follow[i]
		of(&Target{Folder: f.Folder, Name: f.Text}, "afterwards")
		of(&Target{Name: f.Subject}, "afterwards")
	}
	for i := range c.copies {
		of(&c.copies[i].target, fmt.Sprintf("copies[%d]", i))
	}
	for i := range c.values {
		for _, p := range c.values[i].From {
			of(&Target{Name: p}, fmt.Sprintf("values[%d]", i))
		}
	}
	return uses
}

// NeedsRegister says whether a target's names hold the register number.
func (t Target) NeedsRegister() bool {
	for _, p := range []*pattern.Pattern{t.Folder, t.Name, t.Own} {
		if p == nil {
			continue
		}
		for _, u := range p.Uses() {
			if strings.HasPrefix(u.Field, "register") {
				return true
			}
		}
	}
	return false
}

// Compile checks a rule and makes it ready. zone is the service's time zone.
// The error, if any, is Problems.
func Compile(r *Rule, revision int, zone *time.Location) (*Compiled, error) {
	c := &compiler{}
	out := &Compiled{Rule: r, Revision: revision, Zone: zone, leaves: map[Default]bool{}, holds: map[Caution]bool{}}
	if out.Zone == nil {
		out.Zone = time.UTC
	}
	if strings.TrimSpace(r.Name) == "" {
		c.fail("name", "", "the rule has no name")
	}
	if strings.TrimSpace(r.Cabinet) == "" {
		c.fail("cabinet", "", "the rule names no cabinet, so it has nowhere to file")
	}
	if len(r.Look.Mailboxes) == 0 {
		c.fail("look.mailboxes", "all", "the rule names no mailbox")
	}
	if r.TimeZone != "" {
		zone, err := time.LoadLocation(r.TimeZone)
		if err != nil {
			c.fail("time zone", "Europe/Oslo", "there is no time zone %q", r.TimeZone)
		} else {
			out.Zone = zone
		}
	}
	c.read(r, out)
	c.values = out.values
	if r.Match.Every {
		out.match = &test{place: "match", sentence: "every message", answer: func(*Input) Answer { return Yes },
			why: func(*Input, Answer) string { return "the rule is for every message" }}
	} else {
		out.match = c.condition(&r.Match.Condition, "match")
	}
	for i := range r.Unless {
		out.unless = append(out.unless, c.condition(&r.Unless[i], fmt.Sprintf("unless[%d]", i)))
	}
	takes := false
	for i := range r.Attachments {
		e := c.selection(&r.Attachments[i], r, fmt.Sprintf("attachments[%d]", i))
		takes = takes || !e.leave
		out.entries = append(out.entries, e)
	}
	if r.Rest != nil && !r.Rest.Leave {
		takes = true
		t := c.target(place{r.Rest.Cabinet, r.Rest.Folder, r.Rest.Name, r.Rest.IfExists, r.Rest.Own, r.Rest.Unpack,
			r.Rest.Inner}, r, "rest")
		out.rest = &t
	}
	c.copies(r, out)
	c.afterwards(r, out)
	takes = takes || len(r.Copies) > 0
	if !takes && len(r.Afterwards) == 0 {
		c.fail("attachments", "", "the rule takes no attachment: an entry with take and folder is missing")
	}
	defaults := Defaults{SignaturePictures, DetachedSignatures, ActiveFiles, ForwardedMessages, DeliveryReports}
	if r.LeaveOut != nil {
		defaults = *r.LeaveOut
	}
	for _, d := range defaults {
		out.leaves[d] = true
	}
	cautions := Cautions{DisguisedFiles, Macros, LockedArchives, ActiveNames}
	if r.Hold != nil {
		cautions = *r.Hold
	}
	for _, h := range cautions {
		out.holds[h] = true
	}
	if len(c.problems) > 0 {
		return nil, c.problems
	}
	return out, nil
}

type compiler struct {
	problems Problems
	fields   []pattern.Field // of the rule's own values
	values   []Value
}

func (c *compiler) fail(place, meant, format string, args ...any) {
	c.problems = append(c.problems, Problem{Place: place, Text: fmt.Sprintf(format, args...), Meant: meant})
}

func (c *compiler) pattern(source string, shape pattern.Shape, place string) *pattern.Pattern {
	p, err := pattern.Parse(source, shape, c.fields...)
	var mistake *pattern.Error
	if errors.As(err, &mistake) {
		c.problems = append(c.problems,
			Problem{Place: place, Text: fmt.Sprintf("in the pattern %q, column %d: %s", source, mistake.Column, mistake.Problem),
				Meant: mistake.Meant, At: mistake.Column})
		return nil
	}
	return p
}

// place is where something goes, as a document says it.
type place struct {
	cabinet, folder, name string
	ifExists              IfExists
	own                   bool
	unpack                Unpack
	inner                 Inner
}

func (c *compiler) target(p place, r *Rule, at string) Target {
	if p.name == "" {
		p.name = "<file.stem>"
	}
	t := Target{IfExists: p.ifExists, Cabinet: p.cabinet, Unpack: p.unpack, Drop: p.inner == "drop"}
	if t.IfExists == "" {
		t.IfExists = "number"
	}
	if t.Unpack == "" {
		t.Unpack = "archive"
	}
	if t.Cabinet == "" {
		t.Cabinet = r.Cabinet
	}
	if p.inner != "" && t.Unpack == "archive" {
		c.fail(at+".inner folders", "",
			"inner folders are those of an archive that is unpacked, and nothing is unpacked here")
	}
	if strings.TrimSpace(p.folder) == "" {
		c.fail(at+".folder", "Mail/<received year>", "the folder to file in is missing")
		return t
	}
	t.Folder = c.pattern(p.folder, pattern.Folder, at+".folder")
	t.Name = c.pattern(p.name, pattern.Name, at+".name")
	if p.own {
		t.Own = c.pattern(ownFolder, pattern.Name, at+".own folder")
	}
	return t
}

// copies compiles the copies of the message. Their folder is that of the first
// entry that takes, where nothing else is said.
func (c *compiler) copies(r *Rule, out *Compiled) {
	seen := map[CopyForm]bool{}
	for i := range r.Copies {
		copy, at := &r.Copies[i], fmt.Sprintf("copies[%d]", i)
		if seen[copy.As] {
			c.fail(at+".as", "", "a copy as %s is asked for twice", copy.As)
		}
		seen[copy.As] = true
		p := place{cabinet: copy.Cabinet, folder: copy.Folder, name: copy.Name, ifExists: copy.IfExists}
		for k := range r.Attachments {
			if s := &r.Attachments[k]; p.folder == "" && s.Take != nil {
				p.folder, p.own = s.Folder, s.Own
				if p.cabinet == "" {
					p.cabinet = s.Cabinet
				}
			}
		}
		if p.folder == "" && r.Rest != nil {
			p.folder, p.own = r.Rest.Folder, r.Rest.Own
			if p.cabinet == "" {
				p.cabinet = r.Rest.Cabinet
			}
		}
		out.copies = append(out.copies, copyOf{copy.As, c.target(p, r, at)})
	}
}

func (c *compiler) selection(s *Selection, r *Rule, at string) entry {
	place := at
	e := entry{leave: s.Take == nil}
	tests, at := s.Leave, at+".leave"
	switch {
	case s.Take != nil && len(s.Leave) > 0:
		c.fail(place, "", "an entry either takes or leaves, not both")
	case s.Take == nil && len(s.Leave) == 0:
		c.fail(place, "", "the entry says neither take nor leave")
	case s.Take == nil &&
		(s.Folder != "" || s.Name != "" || s.IfExists != "" || s.Cabinet != "" || s.Unpack != "" || s.Inner != "" || s.Own):
		c.fail(place, "", "what is left has no folder and no name")
	}
	if s.Take != nil {
		tests, at = s.Take.Any, place+".take"
		e.all = s.Take.Everything
		if !e.all && len(tests) == 0 {
			c.fail(at, "everything", "the entry takes nothing; to take all attachments write: everything")
		}
		e.target = c.target(placeOf(s), r, place)
	}
	for i := range tests {
		t := &tests[i]
		e.tests = append(e.tests, c.item(t, fmt.Sprintf("%s[%d]", at, i)))
		e.kinds = e.kinds || len(t.Kind) > 0
		e.names = e.names || len(t.Kind)+len(t.Type)+len(t.Name)+len(t.NameMatches)+len(t.Extension) > 0
	}
	return e
}

func placeOf(s *Selection) place {
	return place{s.Cabinet, s.Folder, s.Name, s.IfExists, s.Own, s.Unpack, s.Inner}
}

// item compiles a test on one attachment.
func (c *compiler) item(t *ItemTest, place string) itemTest {
	var all []itemPart
	add := func(fits func(*mail.Item) bool, why func(*mail.Item) string) { all = append(all, itemPart{fits, why}) }
	var said, sizes []string
	noun := "attachments"
	if t.Inline != nil {
		want := *t.Inline
		noun = "inline pictures"
		if !want {
			noun = "attachments that are not inline"
		}
		add(func(i *mail.Item) bool { return i.Inline == want }, func(i *mail.Item) string {
			if i.Inline {
				return "inline picture"
			}
			return "not inline"
		})
	}
	if len(t.Kind) > 0 {
		kinds := make([]string, len(t.Kind))
		for i, k := range t.Kind {
			kinds[i] = plural(k)
		}
		noun = list(kinds, "and")
		if t.Inline != nil && *t.Inline {
			noun = "inline " + noun
		}
		add(func(i *mail.Item) bool {
			return slices.Contains(t.Kind, KindName(i.Kind)) || slices.Contains(t.Kind, EInvoice) && mayBeInvoice(i)
		}, func(i *mail.Item) string { return "kind " + string(i.Kind) })
	}
	if len(t.Extension) > 0 {
		said = append(said, "with the extension "+list(quoteAll(t.Extension), "or"))
		add(func(i *mail.Item) bool {
			ext := strings.TrimPrefix(i.Ext(), ".")
			return slices.ContainsFunc(t.Extension,
				func(e string) bool { return strings.EqualFold(strings.TrimPrefix(e, "."), ext) })
		}, func(i *mail.Item) string { return "extension " + strings.TrimPrefix(i.Ext(), ".") })
	}
	if len(t.Type) > 0 {
		for _, v := range t.Type {
			if _, err := path.Match(v, ""); err != nil || !strings.Contains(v, "/") {
				c.fail(place+".type", "application/pdf", "%q is not a media type", v)
			}
		}
		said = append(said, "of the type "+list(t.Type, "or"))
		add(func(i *mail.Item) bool {
			return slices.ContainsFunc(t.Type,
				func(p string) bool { ok, _ := path.Match(strings.ToLower(p), i.Type); return ok })
		}, func(i *mail.Item) string { return "type " + i.Type })
	}
	if len(t.Name) > 0 {
		said = append(said, "named "+list(t.Name, "or"))
		var like []*regexp.Regexp
		for _, n := range t.Name {
			like = append(like, wildcard(n))
		}
		which := func(i *mail.Item) int {
			name := fold(i.Name)
			return slices.IndexFunc(like, func(re *regexp.Regexp) bool { return re.MatchString(name) })
		}
		add(func(i *mail.Item) bool { return which(i) >= 0 },
			func(i *mail.Item) string { return "name is like " + t.Name[which(i)] })
	}
	if len(t.NameMatches) > 0 {
		said = append(said, "whose name matches "+list(quoteAll(t.NameMatches), "or"))
		re := c.expressions(t.NameMatches, place+".name matches")
		add(func(i *mail.Item) bool {
			return slices.ContainsFunc(re, func(re *regexp.Regexp) bool { return re.MatchString(i.Name) })
		}, func(*mail.Item) string { return "name matches" })
	}
	if t.Larger > 0 {
		sizes = append(sizes, "over "+t.Larger.String())
		add(func(i *mail.Item) bool { return i.Size > int64(t.Larger) },
			func(i *mail.Item) string { return About(i.Size) + ", over " + t.Larger.String() })
	}
	if t.Smaller > 0 {
		sizes = append(sizes, "under "+t.Smaller.String())
		add(func(i *mail.Item) bool { return i.Size < int64(t.Smaller) },
			func(i *mail.Item) string { return About(i.Size) + ", under " + t.Smaller.String() })
	}
	if t.Invoice != "" {
		said = append(said, map[Electronic]string{AnyInvoice: "that are electronic invoices",
			AddsUp: "that are electronic invoices which add up",
			Wrong:  "that are electronic invoices which do not add up"}[t.Invoice])
	}
	if len(all)+len(t.Value)+len(t.AllValues) == 0 && t.Text == nil && t.Invoice == "" {
		c.fail(place, "", "the test is empty; name a kind, an extension, a type, a name, a size, a text inside or a value")
	}
	sentence := noun
	if noun == "attachments" && len(t.Name)+len(t.NameMatches)+len(t.Extension) > 0 {
		sentence = "files"
	}
	for _, s := range append(said, sizes...) {
		sentence += " " + s
	}
	out := itemTest{sentence: sentence, parts: all}
	switch {
	case t.Invoice != "":
		out.invoice = electronic(t.Invoice)
	case slices.Contains(t.Kind, EInvoice):
		out.invoice = electronic(AnyInvoice)
		out.plain = t.Kind
	}
	if t.Text != nil {
		inside, says := c.inner(t.Text, place+".text")
		out.inside = inside
		out.sentence += " " + says
	}
	if len(t.Value) > 0 {
		checks, says := c.valueTests(t.Value, place+".value")
		out.values = append(out.values, checks)
		out.sentence += " " + says
	}
	for i := range t.AllValues {
		checks, says := c.valueTests(t.AllValues[i:i+1], fmt.Sprintf("%s.all values[%d]", place, i))
		out.values = append(out.values, checks)
		if i > 0 {
			out.sentence += " and"
		}
		out.sentence += " " + says
	}
	return out
}

// mayBeInvoice says whether a file is of a sort in which electronic invoices come: XML, or a PDF that holds it.
func mayBeInvoice(i *mail.Item) bool {
	return i.Kind == mail.PDF || strings.EqualFold(i.Ext(), ".xml") || strings.HasSuffix(i.Type, "/xml")
}

// electronic tests whether a file is an electronic invoice, or holds one.
func electronic(which Electronic) func(r *mail.Read) (why string, fits bool) {
	return func(r *mail.Read) (string, bool) {
		if r.Invoice == nil {
			return "it is not an electronic invoice", false
		}
		if len(r.Invoice.Faults) == 0 {
			return "electronic invoice " + quote(Short(r.Invoice.Number)) + ", which adds up", which != Wrong
		}
		f := r.Invoice.Faults[0]
		return "electronic invoice " + quote(Short(r.Invoice.Number)) + ", which does not add up: " + f.Text + " (" + f.Rule +
			")", which != AddsUp
	}
}

// inner compiles a test on the text inside an attachment. All keys must hold.
func (c *compiler) inner(t *InnerText, place string) (inside func(*mail.Read) (string, bool), sentence string) {
	var tests []func(*mail.Read) (string, bool)
	var said []string
	words := func(wanted []string, all bool, joint string) {
		if len(wanted) == 0 {
			return
		}
		said = append(said, "in which "+list(quoteAll(wanted), joint)+" "+
			map[bool]string{true: "stand", false: "stands"}[all && len(wanted) > 1])
		var look []string
		for _, w := range wanted {
			look = append(look, fold(w))
		}
		tests = append(tests, func(r *mail.Read) (string, bool) {
			folded := r.Folded(foldText)
			for i, w := range look {
				switch there := strings.Contains(folded, w); {
				case there && !all:
					return quote(wanted[i]) + " stands in it", true
				case !there && all:
					return quote(wanted[i]) + " does not stand in it", false
				}
			}
			return list(quoteAll(wanted), "and") + " stand in it", all
		})
	}
	words(t.Contains, false, "or")
	words(t.ContainsAll, true, "and")
	if len(t.Matches) > 0 {
		said = append(said, "in which something matches "+list(quoteAll(t.Matches), "or"))
		expressions := c.expressions(t.Matches, place+".matches")
		tests = append(tests, func(r *mail.Read) (string, bool) {
			for _, re := range expressions {
				if found := re.FindString(r.Text); found != "" {
					return quote(Short(found)) + " stands in it", true
				}
			}
			return "nothing in it matches", false
		})
	}
	if len(said) == 0 {
		c.fail(place, "", "the text to look for inside is missing: contains, contains all or matches")
	}
	return func(r *mail.Read) (string, bool) {
		var why []string
		for _, test := range tests {
			w, ok := test(r)
			if why = append(why, w); !ok {
				return w, false
			}
		}
		return strings.Join(why, ", "), true
	}, list(said, "and")
}

func plural(k KindName) string {
	if k == EInvoice {
		return "electronic invoices"
	}
	for _, row := range mail.Kinds {
		if string(row.Kind) == string(k) {
			return row.Plural
		}
	}
	return string(k)
}

// wildcard makes a folded expression of a text with * and ?.
func wildcard(s string) *regexp.Regexp {
	quoted := regexp.QuoteMeta(fold(s))
	quoted = strings.NewReplacer(`\*`, `.*`, `\?`, `.`).Replace(quoted)
	return regexp.MustCompile(`(?s)^` + quoted + `$`)
}

func (c *compiler) expressions(sources []string, place string) []*regexp.Regexp {
	var all []*regexp.Regexp
	for _, s := range sources {
		re, err := regexp.Compile("(?i)" + s)
		if err != nil {
			c.fail(place, "", "the regular expression %q cannot be read: %s", s,
				strings.TrimPrefix(err.Error(), "error parsing regexp: "))
			continue
		}
		all = append(all, re)
	}
	return all
}

// list joins words as people do: a, b or c.
func list(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

func quote(s string) string { return "“" + s + "”" }

func quoteAll(words []string) []string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = quote(w)
	}
	return quoted
}
