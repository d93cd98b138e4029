package cli

import (
	"os"
	"strings"
	"testing"

	"inktray.example/inktray/client"
)

// A rule is copied, changed, exported, imported under another name, brought
// back, rehearsed on spans of mail, and removed.
func TestRulesAreCaredFor(t *testing.T) {
	openOffice(t, theLast)
	rules := value[[]client.Rule](t, "rules", "list")
	name := rules[0].Name

	if out := must(t, "rules", "copy", name); !strings.Contains(out, "“"+name+" (copy)” is a copy of “"+name+
		"”, and off") {
		t.Errorf("copy says %s", out)
	}
	exported := must(t, "rules", "export", name+" (copy)")
	if !strings.Contains(exported, "format: 1") || !strings.Contains(exported, "name: "+name+" (copy)") {
		t.Fatalf("exported is %s", exported)
	}
	file := write(t, "copy.yaml", strings.Replace(exported, "name: "+name+" (copy)", "name: Harbour levels", 1))
	out, _, code := run(t, "", "rules", "import", file, "--preview")
	if code != exitPending || !strings.Contains(out, "change  Harbour levels") ||
		!strings.Contains(out, "now  name: Harbour levels") {
		t.Errorf("by its id: %d, %s", code, out)
	}
	must(t, "rules", "import", file)
	if out := must(t, "rules", "import", file); !strings.Contains(out, "same    Harbour levels") {
		t.Errorf("the second time: %s", out)
	}

	// Without an id it is asked whether it is a rule of another name.
	var anonymous []string
	for _, line := range strings.Split(exported, "\n") {
		if strings.Contains(line, "id: ") {
			line = "  - name: Levels of the harbour"
		} else if strings.Contains(line, "name: "+name+" (copy)") || strings.Contains(line, "revision: ") {
			continue
		}
		anonymous = append(anonymous, line)
	}
	file = write(t, "anonymous.yaml", strings.Join(anonymous, "\n"))
	out, _, code = run(t, "", "rules", "import", file, "--preview")
	if code != exitPending || !strings.Contains(out, "Is it “") || !strings.Contains(out, "renamed?") {
		t.Errorf("the preview of an unknown name: %d, %s", code, out)
	}
	if _, errs, code := run(t, "", "rules", "import", file); code != exitUsage ||
		!strings.Contains(errs, "renamed? Answer with --renamed") {
		t.Errorf("without an answer: %d, %s", code, errs)
	}
	must(t, "rules", "import", file, "--renamed", "Levels of the harbour=Harbour levels")
	if all := value[[]client.Rule](t, "rules", "list"); len(all) != len(rules)+1 ||
		all[len(all)-1].Name != "Levels of the harbour" {
		t.Errorf("there are %d rules; the last is %q", len(all), all[len(all)-1].Name)
	}

	out = must(t, "rules", "revisions", "Levels of the harbour")
	for _, line := range []string{"Revision 3,", "the present one", "was  name: Harbour levels",
		"now  name: Levels of the harbour"} {
		if !strings.Contains(out, line) {
			t.Errorf("the revisions do not say %q:\n%s", line, out)
		}
	}
	if out := must(t, "rules", "bring-back", "Levels of the harbour", "2"); !strings.Contains(out,
		"“Harbour levels” is as it was in revision 2; this is revision 4.") {
		t.Errorf("bring-back says %s", out)
	}
	for _, bad := range [][]string{{"rules", "bring-back", "Harbour levels", "x"},
		{"rules", "bring-back", "Harbour levels", "99"}, {"rules", "on", "Harbour levels"},
		{"rules", "on", "Harbour levels", "--begin", "soon"}, {"rules", "remove", "Harbour levels"},
		{"rules", "rehearse", "Harbour levels", "--since", "May"}, {"rules", "draft", "x"},
		{"rules", "file-old-mail", "Harbour levels", "--from", "7 pm", "--to", "06:00"}} {
		if _, errs, code := run(t, "", bad...); code == 0 || errs == "" {
			t.Errorf("%v: %d, %s", bad, code, errs)
		}
	}

	r := value[client.Rehearsal](t, "rules", "rehearse", "Harbour levels", "--last", "10")
	there := 0 // the rule filed these, so nothing would be filed anew
	for _, m := range r.Messages {
		for _, item := range m.Items {
			if item.Verdict == "already there" {
				there++
			}
		}
	}
	if r.Looked != 10 || r.Matching == 0 || r.Files != 0 || there == 0 {
		t.Errorf("the last ten: %d looked at, %d match, %d files, %d there already", r.Looked, r.Matching, r.Files, there)
	}
	warned := false
	for _, w := range r.Warnings {
		warned = warned || strings.Contains(w.Text, "“"+name+"” files") || strings.Contains(w.Text, "“"+name+"” keeps")
	}
	if !warned {
		t.Errorf("that %s takes the same attachments is not told: %v", name, r.Warnings)
	}
	matched := r.Messages[0].Message
	for _, m := range r.Messages {
		if m.Matches {
			matched = m.Message
		}
	}
	if one := value[client.Rehearsal](t, "rules", "rehearse", "Harbour levels", "--message", itoa(matched.ID),
		"--thorough"); one.Looked != 1 || one.Matching != 1 {
		t.Errorf("one message: %+v", one)
	}
	if span := value[client.Rehearsal](t, "rules", "rehearse", "--until", matched.ReceivedAt.Format("2006-01-02"),
		"--last", "200"); span.Looked == 0 || span.Sentence != "All rules that are on, in their order." {
		t.Errorf("all rules up to a day: %d looked at, %s", span.Looked, span.Sentence)
	}
	if draft := must(t, "rules", "draft", itoa(matched.ID)); !strings.Contains(draft, "sender:") ||
		!strings.Contains(draft, "take:") {
		t.Errorf("the draft is %s", draft)
	}
	if out := must(t, "rules", "on", "Harbour levels", "--begin", "all"); !strings.Contains(out,
		"old mail is being filed") {
		t.Errorf("on says %s", out)
	}
	_, errs, code := run(t, "", "rules", "remove", "Harbour levels", "--yes")
	if code != 0 || !strings.Contains(errs, "What remains of “Harbour levels”") {
		t.Errorf("remove: %d, %s", code, errs)
	}
	if out := must(t, "messages", "list", "--unfiled", "--text", "reading"); strings.Contains(out, "error") {
		t.Errorf("unfiled messages: %s", out)
	}
}

func TestTheBookIsKept(t *testing.T) {
	openOffice(t, theLast)
	must(t, "correspondents", "list")
	proposed := value[[]client.Proposal](t, "correspondents", "proposed")
	if len(proposed) == 0 {
		t.Fatal("nobody is proposed though many write")
	}
	secrets := write(t, "passwords", "slack-water\nebb\n")
	must(t, "correspondents", "add", "Kelp & Sons", "--domain", "kelp.example,www.kelp.example", "--group",
		"Surveyors of ours", "--archive-passwords", secrets)
	list := value[[]client.Correspondent](t, "correspondents", "list")
	found := false
	for _, c := range list {
		if c.Name == "Kelp & Sons" {
			found = c.Passwords == 2 && len(c.Domains) == 2
		}
	}
	if !found {
		t.Errorf("the book has %+v", list)
	}
	must(t, "correspondents", "change", "Kelp & Sons", "--domain", "kelp.example")
	if out := must(t, "correspondents", "list"); !strings.Contains(out, "Surveyors of ours") ||
		strings.Contains(out, "www.kelp") || strings.Contains(out, "slack-water") {
		t.Errorf("after the change: %s", out)
	}
	for _, bad := range []struct {
		args []string
		says string
	}{
		{[]string{"correspondents", "add", "Nobody"}, "no address and no domain"},
		{[]string{"correspondents", "add", "Other", "--domain", "kelp.example"}, "belongs to “Kelp & Sons” already"},
		{[]string{"correspondents", "add", "Other", "--address", "no address"}, "is not an address"},
		{[]string{"correspondents", "remove", "Nobody"}, "no correspondent called"},
		{[]string{"tables", "save", "two words", secrets}, "it must have two"},
		{[]string{"tables", "show", "none"}, "no table called"},
	} {
		if _, errs, code := run(t, "", bad.args...); code == 0 || !strings.Contains(errs, bad.says) {
			t.Errorf("%v: %d, %s; want ...%s...", bad.args, code, errs, bad.says)
		}
	}
	csv := write(t, "places.csv", "ST-91;Ferry steps\nST-92;North mole\n")
	if out := must(t, "tables", "save", "places", csv); !strings.Contains(out, "has 2 rows") {
		t.Errorf("save says %s", out)
	}
	must(t, "tables", "save", "places", write(t, "more.csv", "ST-91,Ferry steps\n"))
	if out := must(t, "tables", "show", "places"); out != "ST-91,Ferry steps\n" {
		t.Errorf("the table is %q", out)
	}
	rule := write(t, "rule.yaml", "format: 1\nrules:\n  - name: By place\n    cabinet: harbour files\n    look: "+
		"{mailboxes: all}\n    match: {sender: {correspondent: [Kelp & Sons, Surveyors of ours]}}\n    attachments: "+
		"[{take: everything, folder: '<lookup places of (file.stem)>'}]\n")
	must(t, "rules", "save", rule)
	for _, used := range [][]string{{"tables", "remove", "places", "--yes"},
		{"correspondents", "remove", "Kelp & Sons", "--yes"}} {
		if _, errs, code := run(t, "", used...); code == 0 || !strings.Contains(errs, "By place") {
			t.Errorf("%v is in use: %d, %s", used, code, errs)
		}
	}
	must(t, "rules", "remove", "By place", "--yes")
	must(t, "tables", "remove", "places", "--yes")
	must(t, "correspondents", "remove", "Kelp & Sons", "--yes")
	if err := os.Remove(secrets); err != nil {
		t.Error(err)
	}
}
