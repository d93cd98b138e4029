package cli

import (
	"encoding/json"
	"strings"
	"testing"

	"inktray.example/inktray/client"
)

// TestEachThingOfAListIsShownByItsName shows the first of every list by name, and compares it with the list.
func TestEachThingOfAListIsShownByItsName(t *testing.T) {
	openOffice(t, theWeeks)
	must(t, "groups", "save", "Pilots", "--mailboxes", "gauges", "--people", demoPerson)
	for group, says := range map[string]string{"mailboxes": "host", "cabinets": "folder", "correspondents": "domains",
		"notifications": "daily at", "alarms": "sentence", "people": "role", "groups": "rights all mailboxes",
		"topics": "about", "tables": "", "rules": ""} {
		var all []map[string]any
		if err := json.Unmarshal([]byte(must(t, group, "list", "--output", "json")), &all); err != nil || len(all) == 0 {
			t.Errorf("%s: %v, %d in the list", group, err, len(all))
			continue
		}
		name, _ := all[0]["name"].(string)
		shown := must(t, group, "show", strings.ToUpper(name))
		if !strings.Contains(shown, says) || says != "" && !strings.Contains(shown, name) {
			t.Errorf("%s show %s does not say %q:\n%s", group, name, says, shown)
		}
		if strings.Contains(shown, "0x") || strings.Contains(shown, "map[") || strings.Contains(shown, "{") && says != "" {
			t.Errorf("%s show %s shows what is inside of the program:\n%s", group, name, shown)
		}
		if out, errs, code := run(t, "", group, "show", "nothing of this name"); code != exitMissing || out != "" {
			t.Errorf("%s show of what is not there: %d, %s%s", group, code, out, errs)
		}
		if says == "" {
			continue
		}
		var one map[string]any
		if err := json.Unmarshal([]byte(must(t, group, "show", name, "--output", "json")), &one); err != nil ||
			one["name"] != name || len(one) != len(all[0]) {
			t.Errorf("%s show %s as JSON: %v, %v", group, name, err, one)
		}
	}
	says(t, "a message", must(t, "messages", "show", itoa(value[[]client.Message](t, "messages", "list")[0].ID)),
		"received")
}
