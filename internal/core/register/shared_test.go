package register

import (
	"encoding/json"
	"os"
	"reflect"
	"testing"
	"time"
)

// The console takes searches apart to offer their filters, and writes them anew (web/src/pages/search.ts). Its tests
// read the same file: what it writes must mean what was typed.
func TestASearchThatTheConsoleWritesAnewMeansTheSame(t *testing.T) {
	data, err := os.ReadFile("testdata/searches.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases []struct {
		Text, Written string
		Parts         []struct{ Name, Value string }
	}
	if err := json.Unmarshal(data, &cases); err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		typed, err := ParseSearch(c.Text, time.UTC)
		if err != nil {
			t.Errorf("%q: %v", c.Text, err)
		}
		written, err := ParseSearch(c.Written, time.UTC)
		if err != nil || !reflect.DeepEqual(typed, written) {
			t.Errorf("%q means %+v, %q means %+v, %v", c.Text, typed, c.Written, written, err)
		}
		pieces := 0
		for _, p := range split(c.Text) {
			if p.text != "" {
				pieces++
			}
		}
		if pieces != len(c.Parts) {
			t.Errorf("%q has %d parts, the file says %d", c.Text, pieces, len(c.Parts))
		}
	}
}
