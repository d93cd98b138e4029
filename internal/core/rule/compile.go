package rule

import (
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
	leaves  map[Default]bool
}

// Target is where an entry files.
type Target struct {
	Folder   *pattern.Pattern
	Name     *pattern.Pattern
	IfExists IfExists
}

type entry struct {
	leave  bool
	names  bool // it names kinds, types, names or extensions
	tests  []itemTest
	all    bool // take: everything
	target Target
}

type itemTest struct {
	sentence string
	fits     func(*mail.Item) (bool, string)
}

func (e *entry) fits(item *mail.Item) (bool, string) {
	if e.all {
		return true, "every attachment"
	}
	for i := range e.tests {
		if ok, text := e.tests[i].fits(item); ok {
			return true, text
		}
	}
	return false, ""
}

// Target is where the entry of a Choice files.
func (c *Compiled) Target(choice Choice) Target {
	if choice.Entry == len(c.entries) {
		return *c.rest
	}
	return c.entries[choice.Entry].target
}

// NeedsRegister says whether a target's names hold the register number.
func (t Target) NeedsRegister() bool {
	for _, p := range []*pattern.Pattern{t.Folder, t.Name} {
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
	out := &Compiled{Rule: r, Revision: revision, Zone: zone, leaves: map[Default]bool{}}
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
	if r.Match.Every {
		out.match = &test{place: "match", sentence: "every message", eval: func(*Input) (Answer, string) { return Yes, "the rule is for every message" }}
	} else {
		out.match = c.condition(&r.Match.Condition, "match")
	}
	for i := range r.Unless {
		out.unless = append(out.unless, c.condition(&r.Unless[i], fmt.Sprintf("unless[%d]", i)))
	}
	takes := false
	for i := range r.Attachments {
		e := c.selection(&r.Attachments[i], fmt.Sprintf("attachments[%d]", i))
		takes = takes || !e.leave
		out.entries = append(out.entries, e)
	}
	if r.Rest != nil && !r.Rest.Leave {
		takes = true
		t := c.target(r.Rest.Folder, r.Rest.Name, r.Rest.IfExists, "rest")
		out.rest = &t
	}
	if !takes {
		c.fail("attachments", "", "the rule takes no attachment: an entry with take and folder is missing")
	}
	defaults := Defaults{SignaturePictures, DetachedSignatures, ActiveFiles, ForwardedMessages}
	if r.LeaveOut != nil {
		defaults = *r.LeaveOut
	}
	for _, d := range defaults {
		out.leaves[d] = true
	}
	if len(c.problems) > 0 {
		return nil, c.problems
	}
	return out, nil
}

type compiler struct{ problems Problems }

func (c *compiler) fail(place, meant, format string, args ...any) {
	c.problems = append(c.problems, Problem{Place: place, Text: fmt.Sprintf(format, args...), Meant: meant})
}

// notThere are fields whose values are not kept yet.
var notThere = map[string]string{
	"correspondent": "correspondents; use sender.name or sender.domain", "lookup": "lookup tables", "header": "other header fields", "body": "text of the body in names",
	"file.path": "unpacking archives", "archive.stem": "unpacking archives",
}

// HasField says whether a field of the pattern language has its value in this version.
func HasField(name string) bool { return notThere[name] == "" }

func (c *compiler) pattern(source string, shape pattern.Shape, place string) *pattern.Pattern {
	p, err := pattern.Parse(source, shape)
	var mistake *pattern.Error
	if errors.As(err, &mistake) {
		c.problems = append(c.problems, Problem{Place: place, Text: fmt.Sprintf("in the pattern %q, column %d: %s", source, mistake.Column, mistake.Problem), Meant: mistake.Meant, At: mistake.Column})
		return nil
	}
	for _, u := range p.Uses() {
		if what := notThere[u.Field]; what != "" {
			c.problems = append(c.problems, Problem{Place: place, Text: fmt.Sprintf("in the pattern %q, column %d: <%s> is not there yet in this version (%s)", source, u.Column, u.Field, what), At: u.Column})
		}
	}
	return p
}

func (c *compiler) target(folder, name string, ifExists IfExists, place string) Target {
	if name == "" {
		name = "<file.stem>"
	}
	if ifExists == "" {
		ifExists = "number"
	}
	t := Target{IfExists: ifExists}
	if strings.TrimSpace(folder) == "" {
		c.fail(place+".folder", "Mail/<received year>", "it is not said in which folder to file")
		return t
	}
	t.Folder = c.pattern(folder, pattern.Folder, place+".folder")
	t.Name = c.pattern(name, pattern.Name, place+".name")
	return t
}

func (c *compiler) selection(s *Selection, place string) entry {
	e := entry{leave: s.Take == nil}
	tests, at := s.Leave, place+".leave"
	switch {
	case s.Take != nil && len(s.Leave) > 0:
		c.fail(place, "", "an entry either takes or leaves, not both")
	case s.Take == nil && len(s.Leave) == 0:
		c.fail(place, "", "the entry says neither take nor leave")
	case s.Take == nil && (s.Folder != "" || s.Name != "" || s.IfExists != ""):
		c.fail(place, "", "what is left has no folder and no name")
	}
	if s.Take != nil {
		tests, at = s.Take.Any, place+".take"
		e.all = s.Take.Everything
		if !e.all && len(tests) == 0 {
			c.fail(at, "everything", "the entry takes nothing; to take all attachments write: everything")
		}
		e.target = c.target(s.Folder, s.Name, s.IfExists, place)
	}
	for i := range tests {
		t := &tests[i]
		e.tests = append(e.tests, c.item(t, fmt.Sprintf("%s[%d]", at, i)))
		e.names = e.names || len(t.Kind)+len(t.Type)+len(t.Name)+len(t.NameMatches)+len(t.Extension) > 0
	}
	return e
}

// item compiles a test on one attachment.
func (c *compiler) item(t *ItemTest, place string) itemTest {
	type one func(*mail.Item) (bool, string)
	var all []one
	var said, sizes []string
	noun := "attachments"
	if t.Inline != nil {
		want := *t.Inline
		noun = "inline pictures"
		if !want {
			noun = "attachments that are not inline"
		}
		all = append(all, func(i *mail.Item) (bool, string) {
			if i.Inline {
				return want, "inline picture"
			}
			return !want, "not inline"
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
		all = append(all, func(i *mail.Item) (bool, string) {
			return slices.Contains(t.Kind, KindName(i.Kind)), "kind " + string(i.Kind)
		})
	}
	if len(t.Extension) > 0 {
		said = append(said, "with the extension "+list(quoteAll(t.Extension), "or"))
		all = append(all, func(i *mail.Item) (bool, string) {
			ext := strings.TrimPrefix(i.Ext(), ".")
			return slices.ContainsFunc(t.Extension, func(e string) bool { return strings.EqualFold(strings.TrimPrefix(e, "."), ext) }), "extension " + ext
		})
	}
	if len(t.Type) > 0 {
		for _, v := range t.Type {
			if _, err := path.Match(v, ""); err != nil || !strings.Contains(v, "/") {
				c.fail(place+".type", "application/pdf", "%q is no media type", v)
			}
		}
		said = append(said, "of the type "+list(t.Type, "or"))
		all = append(all, func(i *mail.Item) (bool, string) {
			return slices.ContainsFunc(t.Type, func(p string) bool { ok, _ := path.Match(strings.ToLower(p), i.Type); return ok }), "type " + i.Type
		})
	}
	if len(t.Name) > 0 {
		said = append(said, "named "+list(t.Name, "or"))
		var like []*regexp.Regexp
		for _, n := range t.Name {
			like = append(like, wildcard(n))
		}
		all = append(all, func(i *mail.Item) (bool, string) {
			name := fold(i.Name)
			for k, re := range like {
				if re.MatchString(name) {
					return true, "name is like " + t.Name[k]
				}
			}
			return false, ""
		})
	}
	if len(t.NameMatches) > 0 {
		said = append(said, "whose name matches "+list(quoteAll(t.NameMatches), "or"))
		re := c.expressions(t.NameMatches, place+".name matches")
		all = append(all, func(i *mail.Item) (bool, string) {
			return slices.ContainsFunc(re, func(re *regexp.Regexp) bool { return re.MatchString(i.Name) }), "name matches"
		})
	}
	if t.Larger > 0 {
		sizes = append(sizes, "over "+t.Larger.String())
		all = append(all, func(i *mail.Item) (bool, string) {
			return i.Size > int64(t.Larger), About(i.Size) + ", over " + t.Larger.String()
		})
	}
	if t.Smaller > 0 {
		sizes = append(sizes, "under "+t.Smaller.String())
		all = append(all, func(i *mail.Item) (bool, string) {
			return i.Size < int64(t.Smaller), About(i.Size) + ", under " + t.Smaller.String()
		})
	}
	if len(all) == 0 {
		c.fail(place, "", "the test is empty; name a kind, an extension, a type, a name or a size")
	}
	sentence := noun
	if noun == "attachments" && len(t.Name)+len(t.NameMatches)+len(t.Extension) > 0 {
		sentence = "files"
	}
	for _, s := range append(said, sizes...) {
		sentence += " " + s
	}
	return itemTest{sentence: sentence, fits: func(i *mail.Item) (bool, string) {
		var texts []string
		for _, f := range all {
			ok, text := f(i)
			if !ok {
				return false, ""
			}
			texts = append(texts, text)
		}
		return true, strings.Join(texts, ", ")
	}}
}

func plural(k KindName) string {
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
			c.fail(place, "", "the regular expression %q cannot be read: %s", s, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
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
