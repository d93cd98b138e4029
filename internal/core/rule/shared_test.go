package rule

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"
)

// The console takes conditions apart, so that each has one blank, and writes them anew (web/src/letter/document.ts).
// Its tests read the same file: what it keeps must decide as what was given.
func TestAConditionThatTheConsoleWritesAnewDecidesTheSame(t *testing.T) {
	data, err := os.ReadFile("testdata/conditions.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases []struct{ Given, Kept json.RawMessage }
	if err := json.Unmarshal(data, &cases); err != nil {
		t.Fatal(err)
	}
	senders := []string{"Oda <oda@tidewatch.example>", "Keld <keld@north.tidewatch.example>", "x@marram.example"}
	others := []string{"X-Station: 3\nTo: gauges+north@brackwater.example",
		"To: gauges@brackwater.example\nX-Station: 35", "Content-Type: application/pdf; name=plan.pdf"}
	answers := map[Answer]int{}
	for _, c := range cases {
		given, kept := matching(t, string(c.Given)), matching(t, string(c.Kept))
		n := 0
		for _, from := range senders {
			for _, subject := range []string{"Water level reading 3", "Draft", "Re: gauge station report", "Level"} {
				for _, rest := range others {
					m := message(fmt.Sprintf("From: %s\nSubject: %s\n%s", from, subject, rest), "gauge station report")
					m.Text = new(string)
					*m.Text = "gauge station report"
					if n++; n%2 == 0 {
						m.Flags = []string{`\Flagged`}
					}
					a := given.Matches(&Input{Message: m, Now: m.Received})
					b := kept.Matches(&Input{Message: m, Now: m.Received})
					if a.Answer != b.Answer {
						t.Errorf("%s: %s, %s: %s, of %s, %s", c.Given, a.Answer, c.Kept, b.Answer, from, subject)
					}
					answers[a.Answer]++
				}
			}
		}
	}
	if answers[Yes] < 20 || answers[No] < 20 {
		t.Errorf("the messages prove little: %v", answers)
	}
}
