package cli

import (
	"fmt"
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

// Somebody who may see one mailbox learns nothing of the others by way of
// rehearsals, choices, proposals, drafts and explanations.
func TestARestrictedPersonLearnsNothingOfOtherMailboxes(t *testing.T) {
	o := openOffice(t, theLast)
	token, id := o.person("Tamsin Clerk", store.Clerk)
	boxes, err := o.service.store.Mailboxes.All(t.Context(), store.System)
	if err != nil {
		t.Fatal(err)
	}
	only := boxes[0] // berths
	if err := restrict(t, o.service.store, id, []string{only.ID}); err != nil {
		t.Fatal(err)
	}
	c, err := (&command{service: o.service.address()}).connectWith(token)
	if err != nil {
		t.Fatal(err)
	}
	everything := []byte(
		`{"name":"x","cabinet":"harbour files","look":{"mailboxes":"all"},"match":"every message","attachments":[{"take":"everything","folder":"F"}]}`)
	last, thorough := 500, true
	for name, p := range map[string]*client.RehearseRuleParams{"what is known": {}, "over the server": {Last: &last},
		"thorough": {Last: &last, Thorough: &thorough}} {
		r, err := call[client.Rehearsal](c.RehearseRule(t.Context(), p, everything))
		if err != nil || r.Looked == 0 {
			t.Fatalf("%s: %d looked at, %v", name, r.Looked, err)
		}
		for _, m := range r.Messages {
			if m.Message.Mailbox != only.Name {
				t.Errorf("%s: a message of %q is rehearsed", name, m.Message.Mailbox)
			}
		}
	}
	all, err := call[client.Rehearsal](c.RehearseAll(t.Context(), &client.RehearseAllParams{}))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range all.Messages {
		if m.Message.Mailbox != only.Name {
			t.Errorf("a message of %q is rehearsed by all rules", m.Message.Mailbox)
		}
	}
	choices, err := call[client.Choices](c.GetChoices(t.Context(), &client.GetChoicesParams{}))
	if err != nil || len(choices.Domains) == 0 {
		t.Fatal(choices, err)
	}
	for _, d := range choices.Domains {
		if strings.Contains(d.Value, "tidewatch") || strings.Contains(d.Value, "kelpmutual") {
			t.Errorf("%s, who writes to other mailboxes, is offered", d.Value)
		}
	}
	proposals, err := call[[]client.Proposal](c.ListProposals(t.Context()))
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range proposals {
		if strings.Contains(p.Domain, "saltmarsh") {
			t.Errorf("%s, who writes to other mailboxes, is proposed", p.Domain)
		}
	}
	rows, err := o.service.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 500})
	if err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, m := range rows {
		if m.MailboxID == only.ID {
			continue
		}
		tried++
		for _, path := range []string{"/api/v1/messages/%d", "/api/v1/messages/%d?thorough=true",
			"/api/v1/rules/from-message/%d"} {
			if status, _, _ := o.ask("GET", fmt.Sprintf(path, m.ID), token, ""); status != 404 {
				t.Errorf(path+" answers %d", m.ID, status)
			}
		}
		if status, _, _ := o.ask("POST", fmt.Sprintf("/api/v1/rules/rehearse?message=%d", m.ID), token,
			string(everything)); status != 404 {
			t.Errorf("a rehearsal of message %d answers %d", m.ID, status)
		}
		if tried == 3 {
			break
		}
	}
	if tried == 0 {
		t.Error("there is no message of another mailbox")
	}
	// A rule that names a mailbox says nothing of those that are there.
	missing := []byte(
		`{"name":"y","cabinet":"harbour files","look":{"mailboxes":["nowhere"]},"match":"every message","attachments":[{"take":"everything","folder":"F"}]}`)
	hidden := []byte(strings.Replace(string(missing), "nowhere", boxes[1].Name, 1))
	for _, document := range [][]byte{missing, hidden} {
		_, err := call[client.Rehearsal](c.RehearseRule(t.Context(), &client.RehearseRuleParams{}, document))
		_, addErr := call[client.Rule](c.AddRule(t.Context(), document))
		for _, err := range []error{err, addErr} {
			if err == nil || !strings.Contains(err.Error(), "there is no mailbox called") &&
				!strings.Contains(err.Error(), "this needs the role") {
				t.Errorf("a rule for another mailbox: %v", err)
				continue
			}
			for _, other := range boxes {
				if other.ID != only.ID && other.Name != boxes[1].Name && strings.Contains(err.Error(), other.Name) {
					t.Errorf("the error names “%s”: %v", other.Name, err)
				}
			}
		}
	}
	// A pass over old mail goes over the one mailbox.
	rules, err := call[[]client.Rule](o.api.ListRules(t.Context()))
	if err != nil {
		t.Fatal(err)
	}
	lastOf := func() map[string]int64 {
		found := map[string]int64{}
		rows, err := o.service.store.Passes.Find(t.Context(), store.System, store.PassQuery{Kind: "old mail", Most: 100})
		if err != nil {
			t.Fatal(err)
		}
		for i := range rows {
			found[rows[i].RuleID] = max(found[rows[i].RuleID], rows[i].ID)
		}
		return found
	}
	before := lastOf()
	for i := range rules {
		if _, err := call[client.Pass](c.FileOldMail(t.Context(), rules[i].ID, client.OldMailRequest{})); err != nil {
			t.Fatal(err)
		}
	}
	until(t, "the passes are done", func() bool {
		p, err := o.service.store.Passes.Unfinished(t.Context())
		return err == nil && len(p) == 0
	})
	for rule, id := range lastOf() {
		p, err := o.service.store.Passes.ByID(t.Context(), store.System, id)
		if err != nil || id == before[rule] {
			t.Fatal(err, id)
		}
		for _, done := range p.Position.Done {
			if !strings.HasPrefix(done, only.ID+"/") {
				t.Errorf("a pass of somebody who may see “%s” went over %s", only.Name, done)
			}
		}
		if len(p.OnlyIn) != 1 || p.OnlyIn[0] != only.ID {
			t.Errorf("the pass goes over %v", p.OnlyIn)
		}
	}
	// Drop addresses and addresses of calls are for administrators.
	if err := restrict(t, o.service.store, id, nil); err != nil {
		t.Fatal(err)
	}
	drops := 0
	seen, err := call[[]client.Mailbox](c.ListMailboxes(t.Context()))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range seen {
		if m.Kind == "drop" {
			drops++
			one, err := call[client.Mailbox](c.GetMailbox(t.Context(), m.ID))
			if err != nil || m.Address != nil || one.Address != nil || one.Word != nil {
				t.Errorf("a clerk sees the drop address %v, %v", one.Address, err)
			}
		}
	}
	told, err := call[[]client.Addressee](c.ListAddressees(t.Context()))
	if err != nil {
		t.Fatal(err)
	}
	calls := 0
	for _, a := range told {
		if a.Kind == "call" {
			calls++
			if a.URL != "" {
				t.Errorf("a clerk sees the address of a call: %s", a.URL)
			}
		}
	}
	if drops == 0 || calls == 0 {
		t.Errorf("there are %d drop addresses and %d calls to look at", drops, calls)
	}
	// Passwords of archives never come back.
	secrets := []string{"slack-water"}
	if _, err := call[client.Correspondent](o.api.AddCorrespondent(t.Context(),
		client.CorrespondentSettings{Name: "Saltmarsh Waste", Domains: &[]string{"saltmarsh.example"},
			Passwords: &secrets})); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/api/v1/correspondents", "/api/v1/rules/export"} {
		status, _, _ := o.ask("GET", path, token, "")
		if status != 200 {
			t.Errorf("%s answers %d", path, status)
		}
	}
	book, err := call[[]client.Correspondent](c.ListCorrespondents(t.Context()))
	if err != nil {
		t.Fatal(err)
	}
	if text := fmt.Sprintf("%+v", book); strings.Contains(text, "slack-water") {
		t.Error("a password comes back")
	}
}

// Two people who change the same thing do not overwrite each other.
func TestAnOldRevisionOfTheBookIsRefused(t *testing.T) {
	o := openOffice(t, theLast)
	for _, k := range []struct{ path, first, second string }{
		{"/api/v1/correspondents", `{"name":"Quayside","domains":["quayside.example"]}`,
			`{"name":"Quayside Ltd","domains":["quayside.example"]}`},
		{"/api/v1/tables", `{"name":"quays","rows":[{"key":"a","value":"quay A"}]}`, `{"name":"quays","rows":[]}`},
	} {
		status, _, made := o.ask("POST", k.path, o.token, k.first)
		if status != 201 {
			t.Fatalf("%s answers %d: %v", k.path, status, made)
		}
		path := k.path + "/" + made["id"].(string)
		if status, _, answer := o.ask("PUT", path, o.token, k.second, "If-Match", `"1"`); status != 200 {
			t.Errorf("the first change answers %d: %v", status, answer)
		}
		if status, _, answer := o.ask("PUT", path, o.token, k.first, "If-Match", `"1"`); status != 412 {
			t.Errorf("a change of an old revision answers %d: %v", status, answer)
		}
		if status, _, answer := o.ask("POST", k.path, o.token, k.second); status != 422 {
			t.Errorf("the same name again answers %d: %v", status, answer)
		}
		if status, _, _ := o.ask("DELETE", path, o.token, ""); status != 204 {
			t.Errorf("removing answers %d", status)
		}
		if status, _, _ := o.ask("DELETE", path, o.token, ""); status != 404 {
			t.Errorf("removing again answers %d", status)
		}
	}
}

func TestNothingIsKeptOfAnImportOrASwitchThatCannotBe(t *testing.T) {
	o := openOffice(t, theLast)
	before := len(value[[]client.Rule](t, "rules", "list"))
	one := "  - {name: %s, cabinet: harbour files, look: {mailboxes: all}, match: every message, attachments: [{take: " +
		"everything, folder: F}]}\n"
	for name, second := range map[string]string{"a name twice": "Fresh", "a taken name": "crew lists, id: another-id"} {
		file := write(t, "rules.yaml", "format: 1\nrules:\n"+fmt.Sprintf(one, "Fresh")+fmt.Sprintf(one, second))
		if _, errs, code := run(t, "", "rules", "import", file, "--renamed", "Fresh="); code != exitInvalid ||
			!strings.Contains(errs, "there is another rule called") {
			t.Errorf("%s: %d, %s", name, code, errs)
		}
	}
	if after := len(value[[]client.Rule](t, "rules", "list")); after != before {
		t.Errorf("there were %d rules and are %d", before, after)
	}
	must(t, "rules", "off", "Crew lists")
	if status, _, answer := o.ask("POST", "/api/v1/rules/crew-lists/on", o.token,
		`{"old_mail":{"from":"7 pm","to":"06:00"}}`); status != 422 {
		t.Errorf("odd hours answer %d: %v", status, answer)
	}
	if value[client.Rule](t, "rules", "show", "Crew lists").Running {
		t.Error("the rule is on though its old mail cannot be filed so")
	}
	_, header, _ := o.ask("GET", "/api/v1/rules/export", o.token, "")
	if got := header.Get("Content-Disposition"); got != `attachment; filename="rules.yaml"` {
		t.Errorf("the exported file is sent as %q", got)
	}
}

// restrict lets a person see some mailboxes only, by id.
func restrict(t *testing.T, s *store.Store, person string, mailboxes []string) error {
	t.Helper()
	p, err := s.People.ByID(t.Context(), person)
	if err != nil {
		return err
	}
	return s.People.Change(t.Context(), &p,
		store.Rights{AllMailboxes: mailboxes == nil, AllCabinets: true, Mailboxes: mailboxes}, nil, 0, "test")
}
