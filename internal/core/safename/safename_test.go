package safename

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestFile(t *testing.T) {
	for _, c := range []struct{ stem, ext, want string }{
		{"plan", ".pdf", "plan.pdf"},
		{"../../etc/passwd", "", "-..-etc-passwd"},
		{"Re: what?", ".pdf", "Re- what-.pdf"},
		{"  . x . ", ".csv", "x.csv"},
		{"con", ".txt", "con_.txt"},
		{"COM¹", "", "COM¹_"},
		{"nul.tar", ".gz", "nul_.tar.gz"},
		{"", ".pdf", "unnamed.pdf"},
		{"..", "", "unnamed"},
		{"a\u202egnp", ".exe", "agnp.exe"}, // right-to-left override
		{"e\u0301te\u0301", "", "été"},
		// Joiners within words and emoji stay.
		{"می\u200cخواهم", ".pdf", "می\u200cخواهم.pdf"},                     // Persian: “I want”
		{"क्\u200dष", "", "क्\u200dष"},                                     // Devanagari: half form
		{"ශ්\u200dරී ලංකා", "", "ශ්\u200dරී ලංකා"},                         // Sinhala
		{"അവന്\u200d", "", "അവന്\u200d"},                                   // Malayalam, at the end of a word
		{"👨\u200d👩\u200d👧\u200d👦 plan", "", "👨\u200d👩\u200d👧\u200d👦 plan"}, // a family
		{"👩🏽\u200d🚒❤️\u200d🔥", "", "👩🏽\u200d🚒❤️\u200d🔥"},
		{"🏴\U000E0067\U000E0062\U000E0065\U000E006E\U000E0067\U000E007F", "",
			"🏴\U000E0067\U000E0062\U000E0065\U000E006E\U000E0067\U000E007F"},
		{"\u0601 ٢٤", "", "\u0601 ٢٤"}, // a sign that is seen, though a format character
		// Stray ones, and what changes direction, go.
		{"in\u200dvoice\u200c", "", "invoice"},
		{"\u200d👩 \u200d 👧\u200d", "", "👩 👧"},
		{"می\u200c\u200c\u200d", "", "می"},
		{"a\U000E0041b\u2066c\u2069\u200e\u061c\u200b\ufeff", "", "abc"},
		{"tab\tand\nline", "", "tab and line"},
		{"x", ". p/df", ".p-df"[:0] + "x.p-df"},
	} {
		if got := File(c.stem, c.ext); got != c.want {
			t.Errorf("File(%q, %q) = %q, want %q", c.stem, c.ext, got, c.want)
		}
	}
}

// Names that differ only in what nobody sees count as the same.
func TestJoinersDoNotMakeAnotherName(t *testing.T) {
	if Fold("می\u200cخواهم.pdf") != Fold("میخواهم.pdf") {
		t.Error("a joiner makes another name")
	}
}

func TestLongNamesKeepTheirExtension(t *testing.T) {
	long := strings.Repeat("Hafenübersicht ", 40)
	got := File(long, ".tar.gz")
	if len(got) > MaxSegment || !strings.HasSuffix(got, ".tar.gz") || !utf8.ValidString(got) {
		t.Errorf("File = %d octets, %q", len(got), got)
	}
	if got := Numbered(long, ".pdf", 12); len(got) > MaxSegment || !strings.HasSuffix(got, " (12).pdf") {
		t.Errorf("Numbered = %d octets, %q", len(got), got)
	}
	flags := strings.Repeat("🇳🇴", 40) // 8 octets each: cut between them, never inside
	if got := File(flags, ""); len(got) != 248 {
		t.Errorf("cut inside a grapheme cluster: %d octets", len(got))
	}
}

func TestFold(t *testing.T) {
	for _, c := range [][2]string{{"Plan.PDF", "plan.pdf"}, {"STRASSE", "straße"}, {"e\u0301", "É"}} {
		if Fold(c[0]) != Fold(c[1]) {
			t.Errorf("%q and %q count as different names", c[0], c[1])
		}
	}
}

func TestFit(t *testing.T) {
	path := []string{strings.Repeat("a", 200), strings.Repeat("b", 100), strings.Repeat("c", 250) + ".pdf"}
	got := Fit(path, ".pdf", 240)
	if n := len(strings.Join(got, "/")); n > 240 || !strings.HasSuffix(got[2], ".pdf") || len(got) != 3 {
		t.Errorf("Fit = %d octets: %q", n, got)
	}
	if short := Fit([]string{"a", "b.pdf"}, ".pdf", 240); strings.Join(short, "/") != "a/b.pdf" {
		t.Errorf("a short path was changed: %q", short)
	}
}

func FuzzFile(f *testing.F) {
	f.Add("con.", ".p df")
	f.Add("\xff..\u200b", "...")
	f.Fuzz(func(t *testing.T, stem, ext string) {
		got := File(stem, ext)
		if got == "" || got == "." || got == ".." || len(got) > MaxSegment || !utf8.ValidString(got) ||
			strings.ContainsAny(got, Unsafe) || strings.HasSuffix(got, " ") || strings.HasSuffix(got, ".") ||
			strings.HasPrefix(got, " ") || reserved(got) {
			t.Fatalf("File(%q, %q) = %q", stem, ext, got)
		}
		if again := File(got, ""); again != got && len(got) < 200 {
			t.Fatalf("not stable: %q becomes %q", got, again)
		}
	})
}
