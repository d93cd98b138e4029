package rule

import (
	"strings"
	"testing"
	"time"
)

const withSteps = `
name: Tide gauge readings
cabinet: files
look: {mailboxes: gauges}
match: every message
attachments:
  - take: everything
    folder: Gauges
afterwards:
  - move: Filed/<received year>
  - {mark: [read, flagged], label: Filed}
  - remove label: [To file, Urgent]
  - reply: {text: "Thank you for\n<filed.list>", once in: 30 days}
  - draft: {subject: Question, text: Dear <sender.name>}
  - tell: {who: [Harbour office, Archive]}
`

func TestFollowUpsAreReadOrderedAndSaid(t *testing.T) {
	r, err := ParseRule([]byte(withSteps))
	if err != nil {
		t.Fatal(err)
	}
	c, err := Compile(r, 1, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, f := range c.FollowUps() {
		kinds = append(kinds, string(f.Kind))
	}
	if got, want := strings.Join(kinds, " "), "mark mark label remove label reply draft tell move"; got != want {
		t.Errorf("the follow-ups are %s, want %s", got, want)
	}
	said := c.Sentence()
	for _, want := range []string{"Afterwards mark the message read, mark the message flagged", "label it “Filed”",
		"take off the label “To file” and “Urgent”", "reply to the sender, at most once in 30 days",
		"a reply to the sender among the drafts", "tell Harbour office and Archive", "move it to “Filed/<received year>”"} {
		if !strings.Contains(said, want) {
			t.Errorf("the sentence %q does not say %q", said, want)
		}
	}
	text, err := YAML(r)
	if err != nil {
		t.Fatal(err)
	}
	again, err := ParseRule(text)
	if err != nil {
		t.Fatalf("what was written cannot be read: %v\n%s", err, text)
	}
	if lines := Compare(r, again); len(lines) == 0 || Alike(r, again) != 1 {
		t.Errorf("writing and reading changed the rule:\n%s", text)
	}
	if who := r.Addressees(); len(who) != 2 || who[1].Name != "Archive" || who[1].Place != "afterwards[5].tell.who" {
		t.Errorf("who is told: %+v", who)
	}
}

func TestMistakesInFollowUpsAreToldAtTheirPlace(t *testing.T) {
	for name, c := range map[string]struct{ steps, place, says string }{
		"nothing to do":            {"[{}]", "afterwards[0]", "says nothing to do"},
		"two moves":                {"[{move: A}, {move: B}]", "afterwards[1].move", "moves the message twice"},
		"a label no server keeps":  {"[{label: Überfällig}]", "afterwards[0].label", "plain letters"},
		"a label with a bracket":   {"[{label: \"a(b\"}]", "afterwards[0].label", "plain letters"},
		"a system flag as a label": {"[{label: \"\\\\Seen\"}]", "afterwards[0].label", "write mark"},
		"on and off":               {"[{label: Filed}, {remove label: Filed}]", "afterwards[1].remove label", "wants both"},
		"read and unread":          {"[{mark: [read, unread]}]", "afterwards[0].mark", "wants both"},
		"an unknown mark":          {"[{mark: red}]", "afterwards[0].mark", "not known here"},
		"nobody told":              {"[{tell: {who: []}}]", "afterwards[0].tell.who", "the notification is missing"},
		"a field of one attachment": {"[{reply: {text: <file.stem>}}]", "afterwards[0].reply.text",
			"belongs to one attachment"},
		"a field that is gone":   {"[{reply: {text: <body>}}]", "afterwards[0].reply.text", "no longer known"},
		"an unknown field":       {"[{tell: {who: X, subject: <sendr.name>}}]", "afterwards[0].tell.subject", "no field"},
		"a list as a folder":     {"[{move: <filed.list>}]", "afterwards[0].move", "for texts"},
		"a reply without a text": {"[{reply: {subject: x}}]", "afterwards[0].reply", "\"text\" is missing"},
	} {
		head, _, _ := strings.Cut(withSteps, "afterwards:")
		r, err := ParseRule([]byte(head + "afterwards: " + c.steps))
		if err == nil {
			_, err = Compile(r, 1, time.UTC)
		}
		problems, _ := err.(Problems)
		found := false
		for _, p := range problems {
			found = found || strings.HasPrefix(p.Place, c.place) && strings.Contains(p.Text, c.says)
		}
		if !found {
			t.Errorf("%s: %v; want %s: ...%s...", name, err, c.place, c.says)
		}
	}
}

func TestARuleMayOnlyLabel(t *testing.T) {
	r, err := ParseRule([]byte("name: Lists\ncabinet: files\nlook: {mailboxes: all}\nmatch: {subject: {contains: " +
		"digest}}\nafterwards: {label: Digest}"))
	if err != nil {
		t.Fatal(err)
	}
	c, err := Compile(r, 1, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	if said := c.Sentence(); !strings.Contains(said, "file nothing. Afterwards label it “Digest”.") ||
		c.TakesAttachments() {
		t.Errorf("it says %q", said)
	}
}
