package texts

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

func TestTheLanguageIsTheFirstThatThereIs(t *testing.T) {
	for accept, german := range map[string]bool{"de": true, "de-AT,en;q=0.5": true, "fr, de;q=0.3": true, "en, de": false,
		"en-GB": false, "": false, "xx": false, "not a list;;": false, "*": false} {
		if got := For(accept) != nil; got != german {
			t.Errorf("%q: German %v, want %v", accept, got, german)
		}
	}
}

func TestTextsAreSaidWithTheirGaps(t *testing.T) {
	german := For("de")
	for english, want := range map[string]string{
		"the rest is left":                     "der Rest bleibt dort",
		"The rest is left.":                    "Der Rest bleibt dort.",
		"inline picture of 405 B, under 20 KB": "eingebettetes Bild von 405 B, unter 20 KB",
		"Named .pdf, but it is a Windows program. Nothing was written.": "Mit Namen .pdf, aber es ist ein " +
			"Windows-Programm. Nichts wurde geschrieben.",
		"The mailbox “x” is out of reach: no server answers at a:1 (dial tcp).": "Das Postfach „x“ ist nicht " +
			"erreichbar: kein Server antwortet unter a:1 (dial tcp).",
		"tried again under the rule as it is now: the rest is left": "noch einmal versucht unter der Regel, wie sie jetzt " +
			"ist: der Rest bleibt dort",
		"For messages whose subject contains “waste”: file every attachment. Later rules do not see these messages.": "Für " +
			"Nachrichten, deren Betreff “waste” enthält: jeden Anhang ablegen. Spätere Regeln sehen diese Nachrichten nicht.",
		"there is no command “inktray rule”; did you mean “inktray rules”?": "es gibt keinen Befehl „inktray rule“; " +
			"meinten Sie „inktray rules“?",
		// What an earlier version wrote, in its words.
		"the file stays: somebody changed it since": "die Datei bleibt: Jemand hat sie seither verändert",
		"3 messages":                     "3 Nachrichten",
		"the folder “the rest is left”":  "der Ordner “the rest is left”", // a name stays
		"a text that nobody ever wrote!": "a text that nobody ever wrote!",
		"":                               "",
	} {
		if got := german.Say(english); got != want {
			t.Errorf("%q is %q, want %q", english, got, want)
		}
	}
	if got := (*Catalogue)(nil).Say("the rest is left"); got != "the rest is left" {
		t.Errorf("without a catalogue: %q", got)
	}
}

func TestHostileTextsAreSaidWithBoundedWork(t *testing.T) {
	german := For("de")
	for _, part := range []string{"; ", ". ", ": ", " and ", "the ", "in ", "whose subject contains “", "is is is ",
		"a. b; c: d, e or f and ", "from x and to y, ", "unless a and b: c; "} {
		for _, size := range []int{100, 1000, longest} {
			s := &search{german, most}
			s.find(strings.Repeat(part, size/len(part)))
			if did := most - s.left; did > most+longest {
				t.Errorf("%q, %d octets: %d octets were looked at, more than %d", part, size, did, most+longest)
			}
		}
	}
	endless := strings.Repeat("the rest is left. ", longest)
	if got := german.Say(endless); got != endless {
		t.Errorf("a text of %d octets was looked at", len(endless))
	}
}

func TestFormatsKeepTheirVerbs(t *testing.T) {
	german := For("de")
	for format, want := range map[string]string{
		"Written to %s.\n":                   "Geschrieben in %s.\n",
		"%s left the mailbox before %d.\n":   "%s left the mailbox before %d.\n", // not known
		"%[1]s is not a folder":              "%[1]s is not a folder",
		" (read from a scan, %d %% sure)":    " (aus einem Scan gelesen, zu %d %% sicher)",
		"The cabinet “%s” is %s.\n":          "Der Schrank „%s“ ist %s.\n",
		"%.1f is whole. It is of %v and %s.": "%.1f is whole. It is of %v and %s.",
	} {
		if got := german.Format(format); got != want {
			t.Errorf("%q is %q, want %q", format, got, want)
		}
	}
}

// TestEveryTextIsWhole checks that no text of the service is missing in any language, and that each has the gaps of the
// English one.
func TestEveryTextIsWhole(t *testing.T) {
	if !slices.Contains(Languages(), "de") {
		t.Fatalf("there is no German, only %q", Languages())
	}
	for _, lang := range Languages() {
		err := Each(lang, Service, func(english, said string) {
			if strings.TrimSpace(said) == "" {
				t.Errorf("%s: %q has no text", lang, english)
			}
			want, got := gap.FindAllString(english, -1), gap.FindAllString(said, -1)
			slices.Sort(want)
			slices.Sort(got)
			if !slices.Equal(want, got) {
				t.Errorf("%s: %q has the gaps %q, want %q", lang, said, got, want)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// part is a gap, a plural or a tag of a text of the console.
var part = regexp.MustCompile(`\{\w+|</?\d+/?>`)

// TestEveryTextOfTheConsoleIsWhole does the same for the console: a gap or tag that is missing would take a value, a
// link or a button from the page.
func TestEveryTextOfTheConsoleIsWhole(t *testing.T) {
	texts := 0
	for _, lang := range Languages() {
		err := Each(lang, Console, func(english, said string) {
			texts++
			if strings.TrimSpace(said) == "" {
				t.Errorf("%s: %q has no text", lang, english)
			}
			of := func(text string) []string {
				text = plural.ReplaceAllString(text, "")
				found := part.FindAllString(text, -1)
				slices.Sort(found)
				return slices.Compact(found)
			}
			if want, got := of(english), of(said); !slices.Equal(want, got) {
				t.Errorf("%s: %q has %q, want %q", lang, said, got, want)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if texts < 1500 {
		t.Errorf("only %d texts of the console were found", texts)
	}
}

// plural is one form within a plural, whose words differ between languages.
var plural = regexp.MustCompile(`(?:one|other|few|many|two|zero|=\d+) \{[^{}]*\}`)

// untold are packages whose errors no person reads: generated code, and what is there for tests.
var untold = []string{"architecture", "testbed", "faultfs", "cabinettest", "sourcetest", "demo", "texts"}

// TestEveryErrorHasAGermanText looks through the code for the texts of errors, and for each in the German file.
func TestEveryErrorHasAGermanText(t *testing.T) {
	known := map[string]bool{}
	know := func(english, _ string) { known[gap.ReplaceAllString(english, "{}")] = true }
	if err := Each("de", Service, know); err != nil {
		t.Fatal(err)
	}
	files := token.NewFileSet()
	found, missing := 0, 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		ends := func(u string) bool { return strings.HasSuffix(path, u) }
		if d.IsDir() && slices.ContainsFunc(untold, ends) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, ".gen.") {
			return nil
		}
		file, err := parser.ParseFile(files, path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			text, ok := errorText(n)
			if !ok || len(strings.Fields(text)) < 3 {
				return true
			}
			found++
			if !known[text] {
				missing++
				if missing <= 400 {
					t.Errorf("%s: %q is in no file of texts", files.Position(n.Pos()), text)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if found < 200 {
		t.Errorf("only %d texts of errors were found", found)
	}
}

// errorText is the text of an error that is made here, with gaps for its verbs.
func errorText(n ast.Node) (string, bool) {
	call, ok := n.(*ast.CallExpr)
	if !ok || len(call.Args) == 0 {
		return "", false
	}
	what, ok := call.Fun.(*ast.SelectorExpr)
	if !ok {
		return "", false
	}
	name := fmt.Sprintf("%v.%s", what.X, what.Sel.Name)
	if name != "errors.New" && name != "fmt.Errorf" {
		return "", false
	}
	text, ok := constant(call.Args[0])
	if name == "fmt.Errorf" {
		text = strings.ReplaceAll(verbs.ReplaceAllString(strings.ReplaceAll(text, "%%", "\x00"), "{}"), "\x00", "%")
	}
	return text, ok && regexp.MustCompile(`[a-z]{2}`).MatchString(strings.ReplaceAll(text, "{}", ""))
}

var verbs = regexp.MustCompile(`%(\[\d+\])?[-+# 0]*[\d*]*(\.[\d*]+)?[a-zA-Z]`)

// constant is a text in the code, or several that are put together.
func constant(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, err == nil && e.Kind == token.STRING
	case *ast.BinaryExpr:
		a, ok := constant(e.X)
		b, ok2 := constant(e.Y)
		return a + b, ok && ok2
	}
	return "", false
}

func BenchmarkSayASentence(b *testing.B) {
	german := For("de")
	for b.Loop() {
		german.Say("For messages from tidewatch.example and whose subject contains “reading” or “water level”, unless the " +
			"subject begins with “Draft”: file spreadsheets and files named *.csv in Gauges / year received / month " +
			"received, named date received, original name; file the rest in Gauges / Other / year received.")
	}
}

func TestMomentsAreSaidInTheLanguage(t *testing.T) {
	german := For("de")
	for english, want := range map[string]string{
		"2 May 2026":                         "2. Mai 2026",
		"12 October 2026, 09:05":             "12. Oktober 2026, 09:05",
		"31 December 2026, 23:59:59":         "31. Dezember 2026, 23:59:59",
		"09:00 on Tuesday 3 March 2026":      "Dienstag, 3. März 2026, 09:00 Uhr",
		"15:04 on Monday 2 January 2006":     "Montag, 2. Januar 2006, 15:04 Uhr", // the layout itself
		"31 February 2026":                   "31 February 2026",                  // no such day
		"2 May 2026 and":                     "2 May 2026 and",
		"12 May 2026, 09:05, or later today": "12 May 2026, 09:05, or later today",
	} {
		if got := german.Count(english); got != want {
			t.Errorf("%q is said as %q, want %q", english, got, want)
		}
	}
	for month := time.January; month <= time.December; month++ {
		for day := range 7 {
			at := time.Date(2026, month, 1+day, 12, 0, 0, 0, time.UTC)
			said := german.Say("The mailbox “a” has been out of reach since " + at.Format(layouts[3]) + ".")
			if want := german.exact[at.Weekday().String()]; want == "" || !strings.Contains(said, want) {
				t.Errorf("%s is not in %q", at.Weekday(), said)
			}
			if want := german.exact[month.String()]; want != "" && !strings.Contains(said, want) {
				t.Errorf("%s is not in %q", month, said)
			}
		}
	}
	if got := (*Catalogue)(nil).Count("2 May 2026"); got != "2 May 2026" {
		t.Errorf("in English it is %q", got)
	}
}
