package pattern

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// The console shows the fields of a pattern one by one (web/src/letter/pattern.ts). Its tests read the same file.
func TestTheConsoleSeesTheFieldsOfAPattern(t *testing.T) {
	data, err := os.ReadFile("testdata/pieces.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases []struct {
		Pattern string
		Wrong   bool
		Pieces  []struct {
			Text  *string
			Field *string
		}
	}
	if err := json.Unmarshal(data, &cases); err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		p, err := Parse(c.Pattern, Folder)
		if c.Wrong != (err != nil) {
			t.Errorf("%s: %v", c.Pattern, err)
		}
		fields, texts := 0, ""
		for _, one := range c.Pieces {
			if one.Field == nil {
				texts += *one.Text
				continue
			}
			fields++
			if _, err := Parse("<"+*one.Field+">", Folder); err != nil && !c.Wrong {
				t.Errorf("%s: the field <%s>: %v", c.Pattern, *one.Field, err)
			}
		}
		if c.Wrong || err != nil {
			continue
		}
		gotFields, gotTexts := 0, []string{}
		for _, segment := range p.segments {
			text := ""
			for _, one := range segment {
				text += one.text
				if one.choice != nil {
					gotFields++
				}
			}
			gotTexts = append(gotTexts, text)
		}
		if gotFields != fields || strings.Join(gotTexts, "/") != texts {
			t.Errorf("%s has %d fields and the text %q, the file says %d and %q", c.Pattern, gotFields,
				strings.Join(gotTexts, "/"), fields, texts)
		}
	}
}
