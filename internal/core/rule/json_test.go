package rule

import (
	"encoding/json"
	"fmt"
	"testing"
	"unicode/utf16"
)

// What is JSON is read as JSON, also where YAML would not read it.
func TestEveryJSONIsRead(t *testing.T) {
	for _, name := range []string{"Seedlings 🌱", "family 👨‍👩‍👧 at the quay", "a\\b \\ud83c is no escape", "tab\there",
		"\u007f\u0085\u009f\ufeff", "é", "\u2028 line \u2029", `quoted "so"`} {
		for _, indent := range []string{"", "\t", "  "} {
			document := map[string]any{"format": 1,
				"rules": []any{
					map[string]any{"name": name, "cabinet": "c", "match": "every message", "look": map[string]any{"mailboxes": "all"},
						"rest": map[string]any{"folder": "A"}}}}
			plain, err := json.MarshalIndent(document, "", indent)
			if err != nil {
				t.Fatal(err)
			}
			var escapes []byte // as programs write it that write ASCII only
			for _, r := range string(plain) {
				switch {
				case r < 0x80:
					escapes = append(escapes, byte(r))
				case r > 0xFFFF:
					high, low := utf16.EncodeRune(r)
					escapes = fmt.Appendf(escapes, `\u%04x\u%04X`, high, low)
				default:
					escapes = fmt.Appendf(escapes, `\u%04x`, r)
				}
			}
			for _, text := range [][]byte{plain, escapes} {
				got, err := Parse(text)
				if err != nil || len(got.Rules) != 1 || got.Rules[0].Name != name {
					t.Errorf("%s: %+v, %v", text, got, err)
				}
			}
		}
	}
	if got, err := Parse(
		[]byte(`{"format":1,"rules":[{"name":"half \ud83c of one","cabinet":"c","match":"every message","look":{"mailboxes":"all"},"rest":{"folder":"A"}}]}`)); err != nil || got.Rules[0].Name != "half \ufffd of one" {
		t.Errorf("half a character: %+v, %v", got, err)
	}
}
