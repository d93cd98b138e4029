package register

import (
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/rule"
)

func TestSearchesAreReadAsPeopleTypeThem(t *testing.T) {
	day := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, zone) }
	for text, want := range map[string]Search{
		"":                                 {},
		"  gauge   tide ":                  {Words: []string{"gauge", "tide"}},
		`"water level" north`:              {Words: []string{"water level", "north"}},
		`“water level”`:                    {Words: []string{"water level"}},
		`sender:tidewatch kind:PDF`:        {Sender: []string{"tidewatch"}, Kinds: []string{"pdf"}},
		`Sender:"Oda Fenwick" sender:oda`:  {Sender: []string{"Oda Fenwick", "oda"}},
		"kind:spreadsheets":                {Kinds: []string{"spreadsheet"}},
		"since:2026-05-12 before:2026-06":  {Since: day(2026, 5, 12), Before: day(2026, 6, 1)},
		"on:2026":                          {Since: day(2026, 1, 1), Before: day(2027, 1, 1)},
		"on:2024-02":                       {Since: day(2024, 2, 1), Before: day(2024, 3, 1)},
		"filed:2026-11-23":                 {FiledSince: day(2026, 11, 23), FiledBefore: day(2026, 11, 24)},
		"larger:2MB smaller:20.5MB":        {Larger: rule.Size(2e6), Smaller: rule.Size(20.5e6)},
		`state:missing state:"taken back"`: {States: []State{Missing, TakenBack}},
		"state:all":                        {States: All},
		"without:draft note:signed":        {Without: []string{"draft"}, Note: []string{"signed"}},
		`folder:gauges/2026 rule:berth mailbox:office cabinet:harbour subject:x file:.csv`: {
			InFolder: []string{"gauges/2026"}, Rule: []string{"berth"}, Mailbox: []string{"office"},
			InCabinet: []string{"harbour"}, Subject: []string{"x"}, File: []string{".csv"}},
		"Re: 12:30 mid:x": {Words: []string{"Re:", "12:30", "mid:x"}}, // no filters of those names
		`"sender:x"`:      {Words: []string{"sender:x"}},              // in quotes it is what is looked for
		`north "water le`: {Words: []string{"north", "water le"}},     // while it is typed
	} {
		got, err := ParseSearch(text, zone)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q is read as %+v, %v; want %+v", text, got, err, want)
		}
	}
}

func TestWhatASearchCannotMeanIsSaid(t *testing.T) {
	for text, want := range map[string]string{
		"sender:":         "write what to look for after “sender:”, such as sender:tidewatch",
		"kind:paper":      "there is no kind “paper”; kinds are pdf,",
		"since:yesterday": "“since:yesterday”: a day is written as 2026-05-12",
		"on:2026-13":      "a day is written as",
		"larger:much":     "a size is a number",
		"state:lost":      "there is no state “lost”; states are filed, changed, missing",
		"state:waiting":   "there is no state “waiting”",
	} {
		_, err := ParseSearch(text, zone)
		var wrong *SearchError
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want “%s…”", text, err, want)
		}
	}
	for _, f := range Filters { // every example that is shown is one
		if _, err := ParseSearch(f.Example, zone); err != nil {
			t.Errorf("the example of %s: %v", f.Name, err)
		}
	}
}

func FuzzParseSearch(f *testing.F) {
	for _, s := range append(searches, `"`, `a:"b c" "d`, "since:2026-02-30", "larger:-1", "\x00:\xff") {
		f.Add(s)
	}
	var x Index
	x.Put(made(50, 9)...)
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseSearch(text, zone)
		if err != nil {
			var wrong *SearchError
			if !errors.As(err, &wrong) || err.Error() == "" {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		for _, w := range s.Words {
			if w == "" {
				t.Fatalf("%q looks for an empty word", text)
			}
		}
		if found := x.Find(Query{Search: s, Sort: ByFile}); found.Total > 50 || len(found.Numbers) != found.Total {
			t.Fatalf("%q finds %d of 50 lines and shows %d", text, found.Total, len(found.Numbers))
		}
	})
}

func TestPlacesAreWrittenAsColleaguesOpenThem(t *testing.T) {
	for base, want := range map[Base]Place{
		"": {},
		`\\files\harbour`: {`\\files\harbour\Gauges\2026\tide & co (2).csv`,
			"file://files/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv"},
		`\\files\harbour\`: {`\\files\harbour\Gauges\2026\tide & co (2).csv`,
			"file://files/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv"},
		`H:\harbour`: {`H:\harbour\Gauges\2026\tide & co (2).csv`,
			"file:///H:/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv"},
		`H:\`: {`H:\Gauges\2026\tide & co (2).csv`,
			"file:///H:/Gauges/2026/tide%20&%20co%20%282%29.csv"},
		"/srv/harbour files": {"/srv/harbour files/Gauges/2026/tide & co (2).csv",
			"file:///srv/harbour%20files/Gauges/2026/tide%20&%20co%20%282%29.csv"},
		"https://files.example/harbour/": {"https://files.example/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv",
			"https://files.example/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv"},
		"smb://files.example/harbour": {"smb://files.example/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv",
			"smb://files.example/harbour/Gauges/2026/tide%20&%20co%20%282%29.csv"},
	} {
		if err := base.Check(); err != nil {
			t.Errorf("%q is refused: %v", base, err)
		}
		if got := base.At("Gauges/2026/tide & co (2).csv"); got != want {
			t.Errorf("from %q: %+v, want %+v", base, got, want)
		}
	}
	if got := Base("/srv").At(""); got.Shown != "/srv" {
		t.Errorf("the cabinet itself is at %q", got.Shown)
	}
	if got := Base("https://x.example/a").At(
		"Ölhafen/#1?.pdf"); got.URL != "https://x.example/a/%C3%96lhafen/%231%3F.pdf" {
		t.Errorf("a path with odd characters: %q", got.URL)
	}
	for _, bad := range []Base{"javascript:alert(1)", "files", "http://", "data:text/html,x", "ftp://x.example", `\\`,
		"C:harbour", "mailto:a@b.example"} {
		if bad.Check() == nil {
			t.Errorf("%q is taken for an address", bad)
		}
	}
}

func TestMessagesHaveAddresses(t *testing.T) {
	for id, want := range map[string]string{
		"5003.921@marram.example": "mid:5003.921@marram.example",
		"<a b/c%d@x.example>":     "mid:a%20b%2Fc%25d@x.example", // RFC 2392, section 2: what is no part of a URL is escaped
		"":                        "",
	} {
		if got := MessageURL(id); got != want {
			t.Errorf("%q: %q, want %q", id, got, want)
		}
	}
	want := "imap://gauges%40brackwater.example@imap.brackwater.example/Filed/Tide%20gauges;UIDVALIDITY=385759045/;UID=20"
	if got := MailboxURL("gauges@brackwater.example", "imap.brackwater.example", 143, "Filed/Tide gauges", 385759045,
		20); got != want {
		t.Errorf("got %q, want %q", got, want)
	}
	if got := MailboxURL("a", "h.example", 993, "INBOX", 1,
		2); got != "imap://a@h.example:993/INBOX;UIDVALIDITY=1/;UID=2" {
		t.Errorf("got %q", got)
	}
}

func TestWhatRunsInABrowserIsShownAsText(t *testing.T) {
	for file, want := range map[string]Preview{"a.PDF": PreviewPDF, "a.jpg": PreviewPicture, "a.svg": PreviewText,
		"a.html": PreviewText, "a.csv": PreviewTable, "a.exe": PreviewNone, "a": PreviewNone, "a.docx": PreviewNone} {
		if got := PreviewOf(file, 1000); got != want {
			t.Errorf("%s is shown as %s, want %s", file, got, want)
		}
	}
	if got := PreviewOf("a.pdf", 60_000_000); got != PreviewNone {
		t.Errorf("a very large document is shown as %s", got)
	}
}
