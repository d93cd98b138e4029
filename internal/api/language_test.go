package api

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"inktray.example/inktray/internal/texts"
)

func TestOnlyTextsOfInkTrayAreSaidInALanguage(t *testing.T) {
	spec, err := openapi3.NewLoader().LoadFromFile("openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	all := sayings(spec)
	german := texts.For("de")
	for _, c := range []struct{ operation, answer, want string }{
		{"", `{"detail": "the name is taken", "status": 409, "title": "the name is taken"}`,
			`{"detail":"der Name ist vergeben","status":409,"title":"the name is taken"}`},
		{"GetRule 200", `{"sentence": "the rest is left", "document": {"name": "the rest is left", "match": {"words": ` +
			`{"any": ["rule", "the rest is left"]}}, "afterwards": [{"reply": {"text": "the rest is left and the file is ` +
			`empty"}}], "attachments": [{"take": [{"text": {"contains": ["message"]}}]}]}}`,
			`{"document":{"afterwards":[{"reply":{"text":"the rest is left and the file is empty"}}],"attachments":` +
				`[{"take":[{"text":{"contains":["message"]}}]}],"match":{"words":{"any":["rule","the rest is left"]}},` +
				`"name":"the rest is left"},"sentence":"der Rest bleibt dort"}`},
		{"ExportTopic 200", `{"examples": [{"text": "the rest is left", "subject": "a list"}]}`,
			`{"examples":[{"subject":"a list","text":"the rest is left"}]}`},
		{"GetLanguage 200", `{"words": [{"words": "subject", "name": "subject"}]}`,
			`{"words":[{"name":"subject","words":"Betreff"}]}`},
		{"ListTray 200", `{"groups": [{"title": "In doubt", "count": 12345678901234567890}]}`,
			`{"groups":[{"count":12345678901234567890,"title":"Im Zweifel"}]}`},
	} {
		if all[c.operation] == nil {
			t.Errorf("%q: nothing is known of its answers", c.operation)
			continue
		}
		var value any
		reading := json.NewDecoder(strings.NewReader(c.answer))
		reading.UseNumber()
		if err := reading.Decode(&value); err != nil {
			t.Fatal(err)
		}
		got, err := json.Marshal(all[c.operation].say(german, value))
		if err != nil || string(got) != c.want {
			t.Errorf("%s:\n got %s, %v\nwant %s", c.operation, got, err, c.want)
		}
	}
}

// TestWhatIsWrittenBackHasNoTextOfInkTray checks that nothing that a request can contain is marked: it would come back
// in the language of who asked.
func TestWhatIsWrittenBackHasNoTextOfInkTray(t *testing.T) {
	spec, err := openapi3.NewLoader().LoadFromFile("openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	seen := map[*saying]bool{}
	var marked func(at string, s *saying)
	marked = func(at string, s *saying) {
		if s == nil || seen[s] {
			return
		}
		seen[s] = true
		if s.here {
			t.Errorf("%s is marked with x-said, and a request can contain it", at)
		}
		marked(at+"[]", s.items)
		marked(at+"{}", s.every)
		for name, property := range s.props {
			marked(at+"."+name, property)
		}
	}
	bodies := 0
	known := map[*openapi3.Schema]*saying{}
	for path, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			if operation.RequestBody == nil {
				continue
			}
			for _, content := range operation.RequestBody.Value.Content {
				bodies++
				marked(method+" "+path, sayingOf(content.Schema, known))
			}
		}
	}
	if bodies < 50 {
		t.Errorf("only %d requests with a body were found", bodies)
	}
}
