package pattern

import (
	"encoding/json"
	"os"
	"testing"
)

// The console says the same of each field (web/src/letter/patternwords.ts). Its tests read the same file.
func TestAFieldIsSaidInWords(t *testing.T) {
	data, err := os.ReadFile("testdata/words.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases []struct{ Field, Words string }
	if err := json.Unmarshal(data, &cases); err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		p, err := Parse("<"+c.Field+">", Folder)
		if err != nil {
			t.Errorf("%s: %v", c.Field, err)
		} else if got := p.InWords(); got != c.Words {
			t.Errorf("%s is %q, want %q", c.Field, got, c.Words)
		}
	}
}

func TestAPatternIsSaidInWords(t *testing.T) {
	for written, want := range map[string]string{
		"Mail": "Mail",
		"Gauges/<received year>/<received month> <received month name>": "Gauges / year received / month received",
		"<correspondent or sender.domain>/<received year>":              "correspondent or sender’s domain / year received",
		"<received date> <file.stem>":                                   "date received, original name",
		"<register.year>-<register pad 4>":                              "year of the register-register number",
		"<received month>-<received month name>":                        "month received-month name received",
	} {
		p, err := Parse(written, Folder)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.InWords(); got != want {
			t.Errorf("%s is %q, want %q", written, got, want)
		}
	}
}

func TestEachFieldHasItsWords(t *testing.T) {
	for _, f := range Fields {
		if f.InWords() == "" {
			t.Errorf("%s has no words", f.Name)
		}
	}
}
