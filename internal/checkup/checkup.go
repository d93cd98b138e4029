// Package checkup looks whether an installation can do its work: its records, disk, clock, mailboxes, cabinets,
// certificate and everything else that it needs. It changes nothing. Every finding says what to do about it.
package checkup

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"
)

// State is how a thing does.
type State string

// The states, from good to bad.
const (
	Works   State = "works"
	Unused  State = "not used"  // nothing is set up, and nothing needs it
	Caution State = "attention" // it works, and somebody should look after it
	Wrong   State = "wrong"     // it does not work
)

// Finding is what was found about one thing.
type Finding struct {
	About  string // what was looked at, such as "mailbox"
	Name   string // of a mailbox or cabinet; "" for what there is only one of
	State  State
	Text   string // a sentence without its full stop
	Advice string // what to do; "" where nothing is to be done
}

// Check looks at one thing.
type Check struct {
	About string
	Name  string
	Look  func(ctx context.Context) Finding
}

// Patience bounds one check.
const Patience = 40 * time.Second

// together is how many checks run at the same time.
const together = 8

// Run carries out checks, several at the same time, and gives their findings in the order of the checks. A check that
// does not come to its end within patience is a finding of its own.
func Run(ctx context.Context, patience time.Duration, checks []Check) []Finding {
	findings := make([]Finding, len(checks))
	turns := make(chan struct{}, together)
	var all sync.WaitGroup
	for i := range checks {
		all.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			findings[i] = one(ctx, patience, &checks[i])
		})
	}
	all.Wait()
	return findings
}

func one(ctx context.Context, patience time.Duration, c *Check) Finding {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	done := make(chan Finding, 1)
	go func() { done <- c.Look(ctx) }()
	var f Finding
	select {
	case f = <-done:
	case <-ctx.Done():
		f = Finding{State: Wrong, Text: fmt.Sprintf("it did not answer within %d seconds", int(patience.Seconds())),
			Advice: "Try again. If it stays so, check the server or the disk behind it."}
	}
	f.About, f.Name = c.About, c.Name
	return f
}

// states are in the order in which findings are shown: what is to be done first.
var states = []State{Wrong, Caution, Works, Unused}

// Sort puts first what is wrong, then what needs attention; within that the order stays.
func Sort(findings []Finding) {
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return slices.Index(states, a.State) - slices.Index(states, b.State)
	})
}

// Worst is the worst state among findings.
func Worst(findings []Finding) State {
	worst := Works
	for _, f := range findings {
		if f.State == Wrong || f.State == Caution && worst == Works {
			worst = f.State
		}
	}
	return worst
}

// The room below which a disk needs attention, and below which nothing can be relied on, in octets.
const (
	LittleRoom = 1 << 30
	NoRoom     = 100 << 20
)

// Room judges the room that is left on the disk of the records; -1 where the system does not say.
func Room(octets int64, folder string) Finding {
	const advice = "Free space on this disk, or move the data folder to a larger one."
	switch {
	case octets < 0:
		return Finding{State: Unused, Text: "this system does not say how much space is left"}
	case octets < NoRoom:
		return Finding{State: Wrong, Text: fmt.Sprintf("only %d MB are left in %s", octets>>20, folder), Advice: advice}
	case octets < LittleRoom:
		return Finding{State: Caution, Text: fmt.Sprintf("%d MB are left in %s", octets>>20, folder), Advice: advice}
	}
	return Finding{State: Works, Text: fmt.Sprintf("%d GB are left in %s", octets>>30, folder)}
}

// ends is how long before its end a certificate needs attention.
const ends = 14 * 24 * time.Hour

// Certificate judges the time of a certificate, and for which of the names that people use it does not count.
func Certificate(notBefore, notAfter, now time.Time, missing []string) Finding {
	const renew = "Renew it. Ink Tray reads the new one without a restart."
	day := notAfter.Format("2006-01-02")
	switch {
	case now.After(notAfter):
		return Finding{State: Wrong, Text: "the certificate ended on " + day, Advice: renew}
	case now.Before(notBefore):
		return Finding{State: Wrong, Text: "the certificate begins only on " + notBefore.Format("2006-01-02"),
			Advice: "Check this machine's clock, and the certificate."}
	case len(missing) > 0:
		return Finding{State: Wrong, Text: fmt.Sprintf("the certificate is not for %s, which people use", missing[0]),
			Advice: "Get a certificate for every name in the option --address."}
	case notAfter.Sub(now) < ends:
		return Finding{State: Caution, Text: "the certificate ends on " + day, Advice: renew}
	}
	return Finding{State: Works, Text: "the certificate is good until " + day}
}

// old is the age at which a daily backup needs attention.
const old = 48 * time.Hour

// Backup judges when the last backup was made and read back: nil where there was none. failed is why the last try came
// to nothing, "" where it did not. every is the number of days between planned backups, 0 where none are planned.
func Backup(last *time.Time, failed string, every int, now time.Time) Finding {
	longest := max(old, time.Duration(every+1)*24*time.Hour)
	switch {
	case failed != "":
		return Finding{State: Wrong, Text: "the last backup could not be made: " + failed,
			Advice: "Check the place of the backups in Settings, then make one by hand."}
	case last == nil && every == 0:
		return Finding{State: Caution, Text: "no backup has been made, and none is planned",
			Advice: "Plan backups in Settings, or by inktray backup plan."}
	case last == nil:
		return Finding{State: Caution, Text: "no backup has been made yet",
			Advice: "Make the first one by hand, to see it work."}
	case now.Sub(*last) > longest:
		return Finding{State: Wrong, Text: "the last backup was made on " + last.Format("2006-01-02"),
			Advice: "Make one by hand, and see what it says."}
	}
	return Finding{State: Works, Text: "the last backup was made on " + last.Format("2006-01-02 15:04") + " and read back"}
}

// tight is the share of a limit that needs attention, in parts of a hundred.
const tight = 80

// Use judges how much of something is in use; most is 0 where there is no limit.
func Use(what string, now, most int64, unit string) (Finding, bool) {
	if most <= 0 {
		return Finding{}, false
	}
	f := Finding{State: Works, Text: fmt.Sprintf("%d of %d%s %s are in use", now, most, unit, what)}
	if now*100 > most*tight {
		f.State, f.Advice = Caution, "Let the service have more of it; docs/watching.md says how."
	}
	return f, true
}
