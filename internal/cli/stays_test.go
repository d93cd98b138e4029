package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// settings is everything that somebody set, as paths and values, read through the service's own answers.
func (o *office) settings() map[string]string {
	o.t.Helper()
	all := map[string]string{}
	var flatten func(path string, v any)
	flatten = func(path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			name, _ := v["name"].(string)
			for key, is := range v {
				flatten(path+"/"+key, is)
			}
			if name != "" {
				all[path] = "there"
			}
		case []any:
			for i, is := range v {
				at := fmt.Sprint(i)
				if m, ok := is.(map[string]any); ok {
					if name, ok := m["name"].(string); ok {
						at = name
						all[path+"/order/"+fmt.Sprint(i)] = name
					}
				}
				flatten(path+"/"+at, is)
			}
		default:
			all[path] = fmt.Sprint(v)
		}
	}
	for _, what := range []string{"mailboxes", "cabinets", "rules", "correspondents", "tables", "topics", "addressees",
		"alarms", "people", "groups", "outgoing", "limits", "trust", "scans", "register/verification", "register/language",
		"backup", "sign-in"} {
		request, err := http.NewRequestWithContext(o.t.Context(), "GET", o.service.address()+"/api/v1/"+what, nil)
		if err != nil {
			o.t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+o.token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			o.t.Fatal(err)
		}
		data, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		var v any
		if err != nil || answer.StatusCode != 200 || json.Unmarshal(data, &v) != nil {
			o.t.Fatalf("%s: %v %d %s", what, err, answer.StatusCode, data)
		}
		flatten(what, v)
	}
	for path := range all { // what changes by itself
		last := path[strings.LastIndex(path, "/")+1:]
		if slices.Contains([]string{"state", "looked", "looked_at", "next", "since", "size", "delay", "checked", "revision",
			"changed", "when", "connections", "told_at"}, last) {
			delete(all, path)
		}
	}
	return all
}

// TestWhatIsNotNamedStaysAsItIs gives one setting to every command that changes settings, and compares all of them
// before and after: only what was named may differ. A command that is not in the table makes the test fail.
func TestWhatIsNotNamedStaysAsItIs(t *testing.T) {
	o := openOffice(t, theLast)
	must(t, "alarms", "reach", "Files away", "--cabinet", "harbour files", "--after-minutes", "120", "--tell", "Duty desk")
	must(t, "outgoing", "set", "--name", "The harbour office", "--console", "https://tray.brackwater.example")
	must(t, "groups", "save", "Berth office")
	must(t, "people", "invite", "Rowan Tidd", "--groups", "Berth office", "--cabinets", "harbour files")
	must(t, "backup", "plan", "--folder", filepath.Join(t.TempDir(), "b"), "--passphrase-file",
		write(t, "p", "seven gulls on a cold mole"))
	must(t, "backup", "make")
	t.Setenv("INKTRAY_SECRET", "shared")
	must(t, "sign-in-rules", "set", "--issuer", o.authority.Issuer(), "--client", "inktray", "--roles", "it=clerk")
	one := must(t, "rules", "export", "Tide gauge readings")
	all := must(t, "rules", "export")
	edited := func(text, is, becomes string) string {
		t.Helper()
		if !strings.Contains(text, is) {
			t.Fatalf("there is no %q in\n%s", is, text)
		}
		return write(t, "rules.yaml", strings.Replace(text, is, becomes, 1))
	}
	names := func() (all []string) {
		for _, r := range value[[]map[string]any](t, "rules", "list") {
			all = append(all, r["name"].(string))
		}
		return
	}
	rules := names()
	table := value[[]map[string]any](t, "tables", "list")[0]["name"].(string)
	person := value[[]map[string]any](t, "correspondents", "list")[0]["name"].(string)
	mailbox := ""
	for _, m := range value[[]map[string]any](t, "mailboxes", "list") {
		if m["kind"] == "imap" && mailbox == "" {
			mailbox = m["name"].(string)
		}
	}
	tried := map[string]bool{
		"messages change":   true, // moves or marks it at the mail server
		"machines change":   true, // TestSeveralMachinesAreOneOffice
		"mailboxes address": true, // gives a new one
		"backup save":       true, // changes nothing here
		"cabinets change":   true, // TestCabinetsOfEveryKind
	}
	for _, c := range []struct {
		args    []string
		changes []string // of the paths that may differ, how they begin
	}{
		{[]string{"mailboxes", "change", mailbox, "--interval", "77"}, []string{"mailboxes/" + mailbox + "/interval"}},
		{[]string{"cabinets", "address", "harbour files", "file:///srv/files/"}, []string{"cabinets/harbour files/address"}},
		{[]string{"correspondents", "change", person, "--group", "watched"},
			[]string{"correspondents/" + person + "/groups"}},
		{[]string{"tables", "save", table, write(t, "t.csv", "a,b\n1,2\n")}, []string{"tables/" + table}},
		{[]string{"outgoing", "set", "--name", "Harbour"}, []string{"outgoing/name"}},
		{[]string{"outgoing", "set", "--console", "https://other.brackwater.example"}, []string{"outgoing/console"}},
		{[]string{"outgoing", "set", "--from", "desk@brackwater.example"}, []string{"outgoing/from"}},
		{[]string{"notifications", "change", "Duty desk", "--tray", "at once"}, []string{"addressees/Duty desk/tray"}},
		{[]string{"notifications", "change", "Duty desk", "--daily-at", "07:15"}, []string{"addressees/Duty desk/daily_at"}},
		{[]string{"alarms", "reach", "Files away", "--after-minutes", "90"},
			[]string{"alarms/Files away/after_minutes", "alarms/Files away/sentence"}},
		{[]string{"alarms", "silence", "No tide readings", "--at-least", "4"},
			[]string{"alarms/No tide readings/at_least", "alarms/No tide readings/sentence"}},
		{[]string{"limits", "set", "--kept-days", "31"}, []string{"limits/kept_days"}},
		{[]string{"people", "change", "Rowan Tidd", "--role", "clerk"}, []string{"people/Rowan Tidd/role"}},
		{[]string{"people", "change", "Rowan Tidd", "--mailboxes", mailbox},
			[]string{"people/Rowan Tidd/rights/all_mailboxes", "people/Rowan Tidd/rights/mailboxes"}},
		{[]string{"people", "change", "Rowan Tidd", "--mail", "rowan@brackwater.example"},
			[]string{"people/Rowan Tidd/mail"}},
		{[]string{"groups", "save", "Berth office", "--cabinets", "all"},
			[]string{"groups/Berth office/rights/all_cabinets"}},
		{[]string{"groups", "save", "Berth office", "--people", ""},
			[]string{"groups/Berth office/people", "people/Rowan Tidd/groups"}},
		{[]string{"trust", "set", "--replies=false"}, []string{"trust/replies", "rules/Insurance certificates/notes/"}},
		{[]string{"trust", "set", "--correspondents"}, []string{"trust/correspondents"}},
		{[]string{"scans", "set", "--pages", "3"}, []string{"scans/pages"}},
		{[]string{"scans", "set", "--read=false"}, []string{"scans/read"}},
		{[]string{"register", "verify", "--every", "45"}, []string{"register/verification/"}},
		{[]string{"register", "columns", "number", "subject"}, []string{"register/language/"}},
		{[]string{"backup", "plan", "--keep", "9"}, []string{"backup/keep"}},
		{[]string{"backup", "plan", "--at", "04:15"}, []string{"backup/at"}},
		{[]string{"sign-in-rules", "set", "--name", "Brackwater"}, []string{"sign-in/office/name"}},
		{[]string{"sign-in-rules", "set", "--make-people"}, []string{"sign-in/office/make_people"}},
		{[]string{"apply", edited(all, "format: 1", "format: 1"), "--yes"}, nil},
		{[]string{"rules", "save", edited(one, "Tide gauge readings", "Tide gauge readings")}, nil},
		{[]string{"rules", "save", edited(one, "<received year>", "<received year>/<received month>")},
			[]string{"rules/Tide gauge readings/"}},
		{[]string{"rules", "order", rules[len(rules)-1]}, []string{"rules/order/", "rules/" /* each says its place */}},
		{[]string{"apply", write(t, "m.yaml", "format: 1\nmailboxes:\n  - {name: "+mailbox+", interval: 99}\n"), "--yes"},
			[]string{"mailboxes/" + mailbox + "/interval"}},
	} {
		tried[c.args[0]], tried[c.args[0]+" "+c.args[1]] = true, true
		label := strings.Join(c.args[:min(len(c.args), 5)], " ")
		before := o.settings()
		out, errs, code := run(t, "", c.args...)
		if code != 0 {
			t.Errorf("inktray %s: %d, %s", label, code, errs)
			continue
		}
		after := o.settings()
		touched := false
		for path := range mergedKeys(before, after) {
			if before[path] == after[path] {
				continue
			}
			touched = true
			if !slices.ContainsFunc(c.changes, func(p string) bool { return strings.HasPrefix(path, p) }) {
				t.Errorf("inktray %s changed %s from %q to %q", label, path, before[path], after[path])
			}
		}
		if !touched && c.changes != nil {
			t.Errorf("inktray %s changed nothing: %s", label, out)
		}
	}
	var visit func(c *cobra.Command, path string)
	visit = func(c *cobra.Command, path string) {
		for _, sub := range c.Commands() {
			name := strings.TrimSpace(path + " " + sub.Name())
			visit(sub, name)
			if slices.Contains([]string{"set", "change", "save", "apply", "order", "silence", "reach", "columns", "address"},
				sub.Name()) && !tried[name] {
				t.Errorf("inktray %s is not tried", name)
			}
		}
	}
	visit((&command{}).root(), "")
}

func mergedKeys(a, b map[string]string) map[string]bool {
	all := map[string]bool{}
	for k := range a {
		all[k] = true
	}
	for k := range b {
		all[k] = true
	}
	return all
}
