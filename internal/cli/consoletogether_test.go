package cli

import (
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// Two people edit the same: the second keeps what was typed, sees both versions and chooses.
func TestTheSecondOfTwoPeopleKeepsTheirTextAndSeesBothVersions(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	barriers := barriersIn(t, b, source, "light")
	elsewhere := func(is, becomes string) {
		t.Helper()
		text := must(t, "rules", "export", "Crew lists")
		if !strings.Contains(text, is) {
			t.Fatalf("there is no %q in %s", is, text)
		}
		must(t, "rules", "save", write(t, "r.yaml", strings.Replace(text, is, becomes, 1)))
	}
	document := func() string { return string(value[client.Rule](t, "rules", "show", "Crew lists").Document) }

	b.Open(o.service.address() + "/rules/crew-lists")
	b.Sees("would be filed")
	elsewhere("folder: Crew lists", "folder: Lists of crews") // an untouched letter follows
	b.Sees("Lists of crews")

	b.Press("a folder for each message…")
	b.Press("A name that is taken: add a number")
	b.Sees("For a report that comes again and again.")
	b.Leave()
	elsewhere("folder: Lists of crews", "folder: Crews") // a touched one does not
	b.Sees("saved this while you were editing")
	b.Sees("each message in a folder of its own")
	b.Sees("What saving yours would change")
	b.Until("both versions are shown",
		`(() => { const t = document.querySelector('[role=alert]').innerText; return t.includes('folder: Crews') && t.includes('own folder: true') })()`)
	barriers("two versions of a rule")
	if strings.Contains(document(), "own folder") {
		t.Fatal("the second person's text was saved without asking")
	}
	b.Press("Keep mine")
	b.Press("Save")
	until(t, "the second person's text is saved", func() bool {
		d := document()
		return strings.Contains(d, `"own folder": true`) && strings.Contains(d, "Lists of crews")
	})

	section(b, "Safety")
	b.Press("Change the limits")
	b.Type("Files that were replaced or taken back", "444")
	must(t, "limits", "set", "--history-days", "55")
	b.Press("Save")
	b.Sees("saved this while you were editing")
	b.Until("both limits are shown",
		`(() => { const t = document.querySelector('[role=alert]').innerText; return t.includes('444') && t.includes('55') })()`)
	barriers("two versions of a setting")
	b.Press("Keep mine")
	b.Press("Save")
	until(t, "the limits are saved", func() bool { return value[client.Limits](t, "limits", "show").KeptDays == 444 })
}
