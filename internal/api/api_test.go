package api

import (
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/store"
)

func TestPasswordsAreKeptAsArgon2id(t *testing.T) {
	hash := HashPassword("slack water")
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") {
		t.Errorf("the hash is %s", hash)
	}
	if HashPassword("slack water") == hash {
		t.Error("two hashes of one password are the same: there is no salt")
	}
	for password, want := range map[string]bool{"slack water": true, "Slack water": false, "": false,
		"slack water ": false} {
		if got := passwordFits(hash, password); got != want {
			t.Errorf("%q fits: %v, want %v", password, got, want)
		}
	}
	for _, broken := range []string{"", "$", "$argon2id$v=19$m=x,t=2,p=1$YQ$YQ", "$argon2id$v=19$m=19456,t=2,p=1$!$YQ",
		"$argon2id$v=19$m=19456,t=2,p=1$YQ$!"} {
		if passwordFits(broken, "slack water") {
			t.Errorf("the broken hash %q fits", broken)
		}
	}
}

func TestTheThrottleGrowsAndForgives(t *testing.T) {
	now := time.Date(2026, 5, 12, 6, 0, 0, 0, time.UTC)
	th := newThrottle(func() time.Time { return now })
	for i := range 2 {
		th.failed("ines", freeTries)
		if wait := th.wait("ines"); wait > 0 {
			t.Errorf("after %d failures there is a wait of %v", i+1, wait)
		}
	}
	last := time.Duration(0)
	for i := range 12 {
		th.failed("ines", freeTries)
		wait := th.wait("ines")
		if wait < last || wait <= 0 || wait > 15*time.Minute {
			t.Errorf("after %d failures the wait is %v, it was %v", i+3, wait, last)
		}
		last = wait
	}
	if last != 15*time.Minute {
		t.Errorf("the longest wait is %v", last)
	}
	if wait := th.wait("oda"); wait != 0 {
		t.Errorf("somebody else has to wait %v", wait)
	}
	if now = now.Add(-48 * time.Hour); th.wait("ines") > longestWait {
		t.Error("a clock that was put back keeps somebody out for days")
	}
	now = now.Add(48*time.Hour + 16*time.Minute)
	if wait := th.wait("ines"); wait > 0 {
		t.Errorf("after the wait there is another of %v", wait)
	}
	th.succeeded("ines")
	th.failed("ines", freeTries)
	if wait := th.wait("ines"); wait > 0 {
		t.Errorf("a success did not forgive: %v", wait)
	}
	for i := range 10_100 {
		th.failed(fmt.Sprint("guess ", i), freeTries)
	}
	if n := len(th.tries); n > mostTries {
		t.Errorf("%d names are remembered: somebody who tries many fills the memory", n)
	}
}

func TestErrorsBecomeProblemsThatAPersonUnderstands(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		kind   string
		says   string
	}{
		{store.ErrNotFound, 404, "not-found", "nothing of that name"},
		{fmt.Errorf("reading: %w", store.ErrTaken), 409, "taken", "taken already"},
		{store.ErrChanged, 412, "changed", "another person changed it"},
		{engine.ErrMissing, 404, "file-gone", "no longer where it was filed"},
		{fmt.Errorf("reading: %w", engine.ErrGone), 404, "message-gone", "no longer in its folder"},
		{engine.ErrRenumbered, 503, "busy", "numbered this folder anew"},
		{engine.ErrGaveNothing, 502, "mailbox", "gave nothing for a part"},
		{&unpack.Error{Problem: "the file is broken"}, 422, "unreadable", "the file is broken"},
		{&store.Trouble{Problem: "the disk that holds Ink Tray's records is full", Full: true,
			Err: errors.New("SQLITE_FULL")}, 503, "records", "disk that holds Ink Tray's records is full"},
		{&fs.PathError{Op: "write", Path: "/var/lib/x", Err: syscall.ENOSPC}, 507, "no-room", "no room left on Ink Tray's " +
			"own disk"},
		{&engine.MailboxError{Step: "sign-in", Problem: "refused", Advice: "Check it."}, 502, "mailbox", "sign-in: refused"},
		{&engine.CabinetError{Problem: "full", Advice: "Make room."}, 422, "cabinet", "full"},
		{rule.Problems{{Place: "name", Text: "no name"}, {Place: "x", Text: "y"}}, 422, "invalid-rule",
			"no name (and 1 more)"},
		{errors.New("SELECT secret FROM mailboxes failed at /var/lib"), 500, "failure", "something went wrong inside"},
	} {
		p := explain(c.err)
		if p.status != c.status || p.kind != c.kind || !strings.Contains(p.text, c.says) {
			t.Errorf("%v becomes %d %s %q, want %d %s ...%q...", c.err, p.status, p.kind, p.text, c.status, c.kind, c.says)
		}
		if strings.Contains(p.text+p.advice, "SELECT") || strings.Contains(p.text, "/var/") {
			t.Errorf("%v tells what is inside: %q", c.err, p.text)
		}
	}
}

// Every kind of fault that a validator finds is said in a sentence, and none in its own words.
func TestFaultsOfARequestAreSentences(t *testing.T) {
	for want, k := range map[string]jsonschema.ErrorKind{
		"this is missing: host": &kind.Required{Missing: []string{"host"}},
		"these are not known here: a, b": &kind.AdditionalProperties{
			Properties: []string{"a", "b"}},
		"this must be a text or a list, not a number": &kind.Type{Got: "number",
			Want: []string{"string", "array"}},
		"“abc” is not a register number, such as 2026-5731": &kind.Pattern{Got: "abc", Want: "^[0-9]{4}-[0-9]+$"},
		"this is empty": &kind.MinLength{Got: 0, Want: 1},
		"this has 300 characters; at most 200 are allowed": &kind.MaxLength{Got: 300, Want: 200},
		"1001 are named here; at most 1000 are allowed":    &kind.MaxItems{Got: 1001, Want: 1000},
		"-1 is too small; the minimum is 0":                &kind.Minimum{Got: big.NewRat(-1, 1), Want: big.NewRat(0, 1)},
		"“tls2” is none of these: tls, none":               &kind.Enum{Got: "tls2", Want: []any{"tls", "none"}},
		"number 1 and number 3 are the same":               &kind.UniqueItems{Duplicates: [2]int{0, 2}},
	} {
		if got, _ := fault(k); got != want {
			t.Errorf("%T becomes %q, want %q", k, got, want)
		}
	}
	document, err := os.ReadFile("openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile(`pattern: "([^"]+)"`).FindAllSubmatch(document, -1) {
		if shapes[string(m[1])] == "" {
			t.Errorf("openapi.yaml asks for %s, and no sentence says what that is", m[1])
		}
	}
}

func TestRevisionsAndNumbers(t *testing.T) {
	for text, want := range map[string]int{`"3"`: 3, "3": 3} {
		if got, err := revisionOf(&text); err != nil || got != want {
			t.Errorf("If-Match %s is %d, %v", text, got, err)
		}
	}
	for _, text := range []string{"", `"x"`, "-1", "0"} {
		if got, err := revisionOf(&text); err == nil {
			t.Errorf("If-Match %q is taken as %d", text, got)
		}
	}
	if n, err := parseEntry("2026-5731"); n.Year != 2026 || n.Number != 5731 || err != nil {
		t.Error(n, err)
	}
	for _, bad := range []string{"2026", "2026-", "-1", "a-b"} {
		if _, err := parseEntry(bad); err == nil {
			t.Errorf("%q is taken for a number of the register", bad)
		}
	}
}

func TestDaysAreCountedInTheOfficesZone(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	first := time.Date(2026, 3, 20, 0, 0, 0, 0, oslo)
	for at, want := range map[time.Time]int{
		first: 0, first.Add(-time.Minute): -1,
		time.Date(2026, 3, 28, 23, 30, 0, 0, time.UTC): 9,  // half past midnight in Oslo, before the clocks change
		time.Date(2026, 3, 29, 22, 30, 0, 0, time.UTC): 10, // half past midnight in Oslo, after it
	} {
		if got := dayIndex(first, at, oslo); got != want {
			t.Errorf("%v is day %d, want %d", at, got, want)
		}
	}
}

func TestTheContractNamesAPermissionForEveryOperation(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	for path, item := range spec.Paths.Map() {
		for method, o := range item.Operations() {
			switch needed := o.Extensions["x-permission"]; needed {
			case "everyone", "reader", "clerk", "administrator":
			default:
				t.Errorf("%s %s needs %v, which is no role", method, path, needed)
			}
			if o.OperationID == "" || o.Summary == "" || !strings.HasSuffix(o.Summary, ".") {
				t.Errorf("%s %s has no name or no summary: %q", method, path, o.Summary)
			}
		}
	}
}
