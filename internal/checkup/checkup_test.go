package checkup

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

func TestFindingsComeInTheOrderOfTheChecks(t *testing.T) {
	var checks []Check
	var ended [40]chan struct{}
	for i := range ended {
		ended[i] = make(chan struct{})
	}
	for i := range ended {
		checks = append(checks, Check{About: "mailbox", Name: fmt.Sprint(i), Look: func(context.Context) Finding {
			defer close(ended[i])
			if i%2 == 0 { // the one after it ends first
				<-ended[i+1]
			}
			return Finding{State: Works, Text: fmt.Sprint("looked at ", i)}
		}})
	}
	for i, f := range Run(t.Context(), time.Minute, checks) {
		if f.About != "mailbox" || f.Name != fmt.Sprint(i) || f.Text != fmt.Sprint("looked at ", i) {
			t.Errorf("%d: %+v", i, f)
		}
	}
}

func TestACheckThatHangsKeepsNoOtherFromItsEnd(t *testing.T) {
	var others atomic.Int32
	never := make(chan struct{})
	t.Cleanup(func() { close(never) })
	checks := []Check{{About: "cabinet", Name: "away", Look: func(context.Context) Finding {
		<-never // it does not even listen
		return Finding{}
	}}}
	for range 30 {
		checks = append(checks, Check{About: "cabinet", Look: func(context.Context) Finding {
			others.Add(1)
			return Finding{State: Works}
		}})
	}
	found := Run(t.Context(), 50*time.Millisecond, checks)
	if found[0].State != Wrong || found[0].Name != "away" || !strings.Contains(found[0].Text, "did not answer") {
		t.Errorf("%+v", found[0])
	}
	if Sort(found); found[0].Name != "away" {
		t.Errorf("first is %+v", found[0])
	}
	if others.Load() != 30 || Worst(found) != Wrong || Worst(found[1:]) != Works {
		t.Errorf("%d others, worst %s", others.Load(), Worst(found))
	}
}

func TestEachFindingSaysWhatToDo(t *testing.T) {
	now := time.Date(2026, 12, 1, 14, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	at := func(d time.Duration) *time.Time { t := now.Add(d); return &t }
	use := func(now, most int64) Finding { f, _ := Use("files", now, most, ""); return f }
	for name, c := range map[string]struct {
		found Finding
		state State
		says  string
	}{
		"much room":        {Room(30<<30, "/srv"), Works, "30 GB are left in /srv"},
		"little room":      {Room(500<<20, "/srv"), Caution, "500 MB"},
		"no room":          {Room(10<<20, "/srv"), Wrong, "only 10 MB"},
		"unknown room":     {Room(-1, "/srv"), Unused, "does not say"},
		"good certificate": {Certificate(now.Add(-day), now.Add(60*day), now, nil), Works, "until 2027-01-30"},
		"ending":           {Certificate(now.Add(-day), now.Add(10*day), now, nil), Caution, "ends on 2026-12-11"},
		"ended":            {Certificate(now.Add(-9*day), now.Add(-day), now, nil), Wrong, "ended on 2026-11-30"},
		"not yet":          {Certificate(now.Add(day), now.Add(9*day), now, nil), Wrong, "begins only"},
		"another name": {Certificate(now.Add(-day), now.Add(60*day), now, []string{"ink.example"}), Wrong,
			"ink.example"},
		"fresh backup":        {Backup(at(-10*time.Hour), "", 1, now), Works, "2026-12-01 04:00"},
		"weekly backup":       {Backup(at(-5*day), "", 7, now), Works, "2026-11-26"},
		"old backup":          {Backup(at(-5*day), "", 1, now), Wrong, "2026-11-26"},
		"failed backup":       {Backup(at(-day), "the folder is gone", 1, now), Wrong, "the folder is gone"},
		"first backup is due": {Backup(nil, "", 1, now), Caution, "yet"},
		"no backup planned":   {Backup(nil, "", 0, now), Caution, "none is planned"},
		"few files":           {use(10, 1024), Works, "10 of 1024 files"},
		"many files":          {use(1000, 1024), Caution, "1000 of 1024"},
	} {
		if c.found.State != c.state || !strings.Contains(c.found.Text, c.says) {
			t.Errorf("%s: %+v, want %s: %s", name, c.found, c.state, c.says)
		}
		if bad := c.state == Caution || c.state == Wrong; bad != (c.found.Advice != "") {
			t.Errorf("%s: the advice is %q", name, c.found.Advice)
		}
	}
	if _, limited := Use("files", 10, 0, ""); limited {
		t.Error("where there is no limit, there is nothing to judge")
	}
}
