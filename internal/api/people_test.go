package api

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

// Names are found in any case, and never those of somebody else: where two differ by their case alone, only the exact
// spelling counts.
func TestRightsAreGivenToWhoIsNamed(t *testing.T) {
	of := map[string]string{"1": "berths", "2": "Ämter", "3": "ämter"}
	for name, want := range map[string][]string{"berths": {"1"}, " BERTHS ": {"1"}, "Ämter": {"2"}, "ämter": {"3"},
		"ÄMTER": nil, "berth": nil, "": nil} {
		got, unknown := identified(of, "rights.mailboxes", "mailbox", []string{name})
		if !slices.Equal(got, want) || (len(unknown) > 0) != (want == nil) {
			t.Errorf("%q is %v (%v), want %v", name, got, unknown, want)
		}
	}
	const many = 10_000
	of, names := map[string]string{}, []string{}
	for i := range many {
		of[fmt.Sprint(i)] = fmt.Sprint("box ", i)
		names = append(names, fmt.Sprint("BOX ", i))
	}
	if ids, unknown := identified(of, "", "mailbox", names); len(ids) != many || len(unknown) > 0 {
		t.Errorf("%d of %d are found", len(ids), many)
	}
}

// Strangers do not fill the audit trail: an hour's failed sign-ins are counted, and begin anew in the next one.
func TestFailedSignInsAreCountedByTheHour(t *testing.T) {
	f, now := &failures{}, time.Now()
	for n := 1; n <= mostFailures+5; n++ {
		if got := f.next(now.Add(time.Duration(n) * time.Millisecond)); got != n {
			t.Fatalf("it is number %d, want %d", got, n)
		}
	}
	if n := f.next(now.Add(2 * time.Hour)); n != 1 {
		t.Errorf("in another hour it is number %d", n)
	}
}

func TestAnOriginIsWrittenAsBrowsersWriteIt(t *testing.T) {
	for want, d := range map[string]decision{
		"http://localhost:8025":              {host: "localhost:8025"},
		"http://inktray.office.example":      {host: "inktray.office.example:80"},
		"https://inktray.office.example":     {host: "inktray.office.example:443", secure: true},
		"https://inktray.office.example:80":  {host: "inktray.office.example:80", secure: true},
		"https://inktray.office.example:444": {host: "inktray.office.example:444", secure: true},
	} {
		if got := d.origin(); got != want {
			t.Errorf("%s over TLS %v is %s, want %s", d.host, d.secure, got, want)
		}
	}
}
